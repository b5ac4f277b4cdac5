"""What is seen of a filter, against closed forms: roots moved by hand, formulas, energies, amplitudes, tables."""

from __future__ import annotations

import csv
import io
import itertools
import threading
import unittest
import unittest.mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from combe.designing.methods import design
from combe.errors import DesignError
from combe.filters import Cascade, Fir, Roots, rational_of
from combe.filters.by_hand import (
    LARGEST_POLE,
    Mark,
    added,
    doubled,
    marks_of,
    moved,
    near_pairs,
    removed,
    unlocked,
    without_pair,
)
from combe.filters.writing import written
from combe.ledger.goodness import goodness, table_of
from combe.responses import curves, frequency_response, gain_db
from combe.responses.curves import (
    amplitude_curve,
    energy_curve,
    magnitude_curve,
    magnitude_window,
    notable_points,
    phase_delay_curve,
)
from combe.responses.measures import measures
from tests.support import LOWPASS, asked, examples, plain_gain, plain_gain_db

EMPTY = Roots((), (), 1.0)


def peak(source: Roots) -> float:
    found = rational_of(source)
    return float(np.max(np.abs(frequency_response(found, np.linspace(0, np.pi, 20_001)))))


class RootsByHand(unittest.TestCase):
    def test_unlocking_changes_no_response(self) -> None:
        f = np.linspace(0.001, 0.499, 300)
        for source in (
            design(LOWPASS).filter, design(LOWPASS, "elliptic").filter, Fir((0.0, 0.5, 1.0, 0.0)), Fir((1.0,)), Roots((1j, -1j), (0.5,), 2.0),
            Cascade(((0.0, 1.0, 0.5, -0.3, 0.2),), 2.0),
        ):  # fmt: skip
            roots = unlocked(source)
            exact = (
                plain_gain(source, f)
                if not isinstance(source, Roots)
                else gain_db(frequency_response(source, 2 * np.pi * f))
            )
            loud = exact > -90
            np.testing.assert_allclose(gain_db(frequency_response(roots, 2 * np.pi * f))[loud], exact[loud], atol=1e-5)
        self.assertRaises(DesignError, unlocked, Fir((1.0,) * 500))
        self.assertRaises(DesignError, unlocked, Fir((0.0, 0.0)))

    def test_a_notch_is_two_clicks_on_an_empty_plane(self) -> None:
        zero = added(EMPTY, "zero", np.exp(0.3j * np.pi))
        notch = added(zero, "pole", 0.97 * np.exp(0.3j * np.pi))
        self.assertEqual((len(notch.zeros), len(notch.poles)), (2, 2))
        gain = gain_db(frequency_response(notch, np.array([0.3 * np.pi, 0.0, np.pi])))
        self.assertLess(gain[0], -150)
        self.assertGreater(min(gain[1:]), -1)

    def test_conjugates_follow_and_real_roots_split_where_they_meet(self) -> None:
        pair = added(EMPTY, "pole", 0.5 + 0.4j)
        mark = next(m for m in marks_of(pair) if m.place.imag > 0)
        self.assertEqual(set(moved(pair, mark, 0.2 - 0.6j).poles), {0.2 - 0.6j, 0.2 + 0.6j})
        met = moved(pair, mark, 0.6 + 0.001j)
        self.assertEqual(met.poles, (0.6 + 0j, 0.6 + 0j))
        slid = moved(met, marks_of(met)[0], 0.3 + 0.3j)
        self.assertEqual({round(abs(p.imag), 9) for p in slid.poles}, {0.3}, "two in one place split")
        apart = moved(met, marks_of(met)[0], 0.2 + 0j)
        alone = moved(apart, marks_of(apart)[0], 0.25 + 0.5j)
        self.assertEqual(sorted(p.real for p in alone.poles), [0.25, 0.6], "one alone stays on the axis")

    def test_poles_stay_inside_the_circle_and_zeros_need_not(self) -> None:
        self.assertAlmostEqual(max(abs(p) for p in added(EMPTY, "pole", 1.4 + 0.2j).poles), LARGEST_POLE)
        self.assertAlmostEqual(max(abs(z) for z in added(EMPTY, "zero", 1.4 + 0.2j).zeros), abs(1.4 + 0.2j))

    @settings(max_examples=examples(60), deadline=None)
    @given(st.complex_numbers(max_magnitude=0.9), st.complex_numbers(max_magnitude=1.5), st.booleans())
    def test_the_largest_gain_stays_whatever_is_moved(self, pole: complex, zero: complex, doubles: bool) -> None:
        start = unlocked(design(LOWPASS, "elliptic").filter)
        before = peak(start)
        after = added(added(start, "pole", pole), "zero", zero)
        if doubles:
            after = doubled(after, marks_of(after)[0])
        after = removed(after, marks_of(after)[1])
        self.assertAlmostEqual(abs(sum(after.zeros).imag) + abs(sum(after.poles).imag), 0, places=9)
        self.assertTrue(rational_of(after).is_stable)
        if np.isfinite(peak(after)) and peak(after) > 1e-9:
            self.assertAlmostEqual(peak(after) / before, 1, delta=0.02)

    def test_roots_in_one_place_are_counted_and_removed_one_by_one(self) -> None:
        double = doubled(added(EMPTY, "zero", -1 + 0j), Mark("zero", 0, -1 + 0j))
        self.assertEqual([m.times for m in marks_of(double)], [2])
        self.assertEqual(len(removed(double, marks_of(double)[0]).zeros), 1)

    def test_pairs_that_nearly_cancel_are_found_and_cost_little(self) -> None:
        start = unlocked(design(LOWPASS, "elliptic").filter)
        self.assertEqual(near_pairs(start), [])
        with_pair = added(added(start, "pole", 0.4 + 0.3j), "zero", 0.4005 + 0.3j)
        pairs = near_pairs(with_pair)
        self.assertEqual(len(pairs), 1)
        without = without_pair(with_pair, pairs[0])
        self.assertEqual((len(without.zeros), len(without.poles)), (len(start.zeros), len(start.poles)))
        f = 2 * np.pi * np.linspace(0, 0.14, 50)
        difference = gain_db(frequency_response(without, f)) - gain_db(frequency_response(with_pair, f))
        self.assertLess(np.max(np.abs(difference)), 0.05)


