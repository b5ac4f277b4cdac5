"""Margins told as proved, against multi-precision arithmetic; limit cycles and dangers; widths; adders."""

from __future__ import annotations

import random
import re
import unittest
from fractions import Fraction
from unittest import mock

import mpmath
import numpy as np

from combe.analysis.certified import certified_lines
from combe.analysis.exact import exact_filter
from combe.analysis.facts import facts
from combe.analysis.limit_cycles import cycle_bound, overflow_oscillations, zero_input_cycles
from combe.analysis.transfer import stage_transfer
from combe.designing.methods import design
from combe.errors import FormatError
from combe.filters import Cascade, Fir
from combe.realization.formats import Format
from combe.realization.network import Network, Node
from combe.realization.reading import realization_document
from combe.realization.section import Section, needed_section_accumulator
from combe.realization.stages import Realization
from combe.requirement import Requirement, requirement_from
from combe.rounding.movement import moved_roots, rounding_facts, worst_coefficient
from combe.rounding.realize import Choices, realize, rounded_lines
from combe.rounding.recursive import SECTION_STRUCTURES
from combe.rounding.search.adders import adder_count, adder_graph, structural_adders
from combe.rounding.search.better_integers import better_integers
from combe.rounding.search.fewer_adders import fewer_adders
from combe.rounding.search.signed_digits import digit_count, digits_text, signed_digits
from combe.rounding.widths import cheapest_widths, signal_to_noise_db, width_chart
from combe.signals.noise_run import SIGNALS, listen
from combe.signals.report import adders_document, arithmetic_document
from combe.values import replace
from tests.independent import plain_run, rounded
from tests.support import IS_CAMPAIGN, asked, in_campaign, least_margin_db, some

LOW = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))
BAND = asked(48_000, (0, 1000, -70), (2000, 8000, -0.2, 0.2), (9500, 24_000, -50))


def precise_db(made: Realization, hz: float) -> mpmath.mpf:
    """The gain at a frequency from the integers, in fifty digits."""
    with mpmath.workdps(50):
        z = mpmath.expj(-2 * mpmath.pi * mpmath.mpf(hz) / mpmath.mpf(made.sample_rate_hz))
        total = mpmath.mpf(1)
        for stage, entry in zip(made.stages, made.formats()):
            part = stage_transfer(stage, entry)
            for polynomial, power in ((part.numerator, 1), *((d, -1) for d in part.denominators)):
                value = mpmath.polyval([mpmath.mpf(c.numerator) / c.denominator for c in polynomial[::-1]], z)
                total *= abs(value) ** power
        return 20 * mpmath.log10(total)


class Certified(unittest.TestCase):
    def made(self, requirement: Requirement, method: str, choices: Choices) -> Realization:
        return realize(design(requirement, method).filter, requirement.sample_rate_hz, choices)

    def test_a_proved_margin_holds_in_fifty_digits(self) -> None:
        """Every proved margin against a search for worse places around the extreme and on a dense random grid."""
        source = random.Random(2)
        for requirement, method, structure in some((
            (LOW, "elliptic", "direct-1"), (LOW, "elliptic", "lattice"), (LOW, "elliptic", "allpass-sum"),
            (BAND, "chebyshev", "coupled"), (LOW, "equiripple", ""), (BAND, "equiripple", ""),
        ), 3):  # fmt: skip
            made = self.made(requirement, method, Choices(14, structure))
            lines = certified_lines(made, requirement, rounded_lines(made, requirement))
            for line in lines:
                self.assertIsNotNone(line.within_db, (method, structure, line))
                assert line.within_db is not None and line.at_hz is not None
                self.assertLessEqual(line.within_db, 0.005)
                band = requirement.bands[line.band_index]
                near = [line.at_hz * (1 + 1e-6 * k) for k in range(-3, 4)]
                places = [min(max(hz, band.start_hz), band.stop_hz) for hz in near]
                places += [source.uniform(band.start_hz, band.stop_hz) for _ in range(60)]
                side = 1 if line.limit == "max_db" else -1
                least = min(side * (mpmath.mpf(line.asked) - precise_db(made, hz)) for hz in places)
                self.assertGreaterEqual(least, line.margin - line.within_db)
                reached = side * (mpmath.mpf(line.asked) - precise_db(made, line.at_hz))
                self.assertLess(abs(float(reached) - line.margin), 1e-6)

    def test_a_margin_that_is_too_good_is_never_proved(self) -> None:
        for method, structure in (("elliptic", "direct-1"), ("elliptic", "coupled"), ("equiripple", "")):
            made = self.made(LOW, method, Choices(14, structure))
            lines = tuple(replace(line, margin=line.margin + 0.06) for line in rounded_lines(made, LOW))
            self.assertEqual([line.within_db for line in certified_lines(made, LOW, lines)], [None] * 3)

    def test_sloped_limits_and_filters_without_symmetry(self) -> None:
        sloped = requirement_from(
            {
                "format": "combe-requirement", "version": 1, "name": "slope", "sample_rate_hz": 48000,
                "bands": [
                    {"name": "pass", "start_hz": 0, "stop_hz": 6000, "min_db": [[0, -0.2], [6000, -0.5]], "max_db": 0.3},
                    {"name": "stop", "start_hz": 9000, "stop_hz": 24000, "max_db": [[9000, -40], [24000, -60]]},
                ],
            }
        )  # fmt: skip
        for method in ("elliptic", "equiripple"):
            made = self.made(sloped, method, Choices(16))
            lines = certified_lines(made, sloped, rounded_lines(made, sloped))
            self.assertTrue(all(line.within_db is not None for line in lines), lines)
        whole = design(LOW, "equiripple").filter
        assert isinstance(whole, Fir)
        cut = realize(Fir((*whole.taps[:-2], 0.001)), 48_000, Choices(16))
        lines = certified_lines(cut, LOW, rounded_lines(cut, LOW))
        self.assertTrue(all(line.within_db is not None for line in lines))

    def test_poles_next_to_the_circle(self) -> None:
        narrow = asked(1, (0, 0.001, -0.1, 0.1), (0.0012, 0.5, -100))
        made = realize(design(narrow, "elliptic").filter, 1, Choices(30))
        lines = certified_lines(made, narrow, rounded_lines(made, narrow))
        self.assertTrue(all(line.within_db is not None for line in lines))


