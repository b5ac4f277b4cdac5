"""FIR methods against the facts that define them, each found out without the code under test."""

from __future__ import annotations

import unittest
from itertools import pairwise

import mpmath
import numpy as np
from scipy.optimize import linprog, nnls
from scipy.special import i0

from combe.designing.designed import Design
from combe.designing.fir.minimum_phase import spectral_factor
from combe.designing.methods import design, design_task
from combe.designing.task import DesignChoice, Task
from combe.designing.windowed.shapes import SHAPES, dolph, kaiser
from combe.errors import DesignError
from combe.filters import Fir
from combe.requirement import Requirement
from tests.support import BAT, LOWPASS, asked, least_margin_db, plain_gain_db, worst_margin_db

HIGH = asked(2, (0, 0.3, -40), (0.4, 1, -0.1, 0.1))
SLOPED = asked(2, (0, 0.3, [[0, -1.1], [0.3, 4.9]], [[0, 1.1], [0.3, 5.1]]), (0.4, 1, -40))


def made(method: str, order: int | None = None, rate: float = 1.0, **settings: float) -> Design:
    return design_task(Task(None, rate, DesignChoice(method, order, settings=tuple(settings.items()))))


def taps_of(found: Design) -> np.ndarray:
    assert isinstance(found.filter, Fir)
    return found.filter.array


def amplitude(taps: np.ndarray, omega: np.ndarray) -> np.ndarray:
    return np.asarray(np.cos(np.outer(omega, np.arange(len(taps)) - (len(taps) - 1) / 2)) @ taps)


class Windows(unittest.TestCase):
    def test_every_window_keeps_what_it_claims_and_one_tap_less_does_not(self) -> None:
        requirement = asked(2, (0, 0.3, -0.3, 0.3), (0.45, 1, -40))
        for shape in SHAPES:
            if shape.method == "rectangular-window":
                continue
            found = design(requirement, shape.method)
            self.assertGreaterEqual(worst_margin_db(taps_of(found), requirement), -1e-9, shape.name)
            shorter = design(requirement, shape.method, found.order - 1)
            self.assertLess(worst_margin_db(taps_of(shorter), requirement), 0, shape.name)

    def test_a_window_whose_ripples_are_too_large_says_so(self) -> None:
        with self.assertRaises(DesignError) as caught:
            design(LOWPASS, "rectangular-window")
        self.assertIn("don't shrink with its length", caught.exception.sentence())

    def test_kaiser_is_the_formula(self) -> None:
        t = np.linspace(-1, 1, 41)
        np.testing.assert_allclose(kaiser(41, 7.3), i0(7.3 * np.sqrt(1 - t * t)) / i0(7.3), atol=1e-14)

    def test_side_lobes_of_a_dolph_window_are_all_alike(self) -> None:
        for count in (31, 40):
            level = 20 * np.log10(np.abs(np.fft.rfft(dolph(count, 55.0), 1 << 16)) + 1e-12)
            level -= level[0]
            lobes = level[1:-1][(level[1:-1] > level[:-2]) & (level[1:-1] > level[2:])]
            np.testing.assert_allclose(lobes, -55, atol=0.01)

    def test_sums_of_cosines_are_symmetric_and_one_in_the_middle(self) -> None:
        for shape in SHAPES:
            window = shape.make(33, 0.5 if shape.parameter is None or shape.parameter.most < 5 else 45.0)
            np.testing.assert_allclose(window, window[::-1], atol=1e-13)
            self.assertAlmostEqual(window[16], 1, places=9)

    def test_a_cutoff_alone_is_half_the_gain(self) -> None:
        for method in ("kaiser", "hann-window", "blackman-window"):
            for shape, cutoffs in (("lowpass", (0.1,)), ("highpass", (0.2,)), ("bandpass", (0.1, 0.3))):
                choice = DesignChoice(method, 120, cutoffs_hz=cutoffs, shape=shape)
                found = taps_of(design_task(Task(None, 1.0, choice)))
                np.testing.assert_allclose(plain_gain_db(found, cutoffs), -6.02, atol=0.05)

    def test_kaiser_takes_an_attenuation(self) -> None:
        choice = DesignChoice("kaiser", 200, cutoffs_hz=(0.2,), settings=(("attenuation_db", 70.0),))
        found = taps_of(design_task(Task(None, 1.0, choice)))
        self.assertLess(np.max(plain_gain_db(found, np.linspace(0.22, 0.5, 2000))), -69)


