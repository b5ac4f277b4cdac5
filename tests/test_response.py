"""Responses held against closed forms and multi-precision arithmetic."""

from __future__ import annotations

import unittest

import mpmath
import numpy as np

from combe.designing.methods import design
from combe.filters import Cascade, Fir, Roots, rational_of
from combe.ledger.lines import lines_of
from combe.requirement import Limit
from combe.responses import (
    frequency_response,
    gain_db,
    group_delay,
    impulse_response,
    step_response,
    uniform_response,
    unwrapped_phase,
    worst_point,
)
from combe.responses.curves import magnitude_window
from combe.responses.extremes import turning_points
from combe.responses.measures import level_crossings, measures, response_table
from tests.support import asked, plain_gain, some

RANDOM = np.random.default_rng(62)
OMEGA = np.linspace(0.01, 3.13, 300)


def moving_average(count: int) -> Fir:
    return Fir((1 / count,) * count)


class WorstPoints(unittest.TestCase):
    """The worst point against dense evaluation in extended precision."""

    def check(self, source: Fir | Cascade, start: float, stop: float, level: float = 0.0, tilt: float = 0.0) -> None:
        limit = Limit(((start, level), (stop, level + tilt)), tilt == 0)
        f = np.concatenate([np.linspace(start, stop, 6001), start + (stop - start) * np.geomspace(1e-6, 1, 2000)])
        if isinstance(source, Cascade):
            poles = rational_of(source).poles
            for pole in poles[poles.imag >= 0]:
                f = np.append(f, np.angle(pole) / (2 * np.pi) + (1 - abs(pole)) * np.linspace(-2, 2, 401))
            f = f[(f >= start) & (f <= stop)]
        gain = plain_gain(source, f)
        line = level + tilt * (f - start) / (stop - start)
        for side in (1, -1):
            found = worst_point(source, 1.0, limit, side).margin_db(side)
            dense = float(np.min(side * (line - gain)))
            # Nothing on the dense grid is worse; where no zero is near, nothing found is much better than it.
            self.assertLessEqual(found, dense + 1e-6)
            if side > 0:
                self.assertLess(dense - found, 0.02)

    def test_no_lobe_is_overlooked_beside_steep_edges(self) -> None:
        source = np.random.default_rng(9)
        for _ in some(range(20), 5):
            edge, width = source.uniform(0.02, 0.4), source.uniform(0.01, 0.08)
            requirement = asked(1, (0, edge, -source.uniform(40, 110)), (min(edge + width, 0.45), 0.5, -0.1, 0.1))
            taps = design(requirement, "least-squares", 2 * int(source.integers(5, 40))).filter
            assert isinstance(taps, Fir)
            self.check(taps, 0.0, edge)
            self.check(taps, edge / 3, edge * source.uniform(0.5, 1.2), -30, source.uniform(-20, 20))

    def test_sections_with_poles_next_to_the_circle_hide_nothing(self) -> None:
        source = np.random.default_rng(10)
        for _ in range(60):
            sections = []
            for _ in range(int(source.integers(1, 7))):
                radius, angle = 1 - 10 ** source.uniform(-4, -0.3), source.uniform(0, np.pi)
                zero = source.uniform(0, np.pi)
                sections.append((1.0, -2 * np.cos(zero), 1.0, -2 * radius * np.cos(angle), radius**2))
            low, high = np.sort(source.uniform(0, 0.5, 2))
            self.check(Cascade(tuple(sections), 0.01), low, high, 0.0, source.uniform(-10, 10))


