"""The parts designs are made of, each against a fact of its own."""

from __future__ import annotations

import math
import unittest
from fractions import Fraction

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from combe.designing.caps import bulges, transition_pieces
from combe.designing.costs import cost_of_design, lines_of_design
from combe.designing.designed import Design
from combe.designing.equiripple.problem import pieces_of
from combe.designing.least_squares.equations import solve_symmetric
from combe.designing.lengths import allowed_lengths, least_length
from combe.designing.linear_phase import crowded, from_cosines, share, shares
from combe.designing.methods import design
from combe.designing.minimax import minimax
from combe.designing.moves import figures_of, transition_beside
from combe.designing.shares import line_share, share_of
from combe.designing.task import DesignChoice, Setting, Task
from combe.designing.weights import reweighted
from combe.designing.windowed.ideal import ideal_between, ideal_of
from combe.errors import CombeError, DesignError
from combe.filters import Fir
from combe.ledger import Line, gain_lines
from combe.rounding.finest import finest_integers
from combe.values import replace
from tests.support import BAT, LOWPASS, asked, plain_gain_db

HIGH = asked(2, (0, 0.3, -40), (0.4, 1, -0.1, 0.1))
SLOPED = asked(2, (0, 0.3, [[0, -1.1], [0.3, 4.9]], [[0, 1.1], [0.3, 5.1]]), (0.4, 1, -40))