class LeastSquares(unittest.TestCase):
    def error(self, taps: np.ndarray, requirement: Requirement, weights: tuple[float, ...]) -> float:
        """The weighted integral by Gauss's rule."""
        total = 0.0
        x, w = np.polynomial.legendre.leggauss(400)
        for band, weight in zip(requirement.bands, weights):
            low, high = np.pi * band.start_hz, np.pi * band.stop_hz
            omega = (low + high) / 2 + x * (high - low) / 2
            target = np.zeros_like(omega)
            if band.lower is not None:
                upper, lower = (np.interp(omega / np.pi, *np.array(b.points).T) for b in (band.upper, band.lower))
                target = (10 ** (upper / 20) + 10 ** (lower / 20)) / 2
            total += weight * float(w @ (amplitude(taps, omega) - target) ** 2) * (high - low) / 2
        return total

    def test_no_symmetric_change_lowers_the_weighted_error(self) -> None:
        source = np.random.default_rng(3)
        for requirement, order in ((LOWPASS, 40), (HIGH, 30), (SLOPED, 33)):
            weights = (2.0, 7.0)
            choice = DesignChoice("least-squares", order, weights=weights)
            taps = taps_of(design_task(Task(requirement, 2.0, choice)))
            least = self.error(taps, requirement, weights)
            for _ in range(12):
                change = source.normal(size=order + 1)
                change = 1e-4 * (change + change[::-1])
                slope = (
                    self.error(taps + change, requirement, weights) - self.error(taps - change, requirement, weights)
                ) / 2
                bend = self.error(taps + change, requirement, weights) - least
                self.assertGreater(bend, 0)
                self.assertLess(abs(slope), 1e-5 * bend + 1e-18)

    def test_the_shortest_keeps_every_limit(self) -> None:
        for requirement in (LOWPASS, HIGH, BAT, SLOPED):
            found = design(requirement, "least-squares")
            self.assertGreaterEqual(least_margin_db(found.filter, requirement), -1e-9)
            self.assertGreaterEqual(found.order, design(requirement).order)

    def test_under_peak_limits_it_has_less_energy_than_equiripple_and_obeys_its_optimality_conditions(self) -> None:
        found = taps_of(design(LOWPASS, "constrained-least-squares", 60))
        self.assertGreaterEqual(worst_margin_db(found, LOWPASS), -1e-9)
        even = taps_of(design(LOWPASS, "equiripple", 60))
        ideal = np.array([0.35 * np.sinc(0.35 * (n - 30)) for n in range(61)])
        middle = (10 ** (0.1 / 20) + 10 ** (-0.1 / 20)) / 2
        self.assertLess(np.sum((found - middle * ideal) ** 2), np.sum((even - middle * ideal) ** 2))
        # Karush-Kuhn-Tucker: the gradient is a combination of active limits with signs that push inwards.
        omega = np.concatenate([np.linspace(0, 0.3 * np.pi, 4001), np.linspace(0.4 * np.pi, np.pi, 6001)])
        target = np.where(omega < 0.35 * np.pi, middle, 0.0)
        room = np.where(omega < 0.35 * np.pi, (10 ** (0.1 / 20) - 10 ** (-0.1 / 20)) / 2, 1e-3)
        error = (amplitude(found, omega) - target) / room
        active = np.flatnonzero(np.abs(error) > 1 - 3e-4)
        rows = (
            np.sign(error[active])[:, None] * np.cos(np.outer(omega[active], np.arange(61) - 30)) / room[active, None]
        )
        gradient = 2 * (found - middle * ideal)
        half = rows[:, 30:] * np.where(np.arange(31) == 0, 1.0, 2.0)
        push = gradient[30:] * np.where(np.arange(31) == 0, 1.0, 2.0)
        _, residual = nnls(half.T, -push)
        self.assertLess(residual, 0.02 * np.linalg.norm(push))

    def test_limits_no_length_can_keep_are_refused(self) -> None:
        self.assertRaises(DesignError, design, LOWPASS, "constrained-least-squares", 20)
        self.assertRaises(DesignError, design, LOWPASS, "least-squares", 4000)
        with self.assertRaises(DesignError) as caught:
            design_task(Task(LOWPASS, 2.0, DesignChoice("least-squares", 20, weights=(1.0,))))
        self.assertIn("2 bands", caught.exception.sentence())


