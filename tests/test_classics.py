"""The classic families against published formulas in multi-precision, and an evaluator that shares no code."""

from __future__ import annotations

import math
import unittest

import mpmath
import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from combe.designing.classic import prototypes
from combe.designing.classic.elliptic import Modulus, cd, inverse_sc, quarter_period
from combe.designing.methods import design, design_task
from combe.designing.task import DesignChoice, Task
from combe.errors import DesignError
from combe.filters import Cascade, rational_of, sections_of
from combe.requirement import Requirement
from tests.support import asked, examples, least_margin_db, plain_section_gain_db

FAMILIES = ("butterworth", "chebyshev", "inverse-chebyshev", "elliptic", "bessel")
LOW = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))


def by_cutoff(method: str, order: int, shape: str, *cutoffs: float, **settings_: float) -> Cascade:
    choice = DesignChoice(method, order, cutoffs_hz=cutoffs, shape=shape, settings=tuple(settings_.items()))
    found = design_task(Task(None, 48_000.0, choice)).filter
    assert isinstance(found, Cascade)
    return found


class EllipticFunctions(unittest.TestCase):
    def test_moduli_and_quarter_periods_agree_with_multi_precision(self) -> None:
        mpmath.mp.dps = 40
        for k in (1e-8, 0.01, 0.5, 0.9, 0.999999):
            exact = mpmath.ellipk(mpmath.mpf(k) ** 2)
            kc = float(mpmath.sqrt(1 - mpmath.mpf(k) ** 2))
            self.assertAlmostEqual(quarter_period(k, kc) / float(exact), 1, delta=1e-14)
            modulus = Modulus.of(k, kc)
            self.assertAlmostEqual(modulus.k / k, 1, delta=1e-12)
            self.assertAlmostEqual(modulus.kc / kc, 1, delta=1e-12)

    def test_cd_agrees_with_multi_precision_for_complex_arguments(self) -> None:
        mpmath.mp.dps = 30
        for k in (0.1, 0.7, 0.99):
            period = mpmath.ellipk(mpmath.mpf(k) ** 2)
            for u in (0.3, 0.3 - 0.2j, 0.9 + 0.1j):
                exact = complex(mpmath.ellipfun("cd", mpmath.mpc(u) * period, k=k))
                self.assertAlmostEqual(abs(cd(np.array([u]), Modulus.of(k))[0] - exact), 0, delta=1e-12)

    def test_inverse_sc_undoes_sc(self) -> None:
        mpmath.mp.dps = 30
        for x, kc in ((0.5, 0.3), (30.0, 1e-3), (6.0, 1e-12)):
            v = inverse_sc(x, kc)
            k = mpmath.sqrt(1 - mpmath.mpf(kc) ** 2)
            back = mpmath.ellipfun("sn", v, k=k) / mpmath.ellipfun("cn", v, k=k)
            self.assertAlmostEqual(float(back) / x, 1, delta=1e-9)


