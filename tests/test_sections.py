"""Sections in integers: a second implementation from the documentation alone, gcc under sanitizers, and what is refused."""

from __future__ import annotations

import json
import random
import unittest
import unittest.mock
from fractions import Fraction

import numpy as np

from combe.analysis.exact import exact_filter
from combe.analysis.facts import facts
from combe.analysis.limit_cycles import cycle_bound, zero_input_cycles
from combe.analysis.noise import noise_power
from combe.delivery.c import c_package
from combe.designing.methods import design
from combe.errors import CombeError, FormatError
from combe.filters import Cascade, Roots
from combe.project.demo import wake_up_project
from combe.proof.c import prove_c
from combe.realization.formats import Format
from combe.realization.reading import realization_document, realization_from
from combe.realization.section import Section, needed_section_accumulator
from combe.realization.stages import Realization, Requantize, TapSum
from combe.rounding.realize import Choices, fewest_bits, realize, rounded_lines
from combe.running import flow as simulation
from combe.running.random_integers import random_integers
from combe.running.simulate import ideal_run, simulate
from combe.signals.stimuli import vectors
from combe.values import replace
from tests.independent import plain_run, rounded
from tests.support import asked, least_margin_db, some
from tests.test_delivery import HAS_GCC, SANITIZERS

ENTRY = Format(True, 8, 7)
LOW = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))


def random_section_realization(source: random.Random) -> Realization:
    """One to three sections with any rounding, widths and binary points."""
    while True:
        sections = []
        for _ in range(source.randint(1, 3)):
            radius, angle = source.uniform(0.1, 0.99), source.uniform(0, 3.14)
            b = tuple(source.uniform(-1, 1) for _ in range(3))
            a = (-2 * radius * np.cos(angle), radius**2) if source.random() < 0.8 else (source.uniform(-0.9, 0.9), 0.0)
            sections.append((*b, float(a[0]), float(a[1])))
        bits = source.randint(4, 24)
        sign = source.choice("ssu")
        choices = Choices(
            source.randint(6, 20), "", f"{sign}{bits}f{source.randint(-2, bits)}", f"s{source.randint(4, 24)}f{source.randint(0, 20)}",
            None, source.choice(["nearest-even", "nearest-up", "floor", "toward-zero"]), source.choice(["saturate", "wrap"]),
            source.choice([None, source.randint(8, 30)]),
        )  # fmt: skip
        try:
            return realize(Cascade(tuple(sections), source.uniform(-2, 2)), 1.0, choices)  # type: ignore[arg-type]
        except FormatError:
            continue


class BitTrue(unittest.TestCase):
    def test_a_strangers_implementation_agrees_in_every_bit(self) -> None:
        source = random.Random(4)
        for index in range(40):
            made = random_section_realization(source)
            samples = random_integers(150, made.input, index + 1)
            document = json.loads(json.dumps(realization_document(made)))
            with self.subTest(stages=document["stages"]):
                self.assertEqual(simulate(made, samples).tolist(), plain_run(document, samples.tolist()))
                self.assertEqual(realization_from(document).realization, made)

    def test_the_compiled_loop_is_the_plain_one(self) -> None:
        source = random.Random(5)
        for index in range(12):
            made = random_section_realization(source)
            samples = random_integers(3000, made.input, index + 1)
            with unittest.mock.patch.object(simulation, "is_worth_compiling", lambda _: False):
                plain = simulate(made, samples)
            with unittest.mock.patch.object(simulation, "is_worth_compiling", lambda _: True):
                np.testing.assert_array_equal(simulate(made, samples), plain)

    def test_wide_states_run_in_long_integers(self) -> None:
        made = realize(Cascade(((0.5, 0.1, 0.2, -0.3, 0.4),)), 1.0, Choices(10, "", "s40f39", "s40f39", state_bits=48))
        samples = random_integers(60, made.input, 3)
        self.assertEqual(simulate(made, samples).tolist(), plain_run(realization_document(made), samples.tolist()))

    def test_the_unrounded_run_is_the_difference_equation(self) -> None:
        made = realize(Cascade(((0.5, 0.25, 0.0, -0.5, 0.0),), 2.0), 1.0, Choices())
        found = ideal_run(Cascade(((0.5, 0.25, 0.0, -0.5, 0.0),), 2.0), made, np.array([1000, 0, 0]))
        np.testing.assert_allclose(found, [1000, 1000, 500])

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_generated_c_agrees_under_sanitizers(self) -> None:
        source = random.Random(6)
        for index in some(range(6), 2):
            made = random_section_realization(source)
            with self.subTest(index=index, formats=[str(entry) for entry in made.formats()]):
                proof = prove_c(c_package(made, "filter_1"), made, (), SANITIZERS)
                self.assertTrue(proof.holds, proof.sentence())