class Ratios(unittest.TestCase):
    @in_campaign
    def test_a_ratio_that_is_promised_is_heard_whatever_the_rounding(self) -> None:
        """Toward zero the error follows the signal, and was promised 4 to 9 dB better than a run is."""
        for rounding in some(("toward-zero", "nearest-even", "floor"), 1):
            with self.subTest(rounding=rounding):
                source = design(LOW, "elliptic").filter
                found = cheapest_widths(source, LOW, Choices(16, "direct-1", rounding=rounding), 60.0)[0]
                made = realize(source, 48_000, found.choices, requirement=LOW)
                entry, output = made.input, made.output
                samples = np.random.default_rng(4).integers(entry.least // 2, entry.most // 2, 5000)
                signal = samples * entry.step
                exact = exact_filter(made)
                assert isinstance(exact, Cascade)
                for b0, b1, b2, a1, a2 in exact.sections:
                    x1 = x2 = y1 = y2 = 0.0
                    for n, x in enumerate(signal.tolist()):
                        y = b0 * x + b1 * x1 + b2 * x2 - a1 * y1 - a2 * y2
                        x2, x1, y2, y1 = x1, x, y1, y
                        signal[n] = y
                heard = np.array(plain_run(realization_document(made), samples.tolist()))
                error = heard[500:] - exact.gain * signal[500:] / output.step
                full = (output.most - output.least) / 2
                ratio = 20 * np.log10(full / np.sqrt(2) / np.sqrt(np.mean(error**2)))
                self.assertGreater(ratio, 60.0 - 0.3)
                self.assertLess(abs(ratio - found.signal_to_noise_db), 0.6)

    def test_what_can_not_be_predicted_is_called_measured(self) -> None:
        source = design(LOW, "elliptic").filter
        for rounding, word in (
            ("toward-zero", "measured on white samples"),
            ("nearest-even", "All roundings together come to"),
        ):
            made = realize(source, 48_000, Choices(16, "direct-1", rounding=rounding, state_bits=18))
            self.assertTrue(any(word in fact.sentence for fact in facts(made)), rounding)
            told = listen(made, LOW, SIGNALS[0]).sentences()[0]
            self.assertEqual("isn't predicted" in told, rounding == "toward-zero", told)


class Cycles(unittest.TestCase):
    def test_what_stays_at_the_output_is_told_too(self) -> None:
        """Six steps in a stage become thirty at the output: a stranger's interpreter hears no more than was told."""
        narrow = asked(48_000, (0, 600, -0.1, 0.1), (900, 24_000, -50))
        for requirement, structure, bits in some(
            ((LOW, "direct-1", 16), (LOW, "lattice", 14), (narrow, "coupled", 16)), 1
        ):
            made = realize(
                design(requirement, "elliptic").filter, 48_000,
                Choices(16, structure, "s16f15", "s16f15", state_bits=bits),
            )  # fmt: skip
            sentence = next(fact.sentence for fact in facts(made) if fact.sentence.startswith("At the output"))
            found = re.search(r"up to (\d+) step", sentence)
            told = int(found[1]) if found else 0
            source = random.Random(9)
            samples: list[int] = []
            for k in range(3):
                samples += [source.randint(-32768 >> k, 32767 >> k) for _ in range(100)] + [0] * 1200
            heard = plain_run(realization_document(made), samples)
            left = max(max(abs(value) for value in heard[1300 * k + 1000 : 1300 * (k + 1)]) for k in range(3))
            self.assertGreaterEqual(told, left, structure)
            self.assertGreater(left, 6, structure)

    def free(
        self, structure: str, rounding: str, bits: int = 8, b: tuple[float, float, float] = (0.2, 0.1, 0.2)
    ) -> tuple[Network | Section, Format]:
        made = realize(
            Cascade(((*b, -1.2, 0.8),)), 1.0,
            Choices(8, structure, "s8f7", state_bits=bits, rounding=rounding),
        )  # fmt: skip
        stage = made.stages[0]
        assert isinstance(stage, (Network, Section))
        return stage, made.input

    def test_every_cycle_told_runs_in_a_strangers_hands(self) -> None:
        """The states that repeat are taken from a fraction implementation of the network's own equations."""
        told = 0
        for structure in SECTION_STRUCTURES[:6]:
            for rounding in ("nearest-even", "floor", "toward-zero"):
                stage, entry = self.free(structure, rounding)
                found = zero_input_cycles(stage, entry)
                told += bool(found.cycle)
                self.assertLessEqual(found.amplitude, 4 * cycle_bound(stage, entry) + 4)
        for b in ((0.2, 0.1, 0.2), (0.9, -0.8, 0.1), (0.05, 0.0, -0.05)):
            stage, entry = self.free("direct-2", "nearest-even", b=b)
            assert isinstance(stage, Network)
            found = zero_input_cycles(stage, entry)
            self.assertTrue(found.is_proved)
            self.assertEqual(found.amplitude, self.loudest_by_hand(stage, cycle_bound(stage, entry)), b)
        self.assertGreater(told, 6)

    def loudest_by_hand(self, stage: Network, top: int) -> int:
        """Every pair of states followed until it repeats; the loudest output on a way that does."""
        w, y = stage.node("w"), stage.node("y")

        def gains(node: Node, signal: str) -> list[tuple[int, Fraction]]:
            unit = Fraction(2) ** (node.result.fraction - stage.node(signal).result.fraction)
            return [
                (t.delay, t.coefficient * Fraction(2) ** -t.format.fraction * unit) for t in node.terms if t.signal == signal
            ]  # fmt: skip

        back, out = gains(w, "w"), gains(y, "w")
        after = {
            (a, b): (rounded(Fraction(sum(g * (a, b)[d - 1] for d, g in back)), w.rounding), a)
            for a in range(-top, top + 1)
            for b in range(-top, top + 1)
        }
        loudest = 0
        for start in after:
            state, path = start, []
            while state in after and state not in path:
                path.append(state)
                state = after[state]
            if state not in path:
                continue
            ring = [one[0] for one in path[path.index(state) :]]
            for n in range(len(ring)):
                value = rounded(Fraction(sum(g * ring[(n - d) % len(ring)] for d, g in out)), y.rounding)
                loudest = max(loudest, abs(value))
        return loudest

    def test_a_rotation_rounded_toward_zero_has_none(self) -> None:
        stage, entry = self.free("coupled", "toward-zero")
        found = zero_input_cycles(stage, entry)
        self.assertTrue(found.is_proved)
        self.assertIn("shrinks", found.sentence())
        nearest, _ = self.free("coupled", "nearest-even")
        self.assertTrue(zero_input_cycles(nearest, entry).cycle)

    def test_wrapping_oscillates_as_published(self) -> None:
        """Ebert, Mazo & Taylor (1969): two's-complement second-order sections with |a1| + a2 > 1 swing at full scale."""
        entry = Format(True, 8, 7)
        draft = Section(
            (32, 0, 0),
            (-57, 28),
            Format(True, 8, 5),
            Format(True, 8, 5),
            Format(True, 24, 12),
            entry,
            "nearest-even",
            "wrap",
        )
        wraps = replace(draft, accumulator=needed_section_accumulator(draft, entry))
        found = overflow_oscillations(wraps, entry)
        self.assertGreater(found.amplitude, 60)
        saturates = replace(wraps, overflow="saturate")
        self.assertEqual(overflow_oscillations(saturates, entry).cycle, ())


class Dangers(unittest.TestCase):
    def told(self, choices: Choices) -> dict[str, str]:
        made = realize(design(LOW, "elliptic").filter, 48_000, choices)
        return {fact.sentence: fact.severity for fact in facts(made)}

    def test_values_that_wrap_are_dangers_with_a_remedy_that_works(self) -> None:
        choices = Choices(16, "transposed-2", state_bits=14, overflow="wrap", scaling="peak")
        found = design(LOW, "elliptic").filter
        made = realize(found, 48_000, choices)
        danger = next(fact for fact in facts(made) if fact.severity == "danger" and "wrap around" in fact.sentence)
        assert danger.remedy is not None
        mended = realize(found, 48_000, replace(choices, **danger.remedy.changes))
        self.assertFalse(any("wrap around:" in fact.sentence for fact in facts(mended)))

    def test_loud_limit_cycles_are_told_and_mended(self) -> None:
        found = design(LOW, "elliptic").filter
        choices = Choices(16, "transposed-2", state_bits=14)
        warned = [f for f in facts(realize(found, 48_000, choices)) if "without input" in f.sentence and f.remedy]
        self.assertTrue(warned)
        assert warned[0].remedy is not None
        bits = max(f.remedy.changes["state_bits"] for f in warned if f.remedy)
        mended = facts(realize(found, 48_000, replace(choices, state_bits=bits)))
        self.assertFalse(any(f.severity == "warning" and "without input" in f.sentence for f in mended))

    def test_outputs_that_cannot_hold_it(self) -> None:
        words = " ".join(self.told(Choices(16, output="s12f15")))
        self.assertIn("A constant input of", words)
        self.assertIn("saturates", words)
        coarse = self.told(Choices(16, output="s8f7"))
        self.assertIn("warning", {w for s, w in coarse.items() if "coarser" in s})

    def test_what_vanishes_depends_on_the_signal(self) -> None:
        made = realize(design(LOW, "elliptic").filter, 48_000, Choices(16, output="s6f5"))
        quiet = listen(made, LOW, SIGNALS[2])
        self.assertGreater(quiet.vanishing, 0.9)
        self.assertIn("vanish", " ".join(quiet.sentences()))
        for name in SIGNALS:
            heard = listen(made, LOW, name)
            self.assertEqual(len(heard.hz), len(heard.told_db))
            self.assertTrue(heard.sentences())

    def test_overflows_are_counted_where_they_happen(self) -> None:
        made = realize(Cascade(((2.0, 0, 0, -0.5, 0.0),)), 1.0, Choices(16, output="s16f15"))
        heard = listen(made, LOW, SIGNALS[1])
        self.assertIn("the output", dict(heard.measured.overflows))
        self.assertIn("leaves its range", " ".join(heard.sentences()))

    def test_roots_move_to_their_own_rounded_ones(self) -> None:
        found = design(LOW, "elliptic").filter
        made = realize(found, 48_000, Choices(10))
        moves = moved_roots(found, exact_filter(made))
        self.assertEqual(len([m for m in moves if m.kind == "pole"]), 7)
        self.assertLess(max(m.distance for m in moves), 0.1)
        coarse = moved_roots(found, exact_filter(realize(found, 48_000, Choices(8))))
        self.assertGreater(sum(m.distance for m in coarse), sum(m.distance for m in moves))

    def test_the_worst_coefficient_is_the_one_that_costs_most(self) -> None:
        """For a short FIR: every tap pair moved by a step, the gain held against the limits here."""
        found = design(LOW, "equiripple").filter
        made = realize(found, 48_000, Choices(14))
        worst = worst_coefficient(made, LOW)
        assert worst is not None
        self.assertGreater(worst.share, 0)
        told = rounding_facts(found, made, LOW, Choices(14, better=True))
        self.assertTrue(any("adders" in fact.sentence for fact in told))
        self.assertTrue(any("They use" in fact.sentence for fact in told))
        self.assertIn("moved_roots", arithmetic_document(made, found, LOW))
        section = worst_coefficient(realize(design(LOW, "elliptic").filter, 48_000, Choices(12, "direct-2")), LOW)
        assert section is not None
        self.assertIn("stage", section.sentence())


class Finding(unittest.TestCase):
    def test_short_filters_have_proved_integers(self) -> None:
        """Against all integers near the taps, tried one by one."""
        small = asked(2, (0, 0.2, -1.5, 1.5), (0.6, 1, -18))
        found = design(small, "equiripple").filter
        assert isinstance(found, Fir)
        better = better_integers(found.taps, 1, small, 4, (-15, 15))
        from combe.rounding.search.better_integers import Problem

        problem = Problem(len(found.taps), 1, small, 4)
        base = np.round(problem.unique(np.array(found.taps)) * 16).astype(int)
        grids = np.meshgrid(*[np.arange(k - 3, k + 4) for k in base], indexing="ij")
        every = np.stack([g.ravel() for g in grids])
        least = float(np.min(np.max(np.abs(problem.columns @ every - problem.target[:, None]), axis=0)))
        self.assertAlmostEqual(better.share, least, places=6)
        assert better.proved_share is not None
        self.assertLessEqual(better.proved_share, least + 1e-6)
        self.assertIn("proved", better.sentence())

    def test_the_widths_found_keep_limits_and_ratio(self) -> None:
        found = design(LOW, "elliptic").filter
        for wanted in some((60.0, 90.0), 1):
            rows = cheapest_widths(found, LOW, Choices(structure="direct-1"), wanted)
            made = realize(found, 48_000, rows[0].choices)
            exact = exact_filter(made)
            self.assertGreaterEqual(least_margin_db(exact, LOW), 0)
            self.assertGreaterEqual(signal_to_noise_db(made), wanted)
            narrower = replace(rows[0].choices, state_bits=(rows[0].choices.state_bits or 0) - 1)
            self.assertLess(signal_to_noise_db(realize(found, 48_000, narrower)), wanted)
        with self.assertRaises(FormatError):
            cheapest_widths(found, LOW, Choices(), 279.0)

    def test_the_chart_is_what_realizing_gives(self) -> None:
        found = design(LOW, "equiripple").filter
        points = list(width_chart(found, LOW, Choices()))
        for point in points[::3]:
            made = realize(found, 48_000, Choices(point.bits))
            assert point.margin_db is not None
            self.assertAlmostEqual(point.margin_db, least_margin_db(exact_filter(made), LOW), delta=0.02)

    def test_signed_digits_are_canonic(self) -> None:
        for value in [*range(-300, 300), 12345, -77777]:
            digits = signed_digits(value)
            self.assertEqual(sum(sign << power if sign > 0 else -(1 << power) for sign, power in digits), value)
            powers = [power for _, power in digits]
            self.assertTrue(all(b - a > 1 for a, b in zip(powers, powers[1:])))
            self.assertEqual(len(digits), digit_count(value))
        self.assertEqual(digits_text(124), "2^7 − 2^2")
        self.assertEqual(digits_text(0), "0")

    def test_adder_graphs_make_every_constant(self) -> None:
        source = random.Random(9)
        for count, bits in ((1, 8), (4, 10), (12, 12), (30, 9)):
            constants = [source.randint(-(1 << bits), 1 << bits) for _ in range(count)]
            graph = adder_graph(constants)
            for constant in constants:
                for number in (1, -5, 1001):
                    self.assertEqual(graph.multiple(constant, number), constant * number)
            digits = sum(max(digit_count(value) - 1, 0) for value in constants)
            self.assertLessEqual(len(graph.adders), digits)
            distinct = {abs(c) // (abs(c) & -abs(c)) for c in constants if c} - {1}
            self.assertGreaterEqual(len(graph.adders), len(distinct))
            known = {1}
            for adder in graph.adders:
                self.assertIn(adder.left, known)
                self.assertIn(adder.right, known)
                known.add(adder.value)
        self.assertEqual(adder_graph([]).depth, 0)
        # 45 = 5·9: two adders where signed digits take three (Dempster & Macleod 1994).
        self.assertEqual(len(adder_graph([45]).adders), 2)

    def test_fewer_adders_keep_every_limit(self) -> None:
        small = asked(2, (0, 0.2, -0.0873, 0.0864), (0.5, 1, -40))
        found = design(small, "equiripple").filter
        assert isinstance(found, Fir)
        with mock.patch("combe.rounding.search.fewer_adders.AFTER", 3 if IS_CAMPAIGN else 0):
            made = fewer_adders(found.taps, found.symmetry, small)
        assert made is not None
        exact = Fir(tuple(value * 2.0**-made.fraction for value in made.coefficients))
        self.assertGreaterEqual(least_margin_db(exact, small), -1e-3)
        plain = realize(found, 2, Choices(16)).stages[0].coefficients  # type: ignore[union-attr]
        self.assertLess(made.adders, adder_count(plain))
        self.assertEqual(structural_adders((1, 0, 3)), 1)
        with self.assertRaises(FormatError):
            adders_document(realize(design(LOW, "elliptic").filter, 48_000, Choices()))


if __name__ == "__main__":
    unittest.main()