class Flat(unittest.TestCase):
    def test_derivatives_vanish_at_both_ends(self) -> None:
        found = taps_of(design(asked(2, (0, 0.2, -0.5, 0.5), (0.6, 1, -40)), "maximally-flat"))
        found = found / np.sum(found)
        mpmath.mp.dps = 60
        half = len(found) // 2
        x = [mpmath.mpf(float(tap)) for tap in found]
        moments = [
            sum(x[half + k] * mpmath.mpf(k) ** (2 * m) * (1 if k == 0 else 2) for k in range(half + 1))
            for m in range(1, 3)
        ]
        for m, moment in enumerate(moments, 1):
            self.assertLess(abs(float(moment)), 1e-12 * half ** (2 * m))
        self.assertLess(abs(float(np.sum(found * (-1.0) ** np.arange(len(found))))), 1e-12)
        level = amplitude(found, np.linspace(0, np.pi, 5001))
        self.assertTrue(np.all(np.diff(level) < 1e-13), "it only falls")

    def test_it_keeps_low_and_highpass_and_refuses_the_rest(self) -> None:
        for bands in (((0, 0.2, -0.5, 0.5), (0.5, 1, -50)), ((0, 0.4, -50), (0.7, 1, -0.5, 0.5))):
            requirement = asked(2, *bands)
            found = design(requirement, "maximally-flat")
            self.assertGreaterEqual(least_margin_db(found.filter, requirement), -1e-9)
            shorter = design(requirement, "maximally-flat", found.order - 2)
            self.assertLess(least_margin_db(shorter.filter, requirement), 0)
        self.assertRaises(DesignError, design, BAT, "maximally-flat")
        self.assertRaises(DesignError, design, LOWPASS, "maximally-flat", 7)


class Zeros(unittest.TestCase):
    HALF = asked(2, (0, 0.45, -0.05, 0.05), (0.55, 1, -50))

    def test_half_band_taps_are_zero_and_its_energies_add_up(self) -> None:
        for requirement in (self.HALF, asked(2, (0, 0.45, -50), (0.55, 1, -0.05, 0.05))):
            found = taps_of(design(requirement, "half-band"))
            middle = len(found) // 2
            others = np.arange(len(found)) != middle
            self.assertTrue(np.all(found[others & ((np.arange(len(found)) - middle) % 2 == 0)] == 0))
            self.assertGreaterEqual(worst_margin_db(found, requirement), -1e-9)
            # A(ω) + A(π − ω) is constant, hence by Parseval the energy is half the middle tap more than its square.
            omega = np.linspace(0, np.pi, 999)
            total = amplitude(found, omega) + amplitude(found, np.pi - omega)
            np.testing.assert_allclose(total, 2 * found[middle], atol=1e-14)
            dense = amplitude(found, 2 * np.pi * np.arange(4096) / 4096)
            self.assertAlmostEqual(float(np.mean(dense**2)), float(np.sum(found**2)), places=13)

    def test_no_half_band_of_the_next_shorter_kind_does_it(self) -> None:
        found = design(self.HALF, "half-band")
        self.assertEqual(found.order % 4, 2)
        shorter = design(self.HALF, "half-band", found.order - 4)
        self.assertLess(worst_margin_db(taps_of(shorter), self.HALF), 0)

    def test_every_mth_tap_of_a_nyquist_filter_is_zero(self) -> None:
        requirement = asked(2, (0, 0.28, -0.1, 0.1), (0.39, 1, -45))
        found = taps_of(design(requirement, "nyquist"))
        middle = len(found) // 2
        zero = [k for k in range(len(found)) if k != middle and (k - middle) % 3 == 0]
        self.assertTrue(zero and np.all(found[zero] == 0))
        self.assertGreaterEqual(worst_margin_db(found, requirement), -1e-9)

    def test_requirements_off_the_symmetry_are_refused(self) -> None:
        for method in ("half-band", "nyquist"):
            self.assertRaises(DesignError, design, asked(2, (0, 0.2, -1, 1), (0.24, 1, -40)), method)
            self.assertRaises(DesignError, design, BAT, method)