class Prototypes(unittest.TestCase):
    def test_butterworth_and_chebyshev_poles_are_the_published_ones(self) -> None:
        mpmath.mp.dps = 30
        for order in (1, 2, 5, 12):
            epsilon = 0.3
            v = mpmath.asinh(1 / mpmath.mpf(epsilon)) / order
            round_, ripple = [], []
            for k in range(1, order + 1):
                angle = (2 * k - 1) * mpmath.pi / (2 * order)
                unit = mpmath.mpf(epsilon) ** (mpmath.mpf(-1) / order)
                round_.append(complex(unit * mpmath.mpc(-mpmath.sin(angle), mpmath.cos(angle))))
                ripple.append(complex(-mpmath.sinh(v) * mpmath.sin(angle), mpmath.cosh(v) * mpmath.cos(angle)))
            for found, exact in (
                (prototypes.butterworth(order, epsilon), round_),
                (prototypes.chebyshev(order, epsilon), ripple),
            ):
                gaps = np.abs(np.sort_complex(found.poles) - np.sort_complex(np.array(exact)))
                self.assertLess(np.max(gaps), 1e-12)

    def test_bessel_poles_are_zeros_of_the_reverse_bessel_polynomial(self) -> None:
        mpmath.mp.dps = 90
        for order in (1, 4, 17, 40):
            coefficients = [
                mpmath.factorial(2 * order - k)
                / (mpmath.mpf(2) ** (order - k) * mpmath.factorial(k) * mpmath.factorial(order - k))
                for k in range(order, -1, -1)
            ]
            for pole in prototypes.bessel(order).poles:
                value, slope = mpmath.polyval(coefficients, mpmath.mpc(complex(pole)), derivative=True)
                self.assertLess(float(abs(value / slope / mpmath.mpc(complex(pole)))), 1e-14)

    def test_elliptic_ripples_are_all_alike(self) -> None:
        for order, stop in ((4, 1.3), (7, 1.05), (20, 1.001)):
            epsilon = math.sqrt(10**0.01 - 1)
            found = prototypes.elliptic(order, epsilon, stop)

            def level(omega: np.ndarray, found: prototypes.Prototype = found) -> np.ndarray:
                s = 1j * omega[:, None]
                return 20 * (np.log10(np.abs(s - found.zeros)).sum(1) - np.log10(np.abs(s - found.poles)).sum(1))

            inside = level(np.sin(np.linspace(0, np.pi / 2, 60_001)))
            peaks = inside[1:-1][(inside[1:-1] > inside[:-2]) & (inside[1:-1] > inside[2:])]
            dips = inside[1:-1][(inside[1:-1] < inside[:-2]) & (inside[1:-1] < inside[2:])]
            top = float(np.max(inside))
            np.testing.assert_allclose(peaks, top, atol=1e-4)
            np.testing.assert_allclose(dips, top - 0.1, atol=1e-4)
            # Alternation: order + 1 extremes in the passband, the middle and the edge counted.
            self.assertGreaterEqual(2 * (len(peaks) + len(dips)) + 2, order - 1)
            beyond = level(stop / np.sin(np.linspace(1e-6, np.pi / 2, 60_001)))
            lobes = beyond[1:-1][(beyond[1:-1] > beyond[:-2]) & (beyond[1:-1] > beyond[2:])]
            np.testing.assert_allclose(lobes, np.max(beyond), atol=1e-3)

    def test_elliptic_orders_obey_the_degree_equation(self) -> None:
        mpmath.mp.dps = 40
        for order, stop in ((5, 1.2), (60, 1.0001)):
            k = 1 / mpmath.mpf(stop)
            nome = mpmath.exp(-mpmath.pi * mpmath.ellipk(1 - k**2) / mpmath.ellipk(k**2)) ** order
            exact = 4 * mpmath.sqrt(nome) * (
                mpmath.nsum(lambda m, q=nome: q ** (m * (m + 1)), [0, 8])
                / (1 + 2 * mpmath.nsum(lambda m, q=nome: q ** (m * m), [1, 8]))
            ) ** 2  # fmt: skip
            self.assertAlmostEqual(prototypes.log_discrimination(order, stop), -float(mpmath.log(exact)), delta=1e-8)


