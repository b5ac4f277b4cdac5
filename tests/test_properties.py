"""Properties that hold for anything: round trips, linearity, roundings, names."""

from __future__ import annotations

import json
import math
import unittest
from fractions import Fraction

import numpy as np
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from combe.delivery import checked_name, identifier_from
from combe.delivery.story import safe
from combe.errors import CombeError
from combe.files import json_text
from combe.filters import Cascade, Fir
from combe.realization.formats import OVERFLOWS, ROUNDINGS, Format, parse_format
from combe.realization.stages import Requantize
from combe.requirement import Limit, requirement_document, requirement_from
from combe.requirement.quantities import (
    frequency_text,
    parse_attenuation,
    parse_frequency,
    parse_ripple,
    short,
)
from combe.responses import frequency_response, group_delay, worst_point
from combe.rounding.realize import Choices, realize
from combe.running.run import requantized_integer
from combe.running.simulate import simulate
from tests.support import examples
from tests.test_arithmetic import exact_rounding
from tests.test_equiripple import requirements

RELAXED = settings(max_examples=examples(80), deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
taps = st.lists(st.floats(-2, 2, allow_subnormal=False), min_size=1, max_size=24)


class Requirements(unittest.TestCase):
    @RELAXED
    @given(requirements())
    def test_written_and_read_they_are_the_same(self, requirement) -> None:  # type: ignore[no-untyped-def]
        self.assertEqual(requirement_from(json.loads(json_text(requirement_document(requirement)))), requirement)

    @RELAXED
    @given(
        st.recursive(
            st.none() | st.booleans() | st.floats() | st.text(max_size=8),
            lambda c: (
                st.lists(c, max_size=4)
                | st.dictionaries(
                    st.sampled_from(
                        ["format", "version", "bands", "sample_rate_hz", "start_hz", "max_db", "min_db", "stop_hz"]
                    ),
                    c,
                    max_size=6,
                )
            ),
        )
    )
    def test_anything_else_is_refused_in_a_sentence(self, junk: object) -> None:
        with self.assertRaises(CombeError) as caught:
            requirement_from(junk)
        self.assertNotIn("\n", caught.exception.sentence())


class Figures(unittest.TestCase):
    @RELAXED
    @given(st.floats(0, 1e9))
    def test_a_frequency_shown_is_read_as_itself(self, hz: float) -> None:
        self.assertAlmostEqual(parse_frequency(frequency_text(hz, 1e10), 1e10), hz, delta=1e-6 * hz + 1e-300)

    @RELAXED
    @given(st.text(max_size=12))
    def test_no_text_breaks_a_reader(self, text: str) -> None:
        for read in (lambda t: parse_frequency(t, 48_000), parse_attenuation, parse_ripple):
            try:
                read(text)
            except CombeError as error:
                self.assertTrue(error.sentence())

    @RELAXED
    @given(st.floats(-1e12, 1e12, allow_nan=False), st.integers(2, 9))
    def test_short_numbers_keep_their_digits(self, value: float, digits: int) -> None:
        assume(value == 0 or abs(value) > 1e-5)
        back = float(short(value, digits).replace("−", "-"))
        self.assertAlmostEqual(back, value, delta=abs(value) * 10.0 ** (1 - digits))


class Responses(unittest.TestCase):
    @RELAXED
    @given(taps, taps, st.floats(0, math.pi))
    def test_a_cascade_multiplies(self, first: list[float], second: list[float], omega: float) -> None:
        both = Fir(tuple(np.convolve(first, second).tolist()))
        at = np.array([omega])
        product = frequency_response(Fir(tuple(first)), at) * frequency_response(Fir(tuple(second)), at)
        self.assertAlmostEqual(abs(frequency_response(both, at)[0] - product[0]), 0, delta=1e-11)

    @RELAXED
    @given(taps)
    def test_no_gain_exceeds_the_sum_of_magnitudes(self, h: list[float]) -> None:
        assume(any(abs(tap) > 1e-6 for tap in h))
        top = worst_point(Fir(tuple(h)), 2.0, Limit.level(0, 0, 1), 1)
        self.assertLessEqual(top.gain_db, 20 * math.log10(sum(abs(tap) for tap in h)) + 1e-9)

    @RELAXED
    @given(st.floats(0.05, 0.98), st.floats(0.1, 3.0), st.floats(0.05, 3.0))
    def test_a_second_order_allpass_has_gain_one_and_a_positive_delay(
        self, radius: float, angle: float, omega: float
    ) -> None:
        a1, a2 = -2 * radius * math.cos(angle), radius * radius
        allpass = Cascade(((a2, a1, 1.0, a1, a2),))
        self.assertAlmostEqual(abs(frequency_response(allpass, np.array([omega]))[0]), 1, places=9)
        self.assertGreater(group_delay(allpass, np.array([omega]))[0], 0)


class Integers(unittest.TestCase):
    @RELAXED
    @given(st.integers(2, 64), st.integers(-40, 60), st.booleans())
    def test_a_format_is_its_name(self, bits: int, fraction: int, signed: bool) -> None:
        made = Format(signed, bits, fraction)
        self.assertEqual(parse_format(str(made)), made)
        self.assertEqual(made.most - made.least + 1, 1 << bits)

    @RELAXED
    @given(
        st.integers(-(1 << 40), 1 << 40),
        st.integers(-12, 44),
        st.sampled_from(ROUNDINGS),
        st.sampled_from(OVERFLOWS),
        st.integers(2, 30),
    )
    def test_requantizing_is_what_it_is_defined_to_be(
        self, raw: int, shift: int, rounding: str, overflow: str, bits: int
    ) -> None:
        stage = Requantize(Format(True, 48, shift), Format(True, bits, 0), rounding, overflow)
        value = exact_rounding(Fraction(raw) / Fraction(2) ** shift, rounding)
        found = requantized_integer(stage, raw)
        if overflow == "wrap":
            self.assertEqual((found - value) % (1 << bits), 0)
            self.assertTrue(stage.target.holds(found))
        else:
            self.assertEqual(found, max(stage.target.least, min(stage.target.most, value)))

    @RELAXED
    @given(taps, st.lists(st.integers(-128, 127), min_size=1, max_size=40), st.integers(0, 10))
    def test_a_later_input_gives_a_later_output(self, h: list[float], samples: list[int], delay: int) -> None:
        made = realize(Fir(tuple(h)), 1.0, Choices(10, "direct", "s8f7", "s24f16"))
        first = simulate(made, np.array(samples)).tolist()
        later = simulate(made, np.array([0] * delay + samples)).tolist()
        self.assertEqual(later, [0] * delay + first)

    @RELAXED
    @given(taps, st.lists(st.integers(-60, 60), min_size=1, max_size=30))
    def test_sums_before_rounding_add_up(self, h: list[float], samples: list[int]) -> None:
        made = realize(Fir(tuple(h)), 1.0, Choices(8, "direct", "s8f7"))
        exact = type(made)("sum", 1.0, "direct", made.input, made.formats()[1], made.stages[:1])
        once = simulate(exact, np.array(samples))
        twice = simulate(exact, 2 * np.array(samples))
        self.assertEqual(twice.tolist(), (2 * once).tolist())


class Words(unittest.TestCase):
    @RELAXED
    @given(st.text(max_size=60))
    def test_any_text_becomes_a_name_and_a_safe_comment(self, text: str) -> None:
        self.assertEqual(checked_name(identifier_from(text)), identifier_from(text))
        comment = safe(text)
        self.assertTrue(comment.isascii())
        for mark in ("*/", "/*", "//", "??", "\\", "\n"):
            self.assertNotIn(mark, comment)