class ClosedForms(unittest.TestCase):
    def test_moving_average_is_the_dirichlet_kernel(self) -> None:
        found = frequency_response(moving_average(7), OMEGA)
        exact = np.exp(-3j * OMEGA) * np.sin(3.5 * OMEGA) / (7 * np.sin(OMEGA / 2))
        np.testing.assert_allclose(found, exact, atol=1e-14)

    def test_comb_has_its_teeth(self) -> None:
        taps = (1.0, *(0.0,) * 9, -1.0)
        np.testing.assert_allclose(
            np.abs(frequency_response(Fir(taps), OMEGA)), 2 * np.abs(np.sin(5 * OMEGA)), atol=1e-13
        )

    def test_allpass_passes_all_with_the_known_delay(self) -> None:
        allpass = Cascade(((0.5, 1.0, 0.0, 0.5, 0.0),))
        np.testing.assert_allclose(np.abs(frequency_response(allpass, OMEGA)), 1, rtol=1e-13)
        exact = (1 - 0.25) / (1.25 + np.cos(OMEGA))
        np.testing.assert_allclose(group_delay(allpass, OMEGA), exact, rtol=1e-12)

    def test_a_resonator_a_hair_from_the_circle_peaks_where_it_must(self) -> None:
        radius, angle = 1 - 1e-9, 0.7
        resonator = Roots((), (radius * np.exp(1j * angle), radius * np.exp(-1j * angle)))
        peak = 1 / ((1 - radius) * abs(1 - radius * np.exp(-2j * angle)))
        point = worst_point(resonator, 2 * np.pi, Limit.level(0, 0.5, 0.9), 1)
        self.assertAlmostEqual(point.hz, angle, places=9)
        self.assertAlmostEqual(point.gain_db, 20 * np.log10(peak), places=5)

    def test_sections_agree_with_multi_precision(self) -> None:
        sections = ((1.0, -1.99, 1.0, -1.9995, 0.99951), (0.5, 1.0, 0.5, -1.2, 0.5))
        found = frequency_response(Cascade(sections, 0.01), OMEGA[::30])
        with mpmath.workdps(40):
            for omega, value in zip(OMEGA[::30], found):
                z = mpmath.expj(-mpmath.mpf(float(omega)))
                exact = mpmath.mpf(0.01)
                for b0, b1, b2, a1, a2 in sections:
                    exact *= (b0 + b1 * z + b2 * z * z) / (1 + a1 * z + a2 * z * z)
                self.assertLess(abs(complex(exact) - value), 1e-10 * abs(complex(exact)) + 1e-15)

    def test_a_zero_on_the_circle_is_zero(self) -> None:
        notch = Roots((1j, -1j), (0.9j, -0.9j))
        self.assertEqual(abs(frequency_response(notch, np.array([np.pi / 2]))[0]), 0)
        self.assertEqual(worst_point(notch, 2.0, Limit.level(-3, 0.4, 0.6), -1).gain_db, -400)


class Delay(unittest.TestCase):
    def test_linear_phase_has_one_delay_even_at_its_zeros(self) -> None:
        for taps in ((1.0, 2.0, 2.0, 1.0), (1.0, 0.0, -1.0), (1.0, 1.0)):
            np.testing.assert_array_equal(group_delay(Fir(taps), np.linspace(0, np.pi, 9)), (len(taps) - 1) / 2)

    def test_a_zero_on_the_circle_delays_by_half_a_sample(self) -> None:
        both = Cascade(((0.5, 0.5, 0.0, 0.0, 0.0), (1.0, 0.0, 1.0, 0.0, 0.0)))
        np.testing.assert_allclose(group_delay(both, np.array([0.0, np.pi / 2, np.pi])), 1.5, atol=1e-9)

    def test_delay_of_any_fir_is_the_exact_derivative(self) -> None:
        taps = tuple(RANDOM.normal(size=12))
        with mpmath.workdps(40):

            def phase(w: mpmath.mpf) -> mpmath.mpf:
                return mpmath.arg(sum(mpmath.mpf(h) * mpmath.expj(-w * n) for n, h in enumerate(taps)))

            for omega in (0.3, 1.1, 2.9):
                exact = -mpmath.diff(phase, mpmath.mpf(omega), h=mpmath.mpf(10) ** -12)
                self.assertAlmostEqual(group_delay(Fir(taps), np.array([omega]))[0], float(exact), places=7)

    def test_the_phase_of_taps_with_a_symmetry_is_followed_from_zero_frequency(self) -> None:
        """Against the sum itself, followed in steps so small that none reaches π; each zero on the circle adds π."""
        for taps, start in (((0.5, -0.5), np.pi / 2), ((-0.5, 0.5), -np.pi / 2), ((1.0, 0.0, -1.0), np.pi / 2)):
            found = unwrapped_phase(Fir(taps), np.array([1e-6, 0.3, 1.0]))
            np.testing.assert_allclose(found, start - np.array([1e-6, 0.3, 1.0]) * (len(taps) - 1) / 2, atol=1e-9)
        source = np.random.default_rng(5)
        for count in (2, 3, 8, 9, 40, 41):
            for sign in (1, -1):
                half = source.standard_normal(count)
                taps = tuple((half + sign * half[::-1]).tolist())
                omega = np.linspace(1e-4, np.pi - 1e-4, 40_001)
                value = np.exp(-1j * np.outer(omega, np.arange(count))) @ np.array(taps)
                steps = np.diff(np.angle(value * np.exp(1j * omega * (count - 1) / 2)))
                steps = np.where(np.abs(np.abs((steps + np.pi) % (2 * np.pi) - np.pi)) > 1, np.pi, 0.0)
                followed = (
                    np.angle(value[0])
                    + np.concatenate([[0.0], np.cumsum(steps)])
                    - (omega - omega[0]) * (count - 1) / 2
                )
                found = unwrapped_phase(Fir(taps), omega)
                turns = (found - followed) / (2 * np.pi)
                self.assertLess(float(np.max(np.abs(turns - np.round(turns[0])))), 1e-6, (count, sign))
                self.assertLessEqual(abs(unwrapped_phase(Fir(taps), np.zeros(1))[0]), np.pi + 1e-9)

    def test_phase_is_the_integral_of_the_delay(self) -> None:
        omega = np.linspace(0, np.pi, 20_001)
        for source in (Fir(tuple(RANDOM.normal(size=25))), Cascade(((1, -1.2, 0.9, -1.9, 0.95), (1, 3, 1, 0.3, 0.1)))):
            phase, delay = unwrapped_phase(source, omega), group_delay(source, omega)
            step = omega[1]
            integral = -np.concatenate([[0], np.cumsum((delay[1:] + delay[:-1]) / 2 * step)])
            np.testing.assert_allclose(phase - phase[0], integral, atol=2e-2)

    def test_unwrapping_does_not_slip_at_zeros_near_the_circle(self) -> None:
        for radius, jump in ((1 - 1e-7, np.pi), (1 + 1e-7, -np.pi)):
            root = radius * np.exp(0.9j)
            source = Fir(tuple(np.convolve([1, -2 * root.real, abs(root) ** 2], [1.0, 0.3])))
            low, high = unwrapped_phase(source, np.array([0.0, 0.899, 0.901]))[1:]
            self.assertAlmostEqual(high - low, jump, delta=0.02)

    def test_phase_and_response_agree(self) -> None:
        for source in (Fir(tuple(RANDOM.normal(size=30))), Roots((1.5, -0.3), (0.5 + 0.4j, 0.5 - 0.4j), -2.0)):
            turned = frequency_response(source, OMEGA) * np.exp(-1j * unwrapped_phase(source, OMEGA))
            np.testing.assert_allclose(turned.imag, 0, atol=1e-9)
            self.assertTrue(np.all(turned.real > 0))