class Formulas(unittest.TestCase):
    def test_taps_are_written_in_powers(self) -> None:
        self.assertEqual(
            written(Fir((0.25, -0.5, 0.0, 1.0)), "powers"), "H(z) = 0.25\n       − 0.5·z⁻¹\n       + 1·z⁻³"
        )

    def test_all_forms_name_every_coefficient(self) -> None:
        source = Cascade(((1.0, -1.0, 0.0, -0.5, 0.0), (0.5, 0.0, 0.25, 0.1, 0.7)), 3.0)
        self.assertIn("(0.5 + 0.25·z⁻²)", written(source, "sections"))
        self.assertIn("1 + 0.1·z⁻¹ + 0.7·z⁻²", written(source, "sections"))
        powers = written(source, "powers")
        for number in np.polymul([1, -0.5], [1, 0.1, 0.7]):
            self.assertIn(f"{abs(number):.10g}", powers)
        factors = written(source, "factors")
        self.assertIn("(z − 1)", factors)
        self.assertIn("radius", factors)
        self.assertIn(
            "for display", written(design(asked(2, (0, 0.3, -0.01, 0.01), (0.33, 1, -80)), "elliptic").filter, "powers")
        )


class Curves(unittest.TestCase):
    def test_phase_delay_of_linear_phase_is_half_the_order(self) -> None:
        omega, delay = phase_delay_curve(design(LOWPASS).filter)
        inside = omega < 0.3 * np.pi
        np.testing.assert_allclose(delay[inside], design(LOWPASS).order / 2, atol=1e-9)

    def test_phase_delay_of_an_allpass_is_its_formula(self) -> None:
        c = 0.4
        omega, delay = phase_delay_curve(Cascade(((c, 1.0, 0.0, c, 0.0),)))
        exact = -np.angle((c + np.exp(-1j * omega)) / (1 + c * np.exp(-1j * omega))) / omega
        np.testing.assert_allclose(delay[:-1], exact[:-1], atol=1e-9)

    def test_the_amplitude_of_a_moving_average_is_the_dirichlet_kernel(self) -> None:
        omega, value = amplitude_curve(Fir((1 / 7,) * 7))
        with np.errstate(invalid="ignore"):
            exact = np.sin(3.5 * omega) / (7 * np.sin(omega / 2))
        np.testing.assert_allclose(value[1:], exact[1:], atol=1e-13)
        self.assertLess(np.min(value), -0.2)

    def test_the_energy_above_a_frequency_adds_up_by_parseval(self) -> None:
        taps = (1.0, 1.0)
        omega, level = energy_curve(Fir(taps))
        exact = 10 * np.log10(np.maximum(1 - (omega + np.sin(omega)) / np.pi, 1e-9))
        loud = exact > -40
        np.testing.assert_allclose(level[loud], exact[loud], atol=0.01)
        self.assertEqual(level[0], 0.0)

    def test_a_notch_a_millionth_of_the_rate_wide_is_drawn_at_any_zoom(self) -> None:
        angle, radius = 0.7123, 1 - np.pi * 1e-6
        notch = Cascade(((1.0, -2 * np.cos(angle), 1.0, -2 * radius * np.cos(angle), radius**2),))
        for width in (np.pi, 0.1, 1e-3, 1e-5):
            omega, level = magnitude_window(notch, max(angle - width, 0), min(angle + width, np.pi), 900)
            self.assertLess(np.min(level), -60, width)
            self.assertAlmostEqual(omega[np.argmin(level)], angle, delta=1e-7)
        self.assertLess(np.min(magnitude_curve(notch)[1]), -60)

    def test_no_top_is_cut_off_and_no_zero_filled_up_in_a_drawn_curve(self) -> None:
        """A symmetric product of (1 − 2cos(θ)z⁻¹ + z⁻²) has its zeros at θ, and tops a fine grid of plain sums finds."""
        for is_compiled in (False, True):
            with self.subTest(is_compiled), unittest.mock.patch.object(curves, "_ready", threading.Event()):
                if is_compiled:
                    curves.make_ready()
                magnitude_curve.cache_clear()
                self.check_tops_and_zeros()
        magnitude_curve.cache_clear()

    def check_tops_and_zeros(self) -> None:
        source = np.random.default_rng(3)
        for count in (3, 7, 11):
            angles = np.sort((np.arange(count) + source.uniform(0.2, 0.8, count)) * 0.97 * np.pi / count)
            taps = np.ones(1)
            for angle in angles:
                taps = np.convolve(taps, [1.0, -2 * np.cos(angle), 1.0])
            for symmetry in (1, -1):
                own = np.convolve(taps, [1.0, -1.0]) if symmetry == -1 else taps
                own = (own + symmetry * own[::-1]) / 2  # to the bit: the product is so but for rounding
                omega, level = magnitude_curve(Fir(tuple(own / np.max(np.abs(own)))))
                ends = np.linspace(0, np.pi, 400 * count) / (2 * np.pi)
                fine = plain_gain_db(own / np.max(np.abs(own)), ends)
                for low, high in itertools.pairwise([0.0, *angles, np.pi]):
                    inside = (omega >= low) & (omega <= high)
                    true = fine[(2 * np.pi * ends > low) & (2 * np.pi * ends < high)].max()
                    self.assertGreater(level[inside].max(), true - 2e-4, (count, symmetry))
                for angle in angles:
                    near = np.abs(omega - angle) < 1e-3 / count
                    self.assertLess(level[near].min(), level.max() - 100, (count, symmetry))

    def test_a_curve_is_the_same_to_the_bit_by_the_compiled_loop(self) -> None:
        """So that no picture or table depends on what was loaded; tops before and after their points, and zeros on them."""
        source = np.random.default_rng(8)
        half = [source.normal(size=count) for count in (1, 2, 5, 20, 63, 150)]
        sets = [np.concatenate([each, way * each[::-1]]) for each in half for way in (1, -1)]
        sets += [np.concatenate([each, [0.3], each[::-1]]) for each in half] + [np.ones(8) / 8, np.array([1.0])]
        filters = [Fir(tuple(map(float, taps))) for taps in sets]
        with unittest.mock.patch.object(curves, "_ready", threading.Event()):
            plain = [magnitude_curve.__wrapped__(each) for each in filters]
            curves.make_ready()
            quick = [magnitude_curve.__wrapped__(each) for each in filters]
        for source_, one, other in zip(filters, plain, quick):
            for values, same in zip(one, other):
                np.testing.assert_array_equal(values, same, str(len(source_.taps)))

    def test_notable_points_are_where_they_should_be(self) -> None:
        half = notable_points(Fir((0.5, 0.5)), "half power")
        np.testing.assert_allclose(half, [np.pi / 2], atol=1e-9)
        np.testing.assert_allclose(notable_points(Fir((0.5, 0.5)), "quarter power"), [2 * np.pi / 3], atol=1e-9)
        extremes = notable_points(Fir((1 / 4,) * 4), "extreme")
        self.assertIn(round(np.pi / 2, 6), np.round(extremes, 6))


