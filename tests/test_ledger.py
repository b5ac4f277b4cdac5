"""The ledger: lines, margins, cost and delay, against closed forms."""

from __future__ import annotations

import unittest

import numpy as np

from combe.analysis.cost import realized_cost
from combe.designing.contenders import contender_of
from combe.designing.designed import Design
from combe.designing.file import design_document, design_from
from combe.designing.methods import design
from combe.errors import CombeError
from combe.filters import Cascade, Fir, Roots
from combe.ledger import (
    Line,
    cost_of,
    delay_over_passbands,
    gain_lines,
    lines_of,
    meets,
    worst_line,
)
from combe.realization.stages import Section
from combe.requirement import requirement_from
from combe.rounding.choices import Choices
from combe.rounding.realize import realize
from combe.values import replace
from tests.support import LOWPASS, asked, document


class Lines(unittest.TestCase):
    def test_a_passband_has_two_and_a_stopband_one(self) -> None:
        lines = gain_lines(Fir((0.5, 0.5)), LOWPASS)
        self.assertEqual(
            [(line.band, line.limit) for line in lines], [("b0", "min_db"), ("b0", "max_db"), ("b1", "max_db")]
        )

    def test_figures_of_a_two_tap_average_are_those_of_a_cosine(self) -> None:
        low, high, stop = gain_lines(Fir((0.5, 0.5)), LOWPASS)
        self.assertAlmostEqual(low.reached, 20 * np.log10(np.cos(0.15 * np.pi)))
        self.assertEqual((low.at_hz, high.at_hz, stop.at_hz), (0.3, 0.0, 0.4))
        self.assertAlmostEqual(high.reached, 0)
        self.assertAlmostEqual(stop.margin, -60 - 20 * np.log10(np.cos(0.2 * np.pi)))

    def test_margins_are_positive_where_a_limit_is_kept(self) -> None:
        for line in gain_lines(Fir((1.0,)), asked(2, (0, 0.5, -1, 1), (0.6, 1, 3))):
            self.assertGreater(line.margin, 0)
        self.assertFalse(meets(gain_lines(Fir((1.0,)), LOWPASS)))

    def test_delay_and_cost_are_lines_of_the_whole_filter(self) -> None:
        whole = replace(LOWPASS, max_delay_s=2.0, max_delay_spread_s=0.1, max_multiplies=2)
        lines = {line.limit: line for line in lines_of(Fir((0.1, 0.2, 0.3, 0.2, 0.1)), whole)}
        self.assertEqual((lines["max_delay_s"].reached, lines["max_delay_s"].margin), (1.0, 1.0))
        self.assertEqual(lines["max_delay_spread_s"].reached, 0)
        self.assertEqual((lines["max_multiplies"].reached, lines["max_multiplies"].margin), (3, -1))
        self.assertEqual(worst_line(tuple(lines.values())).unit, "db")  # type: ignore[union-attr]
        found = lines["max_delay_s"].document()
        self.assertEqual(
            found, {"band": None, "limit": "max_delay_s", "asked_s": 2.0, "reached_s": 1.0, "margin_s": 1.0}
        )

    def test_a_stopband_with_a_null_all_over_is_floored(self) -> None:
        line = gain_lines(Fir((0.0, 0.0)), LOWPASS)[-1]
        self.assertEqual((line.reached, line.margin), (-400, 340))

    def test_nothing_is_worst_of_nothing(self) -> None:
        self.assertIsNone(worst_line(()))
        self.assertIsNone(worst_line((Line("", -1, "max_multiplies", 1, 2, -1),)))


class Costs(unittest.TestCase):
    def test_pairs_count_once_and_zeros_nothing(self) -> None:
        for taps, multiplies, adds in (
            ((1.0, 2.0, 3.0, 2.0, 1.0), 3, 4),
            ((1.0, 2.0, 2.0, 1.0), 2, 3),
            ((1.0, 2.0, 3.0), 3, 2),
            ((1.0, 0.0, -1.0), 1, 1),
            ((0.0, 0.5, 0.0), 1, 0),
            ((0.0,), 0, 0),
        ):
            found = cost_of(Fir(taps))
            self.assertEqual((found.multiplies, found.adds, found.delays), (multiplies, adds, len(taps) - 1), taps)

    def test_recursive_filters_count_their_coefficients(self) -> None:
        found = cost_of(Cascade(((1, 2, 1, -0.5, 0.25),), 0.1))
        self.assertEqual((found.multiplies, found.adds, found.delays), (1, 4, 2), "powers of two are shifts")
        found = cost_of(Cascade(((1, 1.9, 1, -0.51, 0.26),), 0.1))
        self.assertEqual((found.multiplies, found.adds, found.delays), (4, 4, 2))
        self.assertEqual(cost_of(Roots((1j, -1j), (0.5,), 2.0)).multiplies, 0, "roots cost what their sections do")
        self.assertEqual(cost_of(Roots((0.3 + 1j, 0.3 - 1j), (0.6,), 1.7)).multiplies, 4)

    def test_realized_sections_count_what_their_structure_keeps(self) -> None:
        """Of order 7: words by the number of past values each structure reads, products and sums by its integers."""
        found = design(asked(48_000, (0, 8000, -0.5, 0.5), (10_000, 24_000, -60)), "elliptic").filter
        self.assertIsInstance(found, Cascade)
        made = realize(found, 48_000, Choices(16, "direct-1"))
        sections = [stage for stage in made.stages if isinstance(stage, Section)]
        self.assertEqual(len(sections), 4)
        multiplies = adds = 0
        inputs, outputs = [0] * 5, [0] * 5
        for k, stage in enumerate(sections):
            odd = [abs(c) for c in (*stage.b, *stage.a) if c and abs(c).bit_count() > 1]
            pairs = sum(
                1
                for one, other in ((0, 1), (0, 2), (1, 2))
                if abs(stage.b[one]) == abs(stage.b[other]) and abs(stage.b[one]).bit_count() > 1
            )
            multiplies += len(odd) - pairs
            adds += sum(1 for c in (*stage.b, *stage.a) if c) - 1
            inputs[k] = max(j for j, c in enumerate(stage.b) if c)
            outputs[k + 1] = max(j + 1 for j, c in enumerate(stage.a) if c)
        words = sum(max(pair) for pair in zip(inputs, outputs))
        cost = realized_cost(made)
        self.assertEqual((cost.multiplies, cost.adds, cost.delays), (multiplies, adds, words))
        self.assertEqual(words, 9, "each value between two sections is kept once for both")
        for structure, delays in (("direct-2", 7), ("transposed-2", 7), ("transposed-1", 14)):
            cost = realized_cost(realize(found, 48_000, Choices(16, structure)))
            self.assertEqual((cost.adds, cost.delays, cost.structure), (adds, delays, structure))


