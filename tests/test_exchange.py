"""The parts of the exchange, each against something that can be known without it."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np

from combe.designing.equiripple.exchange import (
    barycentric_weights,
    exchange,
    first_reference,
    fitted_reference,
    interpolate,
)
from combe.designing.equiripple.problem import Problem, Table, caps_of, fits_symmetry, pieces_of
from combe.designing.equiripple.taps import taps_of
from combe.designing.estimates import (
    estimated_taps,
    kaiser_equiripple_taps,
    needed_transition,
    reachable_attenuation_db,
    rounded_up,
)
from combe.designing.methods import design
from combe.requirement import Requirement
from tests.support import BAT, LOWPASS, asked

RANDOM = np.random.default_rng(18)


def problem(requirement: Requirement, taps: int, symmetry: int = 1) -> Problem:
    return Problem(pieces_of(requirement), taps, symmetry)


class Barycentric(unittest.TestCase):
    def test_a_polynomial_is_reproduced_everywhere(self) -> None:
        nodes = np.cos(np.pi * (np.arange(12) + 0.5) / 12)
        coefficients = RANDOM.normal(size=9)
        weights = barycentric_weights(nodes)
        x = np.linspace(-1, 1, 200)
        values = np.polynomial.chebyshev.chebval(nodes, coefficients)
        found = interpolate(x, nodes, values, weights)
        np.testing.assert_allclose(found, np.polynomial.chebyshev.chebval(x, coefficients), atol=1e-12)

    def test_at_a_node_stands_the_value_itself(self) -> None:
        nodes = np.array([-0.5, 0.1, 0.9])
        values = np.array([3.0, -1.0, 2.0])
        found = interpolate(nodes, nodes, values, barycentric_weights(nodes))
        np.testing.assert_array_equal(found, values)

    def test_weights_are_the_products_they_are_said_to_be(self) -> None:
        nodes = np.sort(RANDOM.uniform(-1, 1, 7))
        exact = np.array([1 / np.prod([2 * (a - b) for b in nodes if b != a]) for a in nodes])
        np.testing.assert_allclose(barycentric_weights(nodes), exact / np.max(np.abs(exact)), rtol=1e-12)

    def test_a_thousand_nodes_do_not_overflow(self) -> None:
        weights = barycentric_weights(np.cos(np.linspace(0.001, 3.1, 1500)))
        self.assertTrue(np.all(np.isfinite(weights)))
        self.assertEqual(np.max(np.abs(weights)), 1.0)


class References(unittest.TestCase):
    def test_a_first_reference_has_the_right_number_of_points_inside_the_bands(self) -> None:
        for requirement in (LOWPASS, BAT):
            for taps in (3, 10, 31, 120):
                for symmetry in (1, -1):
                    posed = problem(requirement, taps, symmetry)
                    reference = first_reference(posed)
                    self.assertEqual(len(reference), posed.unknowns + 1)
                    self.assertTrue(np.all(np.diff(reference) > 0))
                    inside = [any(p.start - 1e-4 <= w <= p.stop + 1e-4 for p in posed.pieces) for w in reference]
                    self.assertTrue(all(inside))

    def test_it_is_shared_out_by_the_widths_of_the_bands(self) -> None:
        reference = first_reference(problem(asked(2, (0, 0.5, -1, 1), (0.6, 1, -60)), 201))
        inside = np.count_nonzero(reference <= 0.5 * np.pi)
        self.assertAlmostEqual(inside / len(reference), 0.55, delta=0.06)

    def test_a_reference_of_another_length_is_stretched_to_fit(self) -> None:
        short = exchange(problem(LOWPASS, 31)).reference
        posed = problem(LOWPASS, 61)
        stretched = fitted_reference(posed, short)
        self.assertEqual(len(stretched), posed.unknowns + 1)
        self.assertTrue(np.all(np.diff(stretched) > 0))

    def test_where_an_edge_has_passed_several_points_those_of_its_band_stay_apart(self) -> None:
        there = exchange(problem(LOWPASS, 121)).reference
        for edge in (0.285, 0.3, 0.315):
            posed = problem(asked(2, (0, edge, -0.1, 0.1), (edge + 0.1, 1, -60)), 121)
            passed = np.count_nonzero((there > edge * np.pi) & (there < 0.32 * np.pi))
            self.assertEqual(passed > 2, edge < 0.3)
            fitted = fitted_reference(posed, there)
            self.assertEqual(len(fitted), len(there))
            self.assertGreater(np.min(np.diff(fitted)), np.min(np.diff(there)) / 4)
            self.assertTrue(all(any(p.start <= w <= p.stop for p in posed.pieces) for w in fitted))
            self.assertFalse(np.array_equal(fitted, first_reference(posed)))

    def test_where_the_symmetry_forces_a_zero_no_point_stands(self) -> None:
        reference = first_reference(problem(LOWPASS, 40))
        self.assertLess(reference[-1], np.pi)


class Exchanging(unittest.TestCase):
    def test_the_bound_never_exceeds_the_error_and_meets_it_in_the_end(self) -> None:
        found = exchange(problem(LOWPASS, 43))
        self.assertTrue(found.is_settled)
        self.assertLessEqual(found.bound, found.error * (1 + 1e-12))
        self.assertAlmostEqual(found.bound / found.error, 1, places=6)

    def test_more_taps_of_one_parity_are_never_worse(self) -> None:
        for parity in (0, 1):
            errors = [exchange(problem(LOWPASS, taps)).error for taps in range(20 + parity, 70, 2)]
            self.assertTrue(all(after <= before * (1 + 1e-6) for before, after in zip(errors, errors[1:])))

    def test_deciding_agrees_with_settling(self) -> None:
        for taps in range(45, 62):
            settled, decided = exchange(problem(LOWPASS, taps)), exchange(problem(LOWPASS, taps), None, True)
            self.assertEqual(settled.error <= 1, decided.error <= 1)

    def test_any_start_ends_in_the_same_filter(self) -> None:
        posed = problem(LOWPASS, 50)
        best = exchange(posed)
        for seed in range(3):
            start = np.sort(np.random.default_rng(seed).uniform(0, np.pi, posed.unknowns + 1))
            self.assertAlmostEqual(exchange(posed, start).error, best.error, delta=1e-6 * best.error)

    def test_taps_have_the_amplitude_that_was_found(self) -> None:
        for taps, symmetry in ((21, 1), (22, 1), (21, -1), (22, -1)):
            bands = asked(2, (0, 0.1, -30), (0.3, 0.6, -1, 1), (0.85, 1, -30))
            found = exchange(problem(bands, taps, symmetry))
            h = np.array(taps_of(found).taps)
            omega = np.linspace(0.05, 3.1, 50)
            turned = np.exp(1j * np.outer(omega, (taps - 1) / 2 - np.arange(taps))) @ h
            amplitude = turned.real if symmetry == 1 else turned.imag
            np.testing.assert_allclose(amplitude, found.amplitude(omega), atol=1e-10)


class Problems(unittest.TestCase):
    def test_targets_are_the_middle_and_the_room(self) -> None:
        table = Table.of(pieces_of(LOWPASS))
        target, room = table.target(np.array([0.1, 3.0]), np.array([0, 1]))
        high, low = 10 ** (0.1 / 20), 10 ** (-0.1 / 20)
        np.testing.assert_allclose(target, [(high + low) / 2, 0])
        np.testing.assert_allclose(room, [(high - low) / 2, 1e-3])

    def test_sloped_limits_are_straight_in_decibels(self) -> None:
        document = asked(2, (0, 0.3, -1, 1), (0.4, 1, [[0.4, -40], [1, -80]]))
        table = Table.of(pieces_of(document))
        self.assertFalse(table.is_flat)
        room = table.target(np.array([0.7 * np.pi]), np.array([1]))[1]
        self.assertAlmostEqual(20 * np.log10(room[0]), -60, places=9)

    def test_where_pieces_touch_the_tighter_counts(self) -> None:
        stepped = asked(2, (0, 0.3, -1, 1), (0.4, 1, [[0.4, -40], [0.6, -40], [0.6, -70], [1, -70]]))
        table = Table.of(pieces_of(stepped))
        self.assertEqual(table.tightest(np.array([0.6 * np.pi]))[0], 2)

    def test_symmetries_that_cannot_do_it_are_known(self) -> None:
        highpass = pieces_of(asked(2, (0, 0.3, -40), (0.5, 1, -1, 1)))
        self.assertIn("half the sample rate", fits_symmetry(highpass, 20, 1))
        self.assertEqual(fits_symmetry(highpass, 21, 1), "")
        self.assertEqual(fits_symmetry(highpass, 20, -1), "")
        self.assertIn("0 Hz", fits_symmetry(pieces_of(LOWPASS), 20, -1))

    def test_a_passband_at_half_any_sample_rate_is_seen_there(self) -> None:
        for rate in (44_100.0, 48_000.0, 250_000.0, 1 / 3, 7e9):
            pieces = pieces_of(asked(rate, (0, 0.1 * rate, -40), (0.2 * rate, rate / 2, -1, 1)))
            self.assertNotEqual(fits_symmetry(pieces, 20, 1), "")

    def test_caps_keep_clear_of_the_bands(self) -> None:
        caps = caps_of(BAT, frozenset({0, 1}), 0.6, 50)
        self.assertEqual(len(caps), 2)
        self.assertGreater(caps[0].start, BAT.bands[0].stop_hz / BAT.sample_rate_hz * 2 * np.pi)
        self.assertLess(caps[0].stop, BAT.bands[1].start_hz / BAT.sample_rate_hz * 2 * np.pi)


class Estimates(unittest.TestCase):
    def test_they_come_near_what_the_search_finds(self) -> None:
        for requirement in (LOWPASS, BAT, asked(2, (0, 0.3, -60), (0.35, 1, -0.1, 0.1))):
            guess, pair = estimated_taps(requirement)
            self.assertIsNotNone(pair)
            self.assertAlmostEqual(guess / (design(requirement).order + 1), 1, delta=0.12)

    def test_the_formula_is_solved_for_each_of_its_terms(self) -> None:
        taps = kaiser_equiripple_taps(0.01, 0.001, 0.05)
        self.assertAlmostEqual(needed_transition(0.01, 0.001, round(taps)), 0.05, delta=0.002)
        self.assertAlmostEqual(reachable_attenuation_db(0.01, round(taps), 0.05), 60, delta=2)
        self.assertEqual(rounded_up(0.2), 1)
        self.assertEqual(kaiser_equiripple_taps(0.1, 0.1, 0), np.inf)

    def test_bands_of_one_gain_need_no_transition(self) -> None:
        self.assertEqual(estimated_taps(asked(2, (0, 0.3, -1, 1), (0.31, 1, -1.1, 1.1)))[1], None)


class Compiled(unittest.TestCase):
    def test_the_compiled_sums_are_the_plain_ones(self) -> None:
        from combe.designing.equiripple.compiled import barycentric
        from combe.designing.equiripple.exchange import barycentric_weights, interpolate

        nodes = np.cos(np.pi * (np.arange(300) + 0.5) / 300)
        weights = barycentric_weights(nodes)
        values = np.exp(nodes) * np.cos(40 * nodes)
        x = np.concatenate([np.cos(np.linspace(0.01, 3.1, 701)), nodes[::50]])
        found = barycentric(x, nodes, values, weights)
        np.testing.assert_allclose(found, interpolate(x, nodes, values, weights), atol=1e-12)
        np.testing.assert_allclose(found, np.exp(x) * np.cos(40 * x), atol=1e-10)

    def test_loops_compile_where_no_folder_can_be_written_to(self) -> None:
        import numba

        from combe.jit import compiled

        real = numba.njit

        def refusing(**options: object) -> object:
            if options.pop("cache", False):
                raise RuntimeError("no locator available")
            return real(**options)

        with mock.patch("numba.njit", refusing):
            twice = compiled()(lambda x: 2 * x)
        self.assertEqual(twice(21), 42)