class Shares(unittest.TestCase):
    def test_a_limit_filled_exactly_is_a_share_of_one(self) -> None:
        for line in (
            Line("b0", 0, "max_db", 0.1, 0.1, 0.0, 0.1), Line("b0", 0, "min_db", -0.1, -0.1, 0.0, 0.1), Line("b1", 1, "max_db", -60, -60, 0.0, 0.5),
        ):  # fmt: skip
            self.assertAlmostEqual(line_share(line, LOWPASS), 1, places=12)
        half = Line("b1", 1, "max_db", -60, -60 + 20 * math.log10(0.5), 6.0, 0.5)
        self.assertAlmostEqual(line_share(half, LOWPASS), 0.5, places=12)

    def test_the_grid_share_agrees_with_the_true_extremes(self) -> None:
        for requirement in (LOWPASS, HIGH, BAT, SLOPED):
            for order in (20, 41, 60):
                try:
                    found = design(requirement, "least-squares", order).filter
                except CombeError:
                    continue
                assert isinstance(found, Fir)
                exact = share_of(gain_lines(found, requirement), requirement)
                if exact > 0.05:
                    self.assertAlmostEqual(share(found.array, requirement) / exact, 1, delta=0.02)
                self.assertEqual(len(shares(found.array, requirement)), len(pieces_of(requirement)))

    def test_cosine_sums_become_taps(self) -> None:
        source = np.random.default_rng(2)
        omega = np.linspace(0, np.pi, 40)
        for count in (7, 8):
            a = source.normal(size=(count + 1) // 2)
            steps = np.arange(len(a)) + (0 if count % 2 else 0.5)
            taps = from_cosines(a, count)
            wanted = np.cos(np.outer(omega, steps)) @ a
            found = np.cos(np.outer(omega, np.arange(count) - (count - 1) / 2)) @ taps
            np.testing.assert_allclose(found, wanted, atol=1e-12)


class Lengths(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(3, 200), st.integers(3, 200), st.integers(1, 400))
    def test_the_least_length_of_either_parity_is_found(self, odd: int, even: int, guess: int) -> None:
        least = {1: 2 * odd + 1, 0: 2 * even}

        def used(taps: int) -> float:
            return 0.5 if taps >= least[taps % 2] else 2.0

        self.assertEqual(least_length(used, guess, lambda _: True, 1000), min(least.values()))
        self.assertEqual(least_length(used, guess, lambda taps: taps % 2 == 1, 1000), least[1])

    def test_none_is_said_where_no_length_will_do(self) -> None:
        self.assertIsNone(least_length(lambda _: 2.0, 30, lambda _: True, 100))

    def test_even_counts_are_not_allowed_where_half_the_rate_is_kept(self) -> None:
        self.assertEqual([allowed_lengths(HIGH)(count) for count in (10, 11)], [False, True])
        self.assertEqual([allowed_lengths(LOWPASS)(count) for count in (10, 11)], [True, True])


class Moves(unittest.TestCase):
    def test_every_figure_relaxes_in_its_own_way(self) -> None:
        for figure in figures_of(BAT):
            amount = 100.0 if figure.unit == "hz" else 0.5
            after = figure.moved(BAT, amount)
            band, old = after.bands[figure.band_index], BAT.bands[figure.band_index]
            if figure.unit == "hz":
                self.assertLess(band.stop_hz - band.start_hz, old.stop_hz - old.start_hz)
                self.assertGreater(transition_beside(after, figure), transition_beside(BAT, figure))
            else:
                self.assertGreater(band.upper.first_db, old.upper.first_db)
            self.assertNotEqual(figure.value(after), figure.value(BAT))
        self.assertEqual(len(figures_of(BAT)), 7)
        self.assertNotIn("start", [figure.name for figure in figures_of(BAT) if figure.band_index == 0])

    def test_weights_set_the_ratio_of_the_rooms(self) -> None:
        heavy = reweighted(LOWPASS, (1.0, 5.0))
        keep, stop = heavy.bands
        assert keep.lower is not None
        room = (10 ** (keep.upper.first_db / 20) - 10 ** (keep.lower.first_db / 20)) / 2
        self.assertAlmostEqual(room / 10 ** (stop.upper.first_db / 20), 5, places=9)
        self.assertRaises(DesignError, reweighted, LOWPASS, (1.0,))
        self.assertRaises(DesignError, reweighted, LOWPASS, (1.0, 0.0))


class Caps(unittest.TestCase):
    def test_a_bulge_in_a_transition_is_found_with_its_height(self) -> None:
        wide = asked(2, (0, 0.1, -1, 1), (0.9, 1, -40))
        taps = (0.25, -1.5, 3.5, -1.5, 0.25)
        found = bulges(Fir(taps), wide)
        peak = np.max(plain_gain_db(taps, np.linspace(0.05, 0.45, 4001)))
        self.assertEqual(len(found), 1)
        self.assertAlmostEqual(found[0][2], float(peak), places=4)
        self.assertEqual(bulges(design(LOWPASS).filter, LOWPASS), [])

    def test_caps_lie_inside_their_transitions(self) -> None:
        for piece, (start, stop) in zip(transition_pieces(BAT), BAT.transitions()):
            turn = 2 * np.pi / BAT.sample_rate_hz
            self.assertTrue(start * turn < piece.start < piece.stop < stop * turn)
            self.assertAlmostEqual(piece.upper_db[0], 0.1 + 0.5)

    def test_methods_hold_wide_transitions_down(self) -> None:
        wide = asked(2, (0, 0.05, -0.1, 0.1), (0.3, 0.35, -60), (0.6, 0.9, -0.1, 0.1))
        for method in ("equiripple", "least-squares", "constrained-least-squares", "kaiser", "optimized-iir"):
            self.assertEqual(bulges(design(wide, method).filter, wide), [], method)


class Fitting(unittest.TestCase):
    def test_reweighting_comes_near_the_minimax_line_through_an_exponential(self) -> None:
        x = np.cos(np.linspace(0, np.pi, 200))
        basis = np.column_stack([np.ones_like(x), x])
        found, error = minimax(basis, np.exp(x), np.ones_like(x), 80)
        slope = math.sinh(1)
        exact = (math.e - slope - (slope - slope * math.log(slope))) / 2
        self.assertAlmostEqual(error / exact, 1, delta=0.01)
        self.assertAlmostEqual(found[1], slope, delta=0.02)

    def test_complex_targets_are_fitted_with_real_numbers(self) -> None:
        omega = np.linspace(0, 2.5, 120)
        basis = np.exp(-1j * np.outer(omega, np.arange(9)))
        found, error = minimax(basis, np.exp(-4j * omega), np.ones_like(omega))
        np.testing.assert_allclose(found, np.eye(9)[4], atol=1e-6)
        self.assertLess(error, 1e-6)

    def test_singular_equations_are_solved_with_the_least_numbers(self) -> None:
        found = solve_symmetric(np.array([[1.0, 1.0], [1.0, 1.0]]), np.array([2.0, 2.0]))
        np.testing.assert_allclose(found, [1, 1], atol=1e-9)

    def test_ideal_taps_are_the_integral_of_the_target(self) -> None:
        middle = (np.arange(40_000) + 0.5) / 40_000 * np.pi
        for ideal in (ideal_of(LOWPASS), ideal_of(BAT), ideal_between("bandstop", [0.7, 1.9])):
            step = np.searchsorted(ideal.edge, middle, side="right") - 1
            gain = ideal.gain[np.minimum(step, len(ideal.gain) - 1)]
            for count in (11, 12):
                n = np.arange(count) - (count - 1) / 2
                exact = [float(np.mean(gain * np.cos(k * middle))) for k in n]
                np.testing.assert_allclose(ideal.taps(count), exact, atol=1e-4)

    def test_crowded_grids_reach_every_edge(self) -> None:
        omega, owner = crowded(pieces_of(BAT), 300)
        for number, piece in enumerate(pieces_of(BAT)):
            mine = omega[owner == number]
            self.assertEqual((mine[0], mine[-1]), (piece.start, piece.stop))


class Asking(unittest.TestCase):
    def test_settings_are_checked_and_fall_back(self) -> None:
        setting = Setting("q", "", "sharpness", 1.0, 10.0, 2.0)
        self.assertEqual((setting.checked(None), setting.checked(3.0)), (2.0, 3.0))
        with self.assertRaises(DesignError) as caught:
            setting.checked(11.0)
        self.assertIn("from 1 to 10", caught.exception.sentence())

    def test_what_a_task_lacks_is_named(self) -> None:
        task = Task(None, 2.0, DesignChoice("elliptic"))
        for part in ("asked", "order"):
            with self.assertRaises(DesignError):
                getattr(task, part)
        self.assertEqual(task.with_order(5).order, 5)
        self.assertIsNone(DesignChoice(settings=(("a", 1.0),)).setting("b"))


class Costs(unittest.TestCase):
    def test_parts_in_a_row_are_counted_one_by_one(self) -> None:
        parts = (Fir((1.0, 0.0, 2.0, 0.0, 1.0)), Fir((0.3, 0.4, 0.3)))
        whole = Fir(tuple(np.convolve(parts[0].taps, parts[1].taps).tolist()))
        limited = replace(LOWPASS, max_multiplies=4)
        made = Design("interpolated-fir", whole, 2.0, limited, parts=parts)
        self.assertEqual(cost_of_design(made).multiplies, 4)
        line = next(line for line in lines_of_design(made, limited) if line.limit == "max_multiplies")
        self.assertEqual((line.reached, line.margin), (4, 0))

    @settings(max_examples=80, deadline=None)
    @given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=9), st.integers(2, 40) | st.integers(50, 70))
    def test_the_finest_integers_are_nearest_and_one_more_bit_would_not_fit(
        self, values: list[float], bits: int
    ) -> None:
        found, integers = finest_integers(tuple(values), bits)
        step = Fraction(2) ** -found.fraction
        for value, integer in zip(values, integers):
            self.assertTrue(found.holds(integer))
            self.assertLessEqual(abs(Fraction(value) - integer * step), step / 2)
        if any(values):
            self.assertTrue(any(not found.holds(round(Fraction(value) / (step / 2))) for value in values))