class Extremes(unittest.TestCase):
    def test_no_dense_grid_finds_a_worse_point(self) -> None:
        for size in (1, 2, 9, 40):
            for symmetric in (True, False):
                h = RANDOM.normal(size=size)
                taps = tuple(h + h[::-1]) if symmetric else tuple(h)
                for start, stop in ((0.0, 1.0), (0.21, 0.73), (0.5, 0.50001)):
                    grid = np.linspace(start, stop, 20_001) * np.pi
                    level = gain_db(frequency_response(Fir(taps), grid))
                    top = worst_point(Fir(taps), 2.0, Limit.level(0, start, stop), 1)
                    low = worst_point(Fir(taps), 2.0, Limit.level(0, start, stop), -1)
                    self.assertGreaterEqual(top.gain_db, level.max() - 1e-9)
                    self.assertLessEqual(low.gain_db, level.min() + 1e-9)
                    self.assertLess(top.gain_db - level.max(), 0.01)
                    self.assertTrue(start <= top.hz <= stop)

    def test_the_extreme_is_stationary_to_rounding(self) -> None:
        h = RANDOM.normal(size=61)
        source = Fir(tuple(h + h[::-1]))
        point = worst_point(source, 2.0, Limit.level(0, 0.2, 0.9), 1)
        with mpmath.workdps(50):

            def square(f: mpmath.mpf) -> mpmath.mpf:
                return abs(sum(mpmath.mpf(t) * mpmath.expj(-mpmath.pi * f * n) for n, t in enumerate(source.taps))) ** 2

            best = mpmath.findroot(lambda f: mpmath.diff(square, f), mpmath.mpf(point.hz))
            exact = float(10 * mpmath.log10(square(best)))
        self.assertAlmostEqual(point.gain_db, exact, places=12)

    def test_a_gain_that_is_stationary_at_an_end_has_its_extreme_there(self) -> None:
        """At 0 and at half the rate every gain is: it is told as 0 Hz, not as what rounding leaves of it."""
        found: list[float] = []
        for method, edge in (
            ("elliptic", 5600),
            ("elliptic", 7100),
            ("inverse-chebyshev", 10_000),
            ("elliptic", 10_800),
        ):
            brief = asked(250_000, (0, edge, -60), (18_000, 125_000, -0.1, 0.1))
            lines = lines_of(design(brief, method).filter, brief)
            places = [line.at_hz for line in lines if line.at_hz is not None]
            found += [place for place in places if place < 1 or place > 124_999]
        self.assertGreaterEqual(len(found), 4)
        self.assertLessEqual(set(found), {0.0, 125_000.0})

    def test_sloped_limits_are_judged_along_the_slope(self) -> None:
        limit = Limit(((0.2, -10.0), (0.5, -40.0), (0.8, -30.0)), False)
        taps = tuple(RANDOM.normal(size=20) * 0.1)
        point = worst_point(Fir(taps), 2.0, limit, 1)
        grid = np.linspace(0.2, 0.8, 60_001)
        margin = np.interp(grid, [0.2, 0.5, 0.8], [-10, -40, -30]) - gain_db(
            frequency_response(Fir(taps), grid * np.pi)
        )
        self.assertAlmostEqual(point.margin_db(1), margin.min(), places=4)
        self.assertLessEqual(point.margin_db(1), margin.min() + 1e-9)

    def test_turning_points_of_a_moving_average_are_its_nulls_and_lobes(self) -> None:
        points = turning_points(moving_average(8), 0.0, np.pi)
        for null in (np.pi / 4, np.pi / 2, 3 * np.pi / 4):
            self.assertLess(np.min(np.abs(points - null)), 1e-9)

    def test_a_narrow_window_of_a_curve_has_its_own_points(self) -> None:
        omega, _ = magnitude_window(moving_average(31), 1.0, 1.001, 500)
        self.assertGreater(np.count_nonzero((omega >= 1.0) & (omega <= 1.001)), 400)


