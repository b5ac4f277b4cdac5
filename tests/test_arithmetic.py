"""Integers held against exact integers: formats, rounding, accumulators, the bit-true run, the files."""

from __future__ import annotations

import itertools
import json
import random
import unittest
import unittest.mock
from fractions import Fraction
from math import floor
from typing import Any

import numpy as np

from combe.analysis.exact import exact_filter
from combe.analysis.facts import facts
from combe.designing.methods import design
from combe.errors import CombeError, FormatError
from combe.filters import Fir
from combe.ledger import meets
from combe.project.chain import Rounded, arithmetic_lines
from combe.realization.formats import OVERFLOWS, ROUNDINGS, Format, narrowest_signed, parse_format
from combe.realization.reading import realization_document, realization_from
from combe.realization.stages import Realization, Requantize, TapSum, needed_accumulator
from combe.rounding.realize import HELD, Choices, fewest_bits, realize, rounded_coefficients, rounded_lines
from combe.rounding.search import better_integers as better_integers_module
from combe.rounding.search.better_integers import Problem, better_integers
from combe.rounding.search.compiled_steps import best_pair, best_single, searched, worst_places
from combe.running.run import requantized_integer
from combe.running.simulate import ideal_run, requantized, simulate
from combe.signals.stimuli import vectors, worst_case
from combe.signals.sweep import sweep_for
from combe.values import replace
from tests.support import BAT, LOWPASS, asked, some, worst_margin_db

S16 = parse_format("s16f15")


def exact_rounding(value: Fraction, rounding: str) -> int:
    """The four roundings by their definitions."""
    if rounding == "floor":
        return floor(value)
    if rounding == "toward-zero":
        return int(value)
    if rounding == "nearest-up":
        return floor(value + Fraction(1, 2))
    return round(value)


def exact_run(realization: Realization, samples: list[int]) -> list[int]:
    """A second implementation, from docs/arithmetic.md alone, in exact integers."""
    signal = samples
    for stage in realization.stages:
        if isinstance(stage, TapSum):
            c = stage.coefficients
            signal = [sum(c[i] * signal[n - i] for i in range(min(len(c), n + 1))) for n in range(len(signal))]
            continue
        result = []
        for raw in signal:
            value = exact_rounding(
                Fraction(raw) * Fraction(2) ** (stage.target.fraction - stage.source.fraction), stage.rounding
            )
            if stage.overflow == "saturate":
                value = max(stage.target.least, min(stage.target.most, value))
            else:
                value &= (1 << stage.target.bits) - 1
                if stage.target.signed and value >> (stage.target.bits - 1):
                    value -= 1 << stage.target.bits
            result.append(value)
        signal = result
    return signal