class Delays(unittest.TestCase):
    def test_linear_phase_has_no_spread(self) -> None:
        span = delay_over_passbands(Fir((1.0, 2.0, 1.0)), [(0, 0.4)], 2.0)
        self.assertEqual((span.mean, span.least, span.most), (1.0, 1.0, 1.0))

    def test_an_allpass_has_the_extremes_of_its_formula(self) -> None:
        a = 0.6
        allpass = Cascade(((a, 1.0, 0.0, a, 0.0),))
        span = delay_over_passbands(allpass, [(0.0, 1.0)], 2.0)
        self.assertAlmostEqual(span.least, (1 - a) / (1 + a), places=9)
        self.assertAlmostEqual(span.most, (1 + a) / (1 - a), places=9)
        self.assertAlmostEqual(span.mean, 1.0, places=3)

    def test_only_the_bands_named_count(self) -> None:
        one_pole = Cascade(((0.1, 0.0, 0.0, -0.9, 0.0),))
        everywhere = delay_over_passbands(one_pole, [], 2.0)
        high_up = delay_over_passbands(one_pole, [(0.8, 1.0)], 2.0)
        self.assertAlmostEqual(everywhere.most, 9.0, places=6)
        self.assertLess(high_up.most, 0)


class DesignFiles(unittest.TestCase):
    def test_every_kind_of_filter_is_written_and_read(self) -> None:
        filters = (
            Fir((0.25, 0.5, 0.25)),
            Cascade(((1, 0.5, 0.25, -0.1, 0.05), (1, 0, 0, 0.5, 0)), 0.3),
            Roots((1 + 1j, 1 - 1j), (0.5,), 2.0),
        )
        for source in filters:
            made = Design("given", source, 48_000.0, asked(48_000, (0, 4000, -3, 3), (8000, 24_000, -6)))
            read = design_from(design_document(made))
            self.assertEqual((read.filter, read.requirement), (source, made.requirement))

    def test_mistakes_are_named(self) -> None:
        head = {"format": "combe-design", "version": 1, "sample_rate_hz": 2}
        for body, key in (
            ({}, "there is no filter"),
            ({"taps": []}, "taps"),
            ({"taps": "x"}, "taps"),
            ({"taps": [1, None]}, "taps[1]"),
            ({"taps": [1, 1e200]}, "taps[1]"),
            ({"sections": [[1, 2, 3]]}, "sections[0]"),
            ({"sections": []}, "sections"),
            ({"zeros": [[1, 1]], "poles": []}, "zeros"),
            ({"zeros": [["a", 1]]}, "zeros[0]"),
            ({"taps": [1], "sample_rate_hz": 0}, "sample_rate_hz"),
            ({"taps": [1], "requirement": {"format": "x"}}, "requirement.format"),
            ({"taps": [1], "requirement": document(4, (0, 1, -1, 1))}, "sample_rate_hz"),
        ):
            with self.assertRaises(CombeError, msg=key) as caught:
                design_from(head | body)
            self.assertIn(key, caught.exception.sentence())

    def test_a_contender_says_what_its_design_is(self) -> None:
        made = Design("given", Fir((0.5, 0.5)), 2.0, LOWPASS)
        found = contender_of(made, LOWPASS).document()
        self.assertEqual((found["taps"], found["meets"], found["cost"]["multiplies"]), (2, False, 1))
        self.assertEqual(found["worst"]["band"], "b1")

    def test_a_requirement_inside_a_design_names_its_own_place(self) -> None:
        broken = document(2, (0, 0.3, -1, 1), (0.2, 1, -60))
        with self.assertRaises(CombeError) as caught:
            requirement_from(broken, "requirement")
        self.assertTrue(caught.exception.where.startswith("requirement.bands[1]"))