class Time(unittest.TestCase):
    def test_impulse_response_transforms_into_the_response(self) -> None:
        source = Cascade(((1, 0.4, 0.2, -1.2, 0.72), (0.0, 1.0, 0.5, 0.2, 0.0)), 0.3)
        spectrum = np.fft.rfft(impulse_response(source, 512))
        np.testing.assert_allclose(spectrum, uniform_response(source, 257), atol=1e-12)

    def test_roots_and_sections_ring_alike(self) -> None:
        cascade = Cascade(((1, -0.5, 0.7, -1.1, 0.6),), 2.0)
        rational = rational_of(cascade)
        roots = Roots(tuple(rational.zeros), tuple(rational.poles), 2.0)
        np.testing.assert_allclose(impulse_response(roots, 60), impulse_response(cascade, 60), atol=1e-12)

    def test_step_response_ends_at_the_gain_at_zero_frequency(self) -> None:
        self.assertAlmostEqual(step_response(moving_average(9))[-1], 1.0)


class Measures(unittest.TestCase):
    def test_moving_average(self) -> None:
        found = measures(moving_average(16), 1000.0)
        self.assertAlmostEqual(found["dc_gain_db"], 0, places=12)
        self.assertAlmostEqual(found["noise_bandwidth_hz"], 1000 / 32, places=9)
        self.assertEqual(found["settling_samples"], 15)
        edge = found["edges_3db_hz"][0] / 1000 * np.pi
        self.assertAlmostEqual((np.sin(16 * edge) / (16 * np.sin(edge))) ** 2, 0.5, places=10)

    def test_one_pole(self) -> None:
        pole = 0.9
        found = measures(Cascade(((1 - pole, 0, 0, -pole, 0),)), 2.0)
        self.assertAlmostEqual(found["noise_bandwidth_hz"], (1 - pole) / (1 + pole), places=6)
        cosine = (1 + pole**2 - 2 * (1 - pole) ** 2) / (2 * pole)
        self.assertAlmostEqual(found["edges_3db_hz"][0], np.arccos(cosine) / np.pi, places=10)
        self.assertEqual(found["settling_samples"], int(np.ceil(np.log(0.01) / np.log(pole))) - 1)

    def test_crossings_are_all_found(self) -> None:
        comb = Fir((0.5, *(0.0,) * 9, 0.5))
        self.assertEqual(len(level_crossings(comb, 20 * np.log10(np.sqrt(0.5)))), 10)

    def test_table_covers_both_ends(self) -> None:
        table = response_table(moving_average(3), 48_000.0, 5)
        self.assertEqual(table["hz"], [0, 6000, 12_000, 18_000, 24_000])
        self.assertEqual(table["delay_samples"], [1.0] * 5)