def random_realization(source: random.Random, widest: int = 24) -> Realization:
    """Any taps, any formats that fit together."""
    while True:
        count = source.choice([1, 2, 3, 7, 16, 33])
        taps = [source.gauss(0, 1) * 10 ** source.uniform(-3, 1) for _ in range(count)]
        if source.random() < 0.5:
            sign = source.choice([1, -1])
            taps = taps[: (count + 1) // 2]
            taps += [sign * tap for tap in taps[: count // 2][::-1]]
            if sign < 0 and count % 2:
                taps[count // 2] = 0.0
        form = f"{source.choice('su')}{source.randint(2, widest)}f{source.randint(-3, 30)}"
        out = f"{source.choice('su')}{source.randint(2, widest)}f{source.randint(-3, 40)}"
        choices = Choices(source.randint(2, 20), source.choice(["", "direct"]), form, out, None,
                          source.choice(ROUNDINGS), source.choice(OVERFLOWS))  # fmt: skip
        try:
            return realize(Fir(tuple(taps)), 1.0, choices, "random")
        except FormatError:
            continue


class Formats(unittest.TestCase):
    def test_names_say_what_they_hold(self) -> None:
        for text, least, most, step in (
            ("s16f15", -32768, 32767, 2**-15),
            ("u12f12", 0, 4095, 2**-12),
            ("s8f-2", -128, 127, 4.0),
            ("s4f9", -8, 7, 2**-9),
        ):
            found = parse_format(text)
            self.assertEqual((found.least, found.most, found.step, str(found)), (least, most, step, text))

    def test_other_names_are_refused(self) -> None:
        for text in (
            "",
            "16",
            "q15",
            "s16",
            "s0f0",
            "s1f0",
            "s65f0",
            "S16f15",
            "s16f",
            "s16f1.5",
            " s16f15",
            5,
            None,
            "s16f9999",
        ):
            with self.subTest(text=text), self.assertRaises(FormatError):
                parse_format(text)

    def test_narrowest_signed(self) -> None:
        for least, most, bits in (
            (0, 0, 2),
            (-2, 1, 2),
            (-3, 0, 3),
            (0, 127, 8),
            (0, 128, 9),
            (-128, 127, 8),
            (-129, 0, 9),
        ):
            self.assertEqual(narrowest_signed(least, most), bits)


class Rounding(unittest.TestCase):
    def test_every_rounding_matches_its_definition(self) -> None:
        source = random.Random(1)
        for rounding in ROUNDINGS:
            for overflow in OVERFLOWS:
                for _ in range(60):
                    before = Format(True, source.randint(2, 40), source.randint(-5, 40))
                    after = Format(source.random() < 0.7, source.randint(2, 40), source.randint(-5, 40))
                    stage = Requantize(before, after, rounding, overflow)
                    raw = [source.randint(before.least, before.most) for _ in range(20)] + [
                        before.least,
                        before.most,
                        0,
                    ]
                    expected = exact_run(Realization("r", 1.0, "direct", before, after, (stage,)), raw)
                    self.assertEqual(requantized(stage, np.array(raw)).tolist(), expected)
                    self.assertEqual([requantized_integer(stage, value) for value in raw], expected)

    def test_ties(self) -> None:
        halves = np.array([-3, -1, 1, 3])
        for rounding, expected in (
            ("nearest-even", [-2, 0, 0, 2]),
            ("nearest-up", [-1, 0, 1, 2]),
            ("floor", [-2, -1, 0, 1]),
            ("toward-zero", [-1, 0, 0, 1]),
        ):
            stage = Requantize(Format(True, 8, 1), Format(True, 8, 0), rounding, "saturate")
            self.assertEqual(requantized(stage, halves).tolist(), expected)


class Coefficients(unittest.TestCase):
    def test_they_are_nearest_at_the_finest_point_that_fits(self) -> None:
        source = random.Random(2)
        for _ in range(200):
            taps = tuple(source.gauss(0, 1) * 10 ** source.uniform(-6, 4) for _ in range(5))
            bits = source.randint(2, 24)
            found, integers = rounded_coefficients(Fir(taps), bits)
            for tap, k in zip(taps, integers):
                self.assertLessEqual(abs(Fraction(tap) * Fraction(2) ** found.fraction - k), Fraction(1, 2))
                self.assertTrue(found.holds(k))
            finer = [round(Fraction(tap) * Fraction(2) ** (found.fraction + 1)) for tap in taps]
            self.assertFalse(all(found.holds(k) for k in finer))

    def test_zero_taps_are_rounded_too(self) -> None:
        self.assertEqual(rounded_coefficients(Fir((0.0, 0.0)), 8)[1], (0, 0))

    def test_the_rounded_filter_is_what_its_integers_say(self) -> None:
        made = realize(design(LOWPASS).filter, 2.0, Choices(10))
        stage = made.stages[0]
        assert isinstance(stage, TapSum)
        self.assertEqual(
            exact_filter(made).taps, tuple(c * 2.0**-stage.coefficient.fraction for c in stage.coefficients)
        )


class Accumulator(unittest.TestCase):
    def test_the_worst_input_reaches_the_bound_and_one_bit_less_would_overflow(self) -> None:
        source = random.Random(3)
        for _ in range(60):
            made = random_realization(source)
            stage = made.stages[0]
            assert isinstance(stage, TapSum)
            bare = Realization("sum", 1.0, made.structure, made.input, stage.accumulator, (stage,))
            sums = exact_run(bare, worst_case(made).tolist())
            least, most = stage.span(made.input)
            self.assertEqual((min(min(sums), 0), max(max(sums), 0)), (least, most))
            self.assertTrue(stage.accumulator.holds(least) and stage.accumulator.holds(most))
            narrower = Format(True, stage.accumulator.bits - 1, stage.accumulator.fraction)
            if stage.accumulator.bits > 2:
                self.assertFalse(narrower.holds(least) and narrower.holds(most))

    def test_a_narrower_one_is_refused_and_a_wider_one_taken(self) -> None:
        filter_ = design(LOWPASS).filter
        need = realize(filter_, 2.0, Choices()).formats()[1].bits
        with self.assertRaises(FormatError) as caught:
            realize(filter_, 2.0, Choices(accumulator_bits=need - 1))
        self.assertIn(str(need), caught.exception.sentence())
        self.assertEqual(realize(filter_, 2.0, Choices(accumulator_bits=need + 5)).formats()[1].bits, need + 5)


class BitTrue(unittest.TestCase):
    def test_every_sample_equals_exact_integers(self) -> None:
        source = random.Random(4)
        for _ in range(60):
            made = random_realization(source)
            samples = vectors(made, 300)[:400]
            self.assertEqual(simulate(made, samples).tolist(), exact_run(made, samples.tolist()))

    def test_wide_words_stay_exact(self) -> None:
        for name, bits in (("s32f31", 30), ("s60f59", 40), ("u64f0", 24)):
            entry = parse_format(name)
            coefficient, integers = rounded_coefficients(Fir((0.9, -0.3, 0.11)), bits)
            stage = TapSum(integers, coefficient, Format(True, 2, 0))
            stage = replace(stage, accumulator=needed_accumulator(stage, entry))
            last = Requantize(stage.accumulator, entry, "nearest-even", "wrap")
            made = Realization("wide", 1.0, "direct", entry, entry, (stage, last))
            source = random.Random(bits)
            samples = [source.randint(entry.least, entry.most) for _ in range(60)] + [entry.least, entry.most]
            self.assertEqual(simulate(made, np.array(samples, dtype=object)).tolist(), exact_run(made, samples))

    def test_several_stages_in_a_row(self) -> None:
        first = TapSum((3, -1, 4), Format(True, 4, 2), Format(True, 20, 9))
        middle = Requantize(Format(True, 20, 9), Format(True, 9, 6), "nearest-up", "saturate")
        last = TapSum((1, 2, 1), Format(True, 3, 2), Format(True, 14, 8), "folded")
        made = Realization("two", 1.0, "direct", Format(True, 8, 7), Format(True, 14, 8), (first, middle, last))
        samples = vectors(made, 400)
        self.assertEqual(simulate(made, samples).tolist(), exact_run(made, samples.tolist()))

    def test_samples_outside_the_format_are_named(self) -> None:
        made = realize(Fir((1.0,)), 1.0, Choices(8, "", "s8f7"))
        with self.assertRaises(FormatError) as caught:
            simulate(made, np.array([1, 2, 128]))
        self.assertIn("sample 3 is 128", caught.exception.sentence())
        self.assertEqual(len(simulate(made, np.array([], dtype=np.int64))), 0)

    def test_the_ideal_run_is_the_unrounded_filter_in_output_steps(self) -> None:
        made = realize(Fir((0.5, 0.25)), 1.0, Choices(8, "", "s8f7", "s12f10"))
        np.testing.assert_allclose(ideal_run(Fir((0.5, 0.25)), made, np.array([8, 0, -4])), [32, 16, -16])


class Widths(unittest.TestCase):
    def test_the_fewest_bits_hold_and_every_narrower_width_fails(self) -> None:
        roomy = design(BAT, "equiripple", 112)
        found = fewest_bits(roomy.filter, BAT, Choices())
        bits = found.stages[0].coefficient.bits  # type: ignore[union-attr]
        self.assertGreaterEqual(worst_margin_db(exact_filter(found).taps, BAT), -1e-9)
        for fewer in range(2, bits):
            made = realize(roomy.filter, BAT.sample_rate_hz, Choices(fewer))
            self.assertLess(worst_margin_db(exact_filter(made).taps, BAT), 0)

    def test_a_design_that_misses_has_no_width(self) -> None:
        for better in (False, True):
            with self.assertRaisesRegex(FormatError, "no 31 taps keep every limit, whole or not"):
                fewest_bits(design(LOWPASS, "equiripple", 30).filter, LOWPASS, Choices(better=better))


class Measured(unittest.TestCase):
    def test_tones_through_the_bit_true_model_find_the_rounded_gain(self) -> None:
        made = realize(design(BAT, "equiripple", 112).filter, BAT.sample_rate_hz, Choices(16, "", "s16f15", "s24f23"))
        rounded = Rounded(made, rounded_lines(made, BAT))
        self.assertTrue(meets(rounded.lines))
        for line, heard in zip(rounded.lines, arithmetic_lines(rounded)):
            self.assertAlmostEqual(heard.reached, line.reached, delta=1e-3 if line.asked > -20 else 0.05)

    def test_an_output_too_coarse_shows_in_the_stopband(self) -> None:
        made = realize(design(BAT, "equiripple", 112).filter, BAT.sample_rate_hz, Choices(16, "", "s12f11", "s6f5"))
        rounded = Rounded(made, rounded_lines(made, BAT))
        heard = arithmetic_lines(rounded)
        self.assertEqual(heard[0].reached, -400)
        self.assertIn("coarser", " ".join(fact.sentence for fact in facts(made)))

    def test_tones_stay_within_the_format(self) -> None:
        made = realize(Fir((1.0,)), 250_000.0, Choices(8, "", "u12f12"))
        sweep = sweep_for(made, rounded_lines(made, BAT))
        self.assertTrue(sweep.samples.min() >= 0 and sweep.samples.max() <= 4095)


class Files(unittest.TestCase):
    def test_a_realization_read_and_written_is_the_same(self) -> None:
        source = random.Random(5)
        for _ in range(40):
            made = random_realization(source)
            document = json.loads(json.dumps(realization_document(made)))
            self.assertEqual(realization_from(document).realization, made)

    def test_every_mistake_names_its_key(self) -> None:
        def complaint(change: Any) -> str:
            made = realize(Fir((0.5, 0.25, 0.5)), 1.0, Choices(8))
            document = realization_document(made)
            change(document)
            try:
                realization_from(document)
            except CombeError as error:
                return error.sentence()
            return "(none)"

        for change, key in (
            (lambda d: d.update(format="x"), "format"),
            (lambda d: d.update(input="s16"), "input"),
            (lambda d: d.update(output="s15f15"), "output"),
            (lambda d: d.update(stages=[]), "stages"),
            (lambda d: d.update(stages=3), "stages"),
            (lambda d: d["stages"][0].update(kind="magic"), "stages[0].kind"),
            (lambda d: d["stages"][0].update(coefficients=[1.5]), "stages[0].coefficients[0]"),
            (lambda d: d["stages"][0].update(coefficients=[1, 500, 1]), "stages[0].coefficients[1]"),
            (lambda d: d["stages"][0].update(accumulator="s9f22"), "stages[0].accumulator"),
            (lambda d: d["stages"][0].update(accumulator="s40f1"), "stages[0].accumulator"),
            (lambda d: d["stages"][0].update(coefficients=[1, 2, 3]), "stages[0].form"),
            (lambda d: d["stages"][1].update(rounding="up"), "stages[1].rounding"),
            (lambda d: d["stages"][1].update({"from": "s30f3"}), "stages[1].from"),
            (lambda d: d.update(lines=1), "lines"),
            (lambda d: d.update(design={"format": "combe-design", "version": 1}), "design"),
        ):
            with self.subTest(key=key):
                self.assertTrue(complaint(change).startswith(key), complaint(change))

    def test_the_needed_accumulator_follows_from_the_coefficients(self) -> None:
        stage = TapSum((127, -128), Format(True, 8, 7), Format(True, 2, 0))
        self.assertEqual(str(needed_accumulator(stage, S16)), "s24f22")


class BetterIntegers(unittest.TestCase):
    def test_the_step_taken_is_the_best_of_all_and_the_search_ends_where_none_is_left(self) -> None:
        """All single steps and all pairs, one by one, over the whole grid, from random places near the rounded taps."""
        source = np.random.default_rng(8)
        steps = [0, 0]
        low = asked(1, (0, 0.12, -0.3, 0.3), (0.25, 0.5, -30))
        found = design(low, "equiripple", 12).filter
        assert isinstance(found, Fir)
        problem = Problem(13, 1, low, 9)
        exact = problem.unique(np.array(found.taps)) * 2.0**9
        for _ in range(40):
            values = np.round(exact) + source.integers(-1, 2, len(exact))
            error = problem.columns @ values - problem.target
            largest = float(np.max(np.abs(error)))
            columns, taps = problem.columns.T, range(len(exact))
            single = {(i, a): float(np.max(np.abs(error + a * columns[i]))) for i in taps for a in (1.0, -1.0)}
            pairs = {
                float(np.max(np.abs(error + a * columns[i] + b * columns[j])))
                for i, j in itertools.combinations(taps, 2)
                for a, b in itertools.product((1.0, -1.0), repeat=2)
            }
            places = worst_places(error, 0.8 * largest, 64)
            self.assertEqual(sorted(set(places[64:])), np.flatnonzero(np.abs(error) > 0.8 * largest).tolist())
            self.assertEqual(
                np.abs(error)[places[:64]].tolist(), np.sort(np.abs(error))[::-1][:64].tolist(), "worst first"
            )
            tap, _, way, none = best_single(problem.rows, values, error, places, -512.0, 511.0, largest * (1 - 1e-9))
            self.assertEqual(none, 0)
            if way:
                steps[0] += 1
                self.assertLess(single[int(tap), float(way)], largest)
            else:
                self.assertGreaterEqual(min(single.values()), largest * (1 - 1e-9))
            i, j, a, b = best_pair(
                problem.rows, values, error, places[:64], -512.0, 511.0, largest * (1 - 1e-9), 96
            ).tolist()
            if a:
                steps[1] += 1
                self.assertAlmostEqual(
                    float(np.max(np.abs(error + a * columns[i] + b * columns[j]))), min(pairs), places=9
                )
            else:
                self.assertGreaterEqual(min(pairs), largest * (1 - 1e-9))
            ended, used = searched(
                problem.rows, problem.target, values, -512.0, 511.0, 400, 0.8, 64, 96, 1 - 1e-9, True
            )
            self.assertAlmostEqual(used, problem.share(ended), places=9)
            around = [problem.share(ended + a * one) for one in np.eye(len(ended)) for a in (1.0, -1.0)]
            around += [
                problem.share(ended + a * one + b * other)
                for one, other in itertools.combinations(np.eye(len(ended)), 2)
                for a, b in itertools.product((1.0, -1.0), repeat=2)
            ]
            self.assertGreaterEqual(min(around), used * (1 - 1e-8))
        self.assertGreater(min(steps), 10)

    def test_no_step_leaves_the_format(self) -> None:
        """Where the best integers lie outside, what comes out lies within."""
        low = asked(1, (0, 0.12, -0.3, 0.3), (0.25, 0.5, -30))
        taps = design(low, "equiripple", 12).filter
        assert isinstance(taps, Fir)
        for most in (40, 100, 150):
            found = better_integers(taps.taps, 1, low, 9, (-most // 4, most)).integers
            self.assertLessEqual(max(found), most)
            self.assertGreaterEqual(min(found), -most // 4)

    def test_three_bits_fewer_hold_an_ordinary_lowpass(self) -> None:
        """Plain rounding takes 17 bits, 14 do: judged by plain sums over each band."""
        brief = asked(48_000, (0, 4800, -0.3, 0.3), (8000, 24_000, -45))
        found = design(brief, "equiripple")
        made = realize(found.filter, 48_000, Choices(14, better=True), requirement=brief, enough=HELD)
        plain = fewest_bits(found.filter, brief, Choices()).stages[0]
        assert isinstance(plain, TapSum)
        self.assertEqual(plain.coefficient.bits, 17)
        stage = made.stages[0]
        assert isinstance(stage, TapSum)
        self.assertLessEqual(stage.coefficient.bits, 14)
        taps = np.array(stage.coefficients) * stage.coefficient.step
        self.assertEqual(taps.tolist(), taps[::-1].tolist())
        for start, stop, low, high in ((0, 4800, -0.3, 0.3), (8000, 24_000, -400, -45)):
            omega = 2 * np.pi * np.linspace(start, stop, 6000) / 48_000
            gain = 20 * np.log10(np.abs(np.exp(-1j * np.outer(omega, np.arange(len(taps)))) @ taps) + 1e-30)
            self.assertTrue(low - 1e-9 <= gain.min() and gain.max() <= high + 1e-9, (gain.min(), gain.max()))

    def test_the_same_bits_hold_more_and_fewer_bits_hold_the_same(self) -> None:
        found = design(LOWPASS, "equiripple", 56)
        plain = realize(found.filter, 2.0, Choices(13), requirement=LOWPASS)
        better = realize(found.filter, 2.0, Choices(13, better=True), requirement=LOWPASS)
        margins = [worst_margin_db(exact_filter(made).taps, LOWPASS) for made in (plain, better)]  # type: ignore[union-attr]
        self.assertLess(margins[0], 0)
        self.assertGreaterEqual(margins[1], 0)
        bits = [
            fewest_bits(found.filter, LOWPASS, Choices(better=wanted)).stages[0].coefficient.bits  # type: ignore[union-attr]
            for wanted in (False, True)
        ]
        self.assertLess(bits[1], bits[0])
        self.assertEqual(exact_filter(better).symmetry, 1)  # type: ignore[union-attr]

    def test_no_single_step_and_no_pair_of_steps_improves_what_was_found(self) -> None:
        taps = (0.11, 0.21, 0.34, 0.21, 0.11)
        gentle = asked(2, (0, 0.1, -3, 1), (0.7, 1, -15))
        found = better_integers(taps, 1, gentle, 4, (-8, 7)).integers
        omega = np.concatenate([np.linspace(0, 0.1, 200), np.linspace(0.7, 1, 400)]) * np.pi
        high, low = 10 ** (1 / 20), 10 ** (-3 / 20)
        target = np.where(omega < 1, (high + low) / 2, 0.0)
        room = np.where(omega < 1, (high - low) / 2, 10 ** (-15 / 20))

        def share(half: tuple[int, ...]) -> float:
            value = (2 * half[0] * np.cos(2 * omega) + 2 * half[1] * np.cos(omega) + half[2]) / 16
            return float(np.max(np.abs(value - target) / room))

        every = {half: share(half) for half in itertools.product(range(-3, 8), repeat=3)}
        self.assertAlmostEqual(
            share(found[:3]), min(every.values()), delta=0.02, msg="for so few taps it is the best of all"
        )

    def test_narrow_bands_that_leave_most_taps_free(self) -> None:
        """Fewer places looked at than taps, or places that hardly differ: better integers are found all the same."""
        source, held = random.Random(17), 0
        for order in some((200, 20, 75, 330), 2):
            low, high = source.uniform(0.001, 0.004), source.uniform(0.991, 0.998)
            brief = asked(2, (0, low, -0.1, 0.1), (high, 1, -60))
            found = design(brief, "equiripple", order)
            plain = realize(found.filter, 2.0, Choices(10), requirement=brief)
            better = realize(found.filter, 2.0, Choices(10, better=True), requirement=brief)
            margins = [worst_margin_db(exact_filter(made).taps, brief) for made in (plain, better)]  # type: ignore[union-attr]
            self.assertGreaterEqual(margins[1], margins[0], order)
            held += margins[1] >= 0 > margins[0]
        self.assertGreater(held, 0, "some hold only so")

    def test_a_tap_of_which_nothing_is_told_is_rounded_plainly(self) -> None:
        """Its row of the triangle holds what rounding left: divided by that, it would run far off."""
        triangle = np.array([[2.0, 1.0, 0.5], [0.0, 1.0, 0.25], [0.0, 0.0, 3e-14]])
        found = better_integers_module._in_turn(triangle, np.array([9.0, 4.0, 5e-12]), np.array([3.4, 2.6, 6.3]))
        self.assertEqual(found.tolist(), [2.0, 2.0, 6.0])

    def test_where_nothing_is_left_to_find_nothing_is_looked_for(self) -> None:
        """At 20 bits few taps round to what real ones reach: proved by a linear program, not searched for a quarter of a minute."""
        low = asked(2, (0, 0.195, -0.3, 0.3), (0.427, 1, -30))
        found = design(low, "equiripple", 14).filter
        assert isinstance(found, Fir)
        coefficient, _ = rounded_coefficients(found, 20, None)
        with unittest.mock.patch("combe.rounding.search.better_integers.searched", side_effect=AssertionError):
            better = better_integers(found.taps, 1, low, coefficient.fraction, (coefficient.least, coefficient.most))
        assert better.proved_share is not None
        self.assertTrue(better.proved_share <= better.real_share + 1e-6, better)
        self.assertLess(better.share, better.proved_share * 1.0021)

    def test_antisymmetric_taps_stay_so(self) -> None:
        band = asked(2, (0.1, 0.9, -0.3, 0.3))
        found = design(band, "equiripple", 21, -1)
        made = realize(found.filter, 2.0, Choices(8, better=True), requirement=band)
        self.assertEqual(exact_filter(made).symmetry, -1)  # type: ignore[union-attr]