class MinimumPhase(unittest.TestCase):
    def test_all_zeros_lie_inside_and_the_limits_hold_with_fewer_taps(self) -> None:
        for requirement in (LOWPASS, HIGH, BAT):
            found = design(requirement, "minimum-phase")
            self.assertGreaterEqual(worst_margin_db(taps_of(found), requirement), -1e-9)
            self.assertLess(found.order, design(requirement).order)
            self.assertLess(np.max(np.abs(np.roots(taps_of(found)))), 1 + 1e-6)

    def test_the_factor_reproduces_a_known_square(self) -> None:
        h = np.array([1.0, -0.9, 0.5, 0.2, -0.1])
        found = spectral_factor(Fir(tuple(np.convolve(h, h[::-1]).tolist())))
        np.testing.assert_allclose(found.taps, h, atol=1e-12)

    def test_deep_stopbands_are_refused_with_what_would_do(self) -> None:
        with self.assertRaises(DesignError) as caught:
            design(asked(2, (0, 0.3, -0.1, 0.1), (0.5, 1, -150)), "minimum-phase")
        self.assertIn("100 dB", caught.exception.sentence())


class Others(unittest.TestCase):
    def test_low_delay_keeps_limits_and_delay(self) -> None:
        requirement = asked(2, (0, 0.3, -0.1, 0.1), (0.4, 1, -50), max_delay_s=9)
        found = design(requirement, "low-delay")
        self.assertGreaterEqual(worst_margin_db(taps_of(found), requirement), -1e-9)
        omega = np.linspace(0, 0.3 * np.pi, 2000)
        h = np.exp(-1j * np.outer(omega, np.arange(found.order + 1))) @ taps_of(found)
        delay = -np.gradient(np.unwrap(np.angle(h)), omega)
        self.assertLess(np.max(delay), 18 + 1e-3)
        self.assertGreater(design(requirement).order / 2, 18)

    def test_interpolated_parts_make_the_whole_and_cost_less(self) -> None:
        for bands in (((0, 0.04, -0.1, 0.1), (0.06, 1, -60)), ((0, 0.94, -60), (0.96, 1, -0.1, 0.1))):
            requirement = asked(2, *bands)
            found = design(requirement, "interpolated-fir")
            self.assertEqual(len(found.parts), 2)
            whole = np.convolve(found.parts[0].array, found.parts[1].array)
            np.testing.assert_allclose(whole, taps_of(found), atol=1e-15)
            self.assertGreaterEqual(worst_margin_db(taps_of(found), requirement), -1e-9)
            used = sum(np.count_nonzero(part.array[: (len(part.taps) + 1) // 2]) for part in found.parts)
            self.assertLess(used, 0.6 * design(requirement).order / 2)

    def test_from_points_is_the_projection_of_the_target(self) -> None:
        requirement = asked(2, (0, 0.3, -1, 1), (0.5, 1, -30))
        found = taps_of(design(requirement, "from-points", 24))
        knots, target = [0, 0.3, 0.5, 1], [np.mean(10 ** (np.array([1, -1]) / 20))] * 2 + [0, 0]
        omega = np.pi * (np.arange(20_000) + 0.5) / 20_000
        wanted = np.interp(omega / np.pi, knots, target)
        exact = [np.mean(wanted * np.cos(n * omega)) for n in range(13)]
        np.testing.assert_allclose(found[12:], exact, atol=1e-6)

    def test_raised_cosines_meet_no_other_symbol(self) -> None:
        for roll_off in (0.0, 0.25, 1.0):
            found = taps_of(made("raised-cosine", 160, samples_per_symbol=8, roll_off=roll_off))
            np.testing.assert_allclose(found[80 + 8 :: 8], 0, atol=1e-15)
            self.assertAlmostEqual(found[80], 1 / 8)
        root = taps_of(made("root-raised-cosine", 2048, samples_per_symbol=8, roll_off=0.25))
        whole = taps_of(made("raised-cosine", 400, samples_per_symbol=8, roll_off=0.25))
        np.testing.assert_allclose(np.convolve(root, root)[2048 - 200 : 2048 + 201], whole, atol=2e-6)

    def test_local_polynomials_pass_polynomials_unchanged(self) -> None:
        x = np.arange(-7, 8.0)
        for degree in (0, 2, 5):
            taps = taps_of(made("savitzky-golay", 14, degree=degree))
            for power in range(degree + 1):
                self.assertAlmostEqual(float(taps[::-1] @ x**power), 1.0 if power == 0 else 0.0, delta=1e-8 * 7**power)
        slope = taps_of(made("savitzky-golay", 14, degree=4, derivative=1))
        self.assertAlmostEqual(float(slope[::-1] @ (3 * x + x**2)), 3.0)
        np.testing.assert_allclose(35 * taps_of(made("savitzky-golay", 4, degree=2)), [-3, 12, 17, 12, -3], atol=1e-12)
        self.assertRaises(DesignError, made, "savitzky-golay", 5)
        self.assertRaises(DesignError, made, "savitzky-golay", 4, degree=2, derivative=3)

    def test_a_moving_average_is_a_mean(self) -> None:
        self.assertEqual(set(taps_of(made("moving-average", 6))), {1 / 7})
        self.assertRaises(DesignError, made, "moving-average")

    def test_a_fractional_delay_is_one(self) -> None:
        taps = taps_of(made("fractional-delay", 5, delay_samples=2.3))
        x = np.arange(6.0)
        for power in range(6):
            self.assertAlmostEqual(float(taps @ x**power), 2.3**power, places=9)
        fitted = taps_of(made("fractional-delay", 21, delay_samples=10.4, stop_hz=0.4))
        omega = np.linspace(0, 0.8 * np.pi, 500)
        error = np.exp(-1j * np.outer(omega, np.arange(22))) @ fitted - np.exp(-10.4j * omega)
        self.assertLess(np.max(np.abs(error)), 1.5e-3)
        self.assertRaises(DesignError, made, "fractional-delay", 5)

    def test_hilbert_and_differentiator_are_minimax(self) -> None:
        for method, order, start, stop in (("hilbert", 18, 0.05, 0.45), ("differentiator", 15, 0.0, 0.5), ("differentiator", 16, 0.0, 0.4)):  # fmt: skip
            found = taps_of(made(method, order, start_hz=start, stop_hz=stop))
            np.testing.assert_allclose(found, -found[::-1], atol=0)
            omega = np.linspace(max(2 * np.pi * start, 1e-3), 2 * np.pi * stop, 1500)
            waves = 2 * np.sin(np.outer(omega, order / 2 - np.arange((order + 1) // 2)))
            target = omega if method == "differentiator" else np.ones_like(omega)
            rows = waves / target[:, None]
            ones = np.ones((len(omega), 1))
            solved = linprog(np.r_[np.zeros(rows.shape[1]), 1], A_ub=np.vstack([np.hstack([rows, -ones]), np.hstack([-rows, -ones])]),
                             b_ub=np.r_[np.ones(len(omega)), -np.ones(len(omega))], bounds=(None, None), method="highs")  # fmt: skip
            mine = float(np.max(np.abs(np.abs(rows @ found[: (order + 1) // 2]) - 1)))
            self.assertLess(mine, 1.01 * solved.x[-1] + 1e-9, method)

    def test_weights_trade_one_band_for_another(self) -> None:
        for method in ("equiripple", "least-squares"):
            ripples = []
            for weights in ((10.0, 1.0), (1.0, 1.0), (1.0, 10.0)):
                choice = DesignChoice(method, 40, weights=weights)
                taps = taps_of(design_task(Task(LOWPASS, 2.0, choice)))
                ripples.append(np.max(np.abs(amplitude(taps, np.linspace(0.4, 1, 3000) * np.pi))))
            self.assertTrue(all(a > b for a, b in pairwise(ripples)), method)
        choice = DesignChoice("equiripple", 40, weights=(1.0, 4.0))
        taps = taps_of(design_task(Task(LOWPASS, 2.0, choice)))
        middle = (10 ** (0.1 / 20) + 10 ** (-0.1 / 20)) / 2
        inside = np.max(np.abs(amplitude(taps, np.linspace(0, 0.3, 6000) * np.pi) - middle))
        beyond = np.max(np.abs(amplitude(taps, np.linspace(0.4, 1, 6000) * np.pi)))
        self.assertAlmostEqual(inside / beyond, 4, delta=0.02)