class Making(unittest.TestCase):
    def test_a_classic_goes_all_the_way_and_keeps_its_limits(self) -> None:
        project = wake_up_project()
        found = design(project.requirement, "elliptic")
        made = realize(found.filter, project.requirement.sample_rate_hz, project.arithmetic)
        exact = exact_filter(made)
        assert isinstance(exact, Cascade)
        gains = replace(project.requirement, max_multiplies=None)
        self.assertGreaterEqual(least_margin_db(exact, gains), 0)
        self.assertTrue(all(line.margin >= 0 for line in rounded_lines(made, project.requirement)))
        self.assertIn("rms", " ".join(fact.sentence for fact in facts(made)))

    def test_the_fewest_bits_keep_the_limits_and_are_the_first_that_do(self) -> None:
        found = design(LOW, "elliptic")
        made = fewest_bits(found.filter, LOW, Choices())
        section = made.stages[0]
        assert isinstance(section, Section)
        bits = section.numerator.bits
        for fewer in range(2, bits):
            try:
                lower = realize(found.filter, 48_000, Choices(fewer))
            except CombeError:
                continue
            self.assertTrue(any(line.margin < 0 for line in rounded_lines(lower, LOW)), fewer)

    def test_no_state_overflows_for_the_worst_input(self) -> None:
        found = design(LOW, "chebyshev")
        made = realize(found.filter, 48_000, Choices())
        free = replace(made, output=made.stages[-2].result, stages=made.stages[:-1])  # type: ignore[union-attr]
        samples = vectors(made, 6000)
        wrapping = tuple(replace(stage, overflow="wrap") for stage in free.stages)  # type: ignore[arg-type]
        np.testing.assert_array_equal(simulate(free, samples), simulate(replace(free, stages=wrapping), samples))

    def test_noise_is_what_the_run_shows(self) -> None:
        found = design(LOW, "elliptic")
        made = realize(found.filter, 48_000, Choices(16, state_bits=18))
        samples = (random_integers(60_000, made.input, 9) // 4).astype(np.int64)
        exact = exact_filter(made)
        away = simulate(made, samples) - ideal_run(exact, made, samples)
        self.assertAlmostEqual(float(np.var(away[500:])) / noise_power(made), 1, delta=0.1)

    def test_roots_and_mixed_stages_are_the_same_filter(self) -> None:
        made = realize(Roots((1j, -1j), (0.5, 0.3), 0.2), 1.0, Choices(24))
        self.assertAlmostEqual(exact_filter(made).sections[0][3], -0.8, places=6)  # type: ignore[union-attr]
        taps = TapSum((1, 2, 3, 4, 5), Format(True, 8, 6), Format(True, 22, 13))
        first = Requantize(taps.accumulator, Format(True, 12, 9), "nearest-even", "saturate")
        section = realize(Cascade(((0.5, 0.1, 0.2, -0.3, 0.4),)), 1.0, Choices(10, "", "s12f9", "s12f9")).stages
        mixed = Realization("mixed", 1.0, "mixed", Format(True, 8, 7), Format(True, 12, 9), (taps, first, *section))
        f = np.linspace(0.01, 0.45, 50)
        z = np.exp(-2j * np.pi * f)
        inner = section[0]
        assert isinstance(inner, Section)
        b, a = np.array(inner.b) * inner.numerator.step, np.array(inner.a) * inner.denominator.step
        exact = np.polyval([5, 4, 3, 2, 1], z) / 64 * (b[0] + b[1] * z + b[2] * z * z) / (1 + a[0] * z + a[1] * z * z)
        from combe.responses import frequency_response

        np.testing.assert_allclose(
            np.abs(frequency_response(exact_filter(mixed), 2 * np.pi * f)), np.abs(exact), rtol=1e-9
        )

    def test_what_cannot_be_is_refused(self) -> None:
        sharp = design(asked(1, (0, 0.001, -0.1, 0.1), (0.002, 0.5, -60)), "elliptic").filter
        for choices, words in (
            (Choices(8), "pole"), (Choices(60), "out of reach"), (Choices(16, "folded"), "no structure of sections"),
            (Choices(40, "", "s32f31", state_bits=64), "96 is the most"), (Choices(24, accumulator_bits=20), "can overflow"),
        ):  # fmt: skip
            with self.assertRaises(FormatError) as caught:
                realize(sharp, 1.0, choices)
            self.assertIn(words, caught.exception.sentence())
        with self.assertRaises(FormatError) as caught:
            realize(Cascade(((1.0, 0.0, 0.0, -2.0, 1.0),)), 1.0, Choices())
        self.assertIn("pole on or outside", caught.exception.sentence())

    def test_stages_that_do_not_hold_together_are_named(self) -> None:
        made = realize(Cascade(((0.5, 0.1, 0.2, -0.3, 0.4),)), 1.0, Choices(10))
        document = realization_document(made)
        stage = document["stages"][0]
        for change, words in (
            ({"b": [1, 2]}, "3 integers"), ({"a": [1, 2.5]}, "whole number"), ({"b": [99999, 0, 0]}, "doesn't fit"), (
                {"accumulator": "s12f" + stage["accumulator"].split("f")[1]}, "can't hold"),
            ({"accumulator": "s60f3"}, "fewer fraction bits"), ({"rounding": "up"}, "rounding"), ({"form": "spiral"}, "form"), ({"extra": 1}, "not known"),
        ):  # fmt: skip
            broken = document | {"stages": [stage | change, *document["stages"][1:]]}
            with self.subTest(change=change), self.assertRaises(CombeError) as caught:
                realization_from(broken)
            self.assertIn(words, caught.exception.sentence())
            self.assertIn("stages[0]", caught.exception.sentence())
        self.assertEqual(needed_section_accumulator(made.stages[0], made.input), made.stages[0].accumulator)  # type: ignore[arg-type, union-attr]

    def test_poles_that_no_digit_keeps_from_the_circle_are_told(self) -> None:
        """An order that is far too high: values between sections have no bound, and no integer stands for that."""
        high = asked(2, (0, 0.23341, -60), (0.30248, 0.8605, -0.1, 0.1))
        found = design(high, "elliptic", 72)
        for form in some(("lattice", "coupled", "direct-1"), 1):
            with self.assertRaises(CombeError) as caught:
                realize(found.filter, 2.0, Choices(16, form))
            self.assertIn("bits", caught.exception.sentence())


class LimitCycles(unittest.TestCase):
    def section(self, a: tuple[int, int], rounding: str, bits: int = 8) -> Section:
        made = Section(
            (32, 0, 0),
            a,
            Format(True, 8, 5),
            Format(True, 8, 5),
            Format(True, 24, 12),
            Format(True, bits, 7),
            rounding,
            "saturate",
        )
        return replace(made, accumulator=needed_section_accumulator(made, Format(True, 8, 7)))

    def test_a_first_order_deadband_is_the_published_one(self) -> None:
        # y[n] = round(29/32·y[n−1]) holds any |y| up to 0.5/(1 − 29/32) = 5.33 (Jackson 1969).
        found = zero_input_cycles(self.section((-29, 0), "nearest-even"), ENTRY)
        self.assertEqual((found.is_proved, found.amplitude, len(found.cycle)), (True, 5, 1))
        self.assertIn("5 steps", found.sentence())
        turned = zero_input_cycles(self.section((29, 0), "nearest-even"), ENTRY)
        self.assertEqual((turned.amplitude, len(turned.cycle)), (5, 2))

    def test_magnitude_truncation_frees_first_order_sections(self) -> None:
        found = zero_input_cycles(self.section((-29, 0), "toward-zero"), ENTRY)
        self.assertEqual((found.is_proved, found.cycle), (True, ()))
        self.assertIn("every state was followed", found.sentence())

    def test_every_cycle_told_is_one_that_runs(self) -> None:
        source = random.Random(8)
        count = 0
        for _ in range(30):
            a2 = source.randint(-20, 31)
            a1 = source.randint(-(31 + a2), 31 + a2)
            stage = self.section((a1, a2), source.choice(["nearest-even", "floor", "nearest-up", "toward-zero"]), 10)
            found = zero_input_cycles(stage, ENTRY)
            self.assertLessEqual(found.amplitude, cycle_bound(stage, ENTRY))
            cycle = found.cycle
            for n in range(len(cycle)):
                y1, y2 = cycle[n - 1], cycle[n - 2] if len(cycle) > 1 else cycle[n - 1]
                exact = Fraction(-a1 * y1 - a2 * y2, 32)
                self.assertEqual(cycle[n], rounded(exact, stage.rounding))
            count += bool(cycle)
        self.assertGreater(count, 5)

    def test_wide_states_are_searched_and_said_to_be_no_proof(self) -> None:
        wide, narrow = Format(True, 60, 40), Format(True, 12, 10)
        sharp = Section(
            (1, 0, 0), (-2040, 1020), narrow, narrow, wide, Format(True, 30, 20), "nearest-even", "saturate"
        )
        found = zero_input_cycles(sharp, Format(True, 12, 20))
        self.assertFalse(found.is_proved)
        self.assertTrue(found.sentence())