class LeastOrders(unittest.TestCase):
    @settings(max_examples=examples(25), deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(st.floats(0.05, 0.6), st.floats(0.03, 0.3), st.floats(0.001, 2.0), st.floats(20, 120))
    def test_the_closed_form_orders_are_met(self, edge: float, width: float, ripple: float, down: float) -> None:
        requirement = asked(2, (0, edge, -ripple, 0.0), (edge + width, 1, -down))
        stop = math.tan(math.pi * (edge + width) / 2) / math.tan(math.pi * edge / 2)
        ratio = math.sqrt((10 ** (down / 10) - 1) / (10 ** (ripple / 10) - 1))
        mpmath.mp.dps = 30

        def period(k: float) -> float:
            return float(mpmath.ellipk(mpmath.mpf(k) ** 2))

        def other(k: float) -> float:
            return float(mpmath.ellipk(1 - mpmath.mpf(k) ** 2))

        exact = {
            "butterworth": math.log(ratio) / math.log(stop),
            "chebyshev": math.acosh(ratio) / math.acosh(stop),
            "inverse-chebyshev": math.acosh(ratio) / math.acosh(stop),
            "elliptic": period(1 / stop) * other(1 / ratio) / (other(1 / stop) * period(1 / ratio)),
        }
        for name, order in exact.items():
            if order > 60 or abs(order - round(order)) < 1e-3:
                continue
            self.assertEqual(design(requirement, name).order, math.ceil(order), name)


class Requirements(unittest.TestCase):
    def kept(self, requirement: Requirement, *names: str) -> dict[str, int]:
        orders = {}
        for name in names or FAMILIES:
            found = design(requirement, name)
            self.assertGreaterEqual(least_margin_db(found.filter, requirement), -1e-9, name)
            self.assertTrue(rational_of(found.filter).is_stable)  # type: ignore[arg-type]
            orders[name] = found.order
        return orders

    def test_all_four_shapes_are_kept_by_all_families(self) -> None:
        for bands in (
            ((0, 0.2, -1, 0.5), (0.5, 1, -30)), ((0, 0.2, -30), (0.5, 1, -1, 0.5)),
            ((0, 0.1, -25), (0.3, 0.5, -1, 1), (0.8, 1, -25)), ((0, 0.1, -1, 1), (0.35, 0.45, -20), (0.8, 1, -1, 1)),
        ):  # fmt: skip
            orders = self.kept(asked(2, *bands), *FAMILIES[:4])
            self.assertLessEqual(orders["elliptic"], orders["chebyshev"])
            self.assertEqual(orders["chebyshev"], orders["inverse-chebyshev"])
            self.assertLessEqual(orders["chebyshev"], orders["butterworth"])

    def test_a_bessel_filter_keeps_what_a_gentle_slope_can(self) -> None:
        for bands in (((0, 0.1, -3, 0.1), (0.6, 1, -30)), ((0, 0.1, -30), (0.6, 1, -3, 0.1))):
            self.kept(asked(2, *bands), "bessel")

    def test_numbers_that_hold(self) -> None:
        for bands, least in (
            (((0, 0.2, -0.01, 0.01), (0.2000004, 0.5, -160)), 60),
            (((0, 1e-4, -0.0005, 0.0005), (2e-4, 0.5, -160)), 8),
            (((0, 0.1, -60), (0.2, 0.2001, -0.1, 0.1), (0.2003, 0.5, -60)), 6),
        ):
            orders = self.kept(asked(1, *bands), "elliptic")
            self.assertGreaterEqual(orders["elliptic"], least)

    def test_wide_left_and_right_transitions_are_used(self) -> None:
        wide = asked(2, (0, 0.05, -60), (0.2, 0.6, -0.1, 0.1), (0.62, 1, -60))
        for name in ("chebyshev", "inverse-chebyshev", "elliptic"):
            found = design(wide, name)
            self.assertGreaterEqual(least_margin_db(found.filter, wide), -1e-9, name)
            self.assertIn("in a row", found.notes[0])
            # The symmetric transform of one prototype needs a higher order: two less than it does not keep the limits.
            for order in range(found.order + found.order % 2 - 2, found.order + found.order % 2 + 1, 2):
                if order > found.order - 1:
                    self.assertLess(least_margin_db(design(wide, name, order).filter, wide), 0, name)

    def test_steps_in_a_stopband_save_order(self) -> None:
        deep = asked(2, (0, 0.3, -0.1, 0.1), (0.4, 1, -80))
        stepped = asked(2, (0, 0.3, -0.1, 0.1), (0.4, 0.6, -40), (0.6001, 1, -80))
        for name in ("butterworth", "chebyshev", "elliptic"):
            self.assertLess(design(stepped, name).order, design(deep, name).order)
            self.assertGreaterEqual(least_margin_db(design(stepped, name).filter, stepped), -1e-9)

    def test_spare_room_goes_where_it_is_put(self) -> None:
        margins = {}
        for spare in ("stopband", "passband", "shared"):
            found = design_task(Task(LOW, LOW.sample_rate_hz, DesignChoice("elliptic", spare=spare))).filter
            assert isinstance(found, Cascade)
            hz = np.linspace(0, 8000, 4001)
            ripple = float(np.max(np.abs(plain_section_gain_db(found.sections, found.gain, hz / 48_000))))
            down = -float(
                np.max(plain_section_gain_db(found.sections, found.gain, np.linspace(10_000, 24_000, 4001) / 48_000))
            )
            margins[spare] = 0.1 - ripple, down - 60
        self.assertLess(abs(margins["stopband"][0]), 2e-3)
        self.assertLess(abs(margins["passband"][1]), 1e-3)
        self.assertGreater(margins["stopband"][1], margins["shared"][1])
        self.assertGreater(margins["passband"][0], margins["shared"][0])
        self.assertGreater(min(margins["shared"]), 0.01)

    def test_notes_say_what_the_next_lower_order_misses(self) -> None:
        found = design(LOW, "elliptic")
        self.assertRegex(found.notes[0], r"meets at order 7; order 6 misses by [\d.]+ dB at 10 kHz")
        lower = design(LOW, "elliptic", 6)
        self.assertLess(least_margin_db(lower.filter, LOW), 0)

    def test_shapes_they_do_not_have_are_refused_with_a_reason(self) -> None:
        for bands, words in (
            (((0, 0.2, -1, 1),), "nothing for a classic filter"),
            (((0, 0.1, -1, 1), (0.2, 0.3, -40), (0.4, 0.5, -1, 1), (0.6, 0.7, -40)), "none of them"),
            (((0, 0.2, [[0, -10.1], [0.2, -0.1]], [[0, -9.9], [0.2, 0.1]]), (0.3, 1, -40)), "no one gain"),
        ):
            with self.assertRaises(DesignError) as caught:
                design(asked(2, *bands), "elliptic")
            self.assertIn(words, caught.exception.sentence())
        with self.assertRaises(DesignError) as caught:
            design(LOW, "bessel")
        self.assertIn("Gaussian", caught.exception.sentence())
        self.assertRaises(DesignError, design, asked(2, (0, 0.1, -60), (0.2, 0.3, -1, 1), (0.4, 1, -60)), "elliptic", 5)


class Cutoffs(unittest.TestCase):
    def test_the_gain_there_is_half_the_power(self) -> None:
        for name in FAMILIES:
            for shape, cutoffs in (
                ("lowpass", (1000,)), ("highpass", (5000,)), ("bandpass", (1000, 3000)), ("bandstop", (1000, 3000)),
            ):  # fmt: skip
                found = by_cutoff(name, 6, shape, *cutoffs)
                grid = np.linspace(0, 0.5, 20_001)
                peak = float(np.max(plain_section_gain_db(found.sections, found.gain, grid)))
                at = plain_section_gain_db(found.sections, found.gain, np.array(cutoffs) / 48_000)
                np.testing.assert_allclose(at, peak - 10 * math.log10(2), atol=2e-4, err_msg=f"{name} {shape}")

    def test_ripple_and_attenuation_are_what_is_set(self) -> None:
        found = by_cutoff("elliptic", 5, "lowpass", 4000, ripple_db=1.0, attenuation_db=50.0)
        level = plain_section_gain_db(found.sections, found.gain, np.linspace(0, 0.5, 40_001))
        peaks = level[1:-1][(level[1:-1] >= level[:-2]) & (level[1:-1] >= level[2:])]
        dips = level[1:-1][(level[1:-1] <= level[:-2]) & (level[1:-1] <= level[2:]) & (level[1:-1] > -20)]
        np.testing.assert_allclose(dips, -1.0, atol=1e-3)
        np.testing.assert_allclose(peaks[peaks < -20], -50.0, atol=1e-3)

    def test_butterworth_is_the_formula(self) -> None:
        found = by_cutoff("butterworth", 5, "lowpass", 3000)
        hz = np.array([10.0, 500, 2999, 9000, 20_000])
        warped = np.tan(np.pi * hz / 48_000) / math.tan(math.pi * 3000 / 48_000)
        exact = -10 * np.log10(1 + warped**10)
        np.testing.assert_allclose(plain_section_gain_db(found.sections, found.gain, hz / 48_000), exact, atol=1e-9)

    def test_mistakes_are_named(self) -> None:
        for make, words in (
            (lambda: by_cutoff("butterworth", 4, "lowpass", 30_000), "between 0 and half"),
            (lambda: by_cutoff("butterworth", 4, "bandpass", 1000), "two cut-offs"),
            (lambda: by_cutoff("butterworth", 4, "lowpass", 1000, 2000), "one cut-off"),
            (lambda: by_cutoff("butterworth", 5, "bandpass", 1000, 2000), "even order"),
            (lambda: by_cutoff("chebyshev", 4, "lowpass", 1000, ripple_db=5.0), "−3 dB point"),
            (lambda: by_cutoff("butterworth", 400, "lowpass", 1000), "out of reach"),
            (lambda: by_cutoff("bandpasser", 4, "lowpass", 1000), "not a method"),
        ):
            with self.assertRaises(DesignError) as caught:
                make()
            self.assertIn(words, caught.exception.sentence())


class Sections(unittest.TestCase):
    def test_pairing_keeps_the_response(self) -> None:
        found = design(LOW, "chebyshev").filter
        assert isinstance(found, Cascade)
        again = sections_of(rational_of(found))
        f = np.linspace(0.001, 0.49, 301)
        np.testing.assert_allclose(
            plain_section_gain_db(again.sections, again.gain, f), plain_section_gain_db(found.sections, found.gain, f),
            atol=1e-9,
        )  # fmt: skip

    def test_odd_orders_end_in_a_first_order_section(self) -> None:
        found = design(LOW, "elliptic").filter
        assert isinstance(found, Cascade)
        self.assertEqual(found.order, 7)
        self.assertEqual((found.sections[-1][2], found.sections[-1][4]), (0.0, 0.0))
        radii = [section[4] for section in found.sections[:-1]]
        self.assertEqual(radii, sorted(radii))
        self.assertTrue(all(section[2] == 1.0 for section in found.sections[:-1]), "zeros on the circle")

    def test_gains_beyond_doubles_are_shared_out(self) -> None:
        found = by_cutoff("butterworth", 60, "lowpass", 1.0)
        level = plain_section_gain_db(found.sections, found.gain, np.array([0.0, 1 / 48_000]))
        np.testing.assert_allclose(level, [0, -10 * math.log10(2)], atol=0.05)
        self.assertGreater(found.gain, 0.5)
        with self.assertRaises(DesignError) as caught:
            by_cutoff("butterworth", 100, "lowpass", 1.0)
        self.assertIn("double precision", caught.exception.sentence())