class Goodness(unittest.TestCase):
    def test_bands_transitions_and_cost_of_a_known_filter(self) -> None:
        low = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))
        found = goodness(design(low, "elliptic").filter, 48_000)
        self.assertEqual([band["kind"] for band in found["bands"]], ["passband", "stopband"])
        self.assertLess(found["bands"][0]["ripple_db"], 0.2)
        self.assertGreater(found["bands"][1]["attenuation_db"], 60)
        self.assertTrue(0 < found["transitions"][0]["width_hz"] < 2000)

    def test_a_gain_without_lobes_is_blocked_where_it_has_fallen_far(self) -> None:
        found = measures(design(asked(2, (0, 0.2, -1, 0.5), (0.5, 1, -40)), "butterworth").filter, 2.0)
        stop = next(band for band in found["bands"] if band["kind"] == "stopband")
        self.assertEqual(stop["attenuation_db"], 60.0)
        self.assertTrue(0.2 < stop["start_hz"] < 1)

    def test_the_table_copies_as_text_csv_and_markdown(self) -> None:
        table = table_of([("a, b", Fir((0.5, 0.5))), ("c", Fir((0.25, 0.5, 0.25)))], 48_000)
        rows = list(csv.reader(io.StringIO(table.csv())))
        self.assertEqual(rows[0], ["", "a, b", "c"])
        self.assertEqual({len(row) for row in rows}, {3})
        self.assertEqual(len(table.markdown().splitlines()), len(rows) + 1)
        self.assertIn("multiplies", table.text())
        self.assertEqual(table.rows[0][0], "passband")
