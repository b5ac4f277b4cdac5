"""Exchanges of points against a linear program, from scratch and where points have come and gone."""

from __future__ import annotations

import unittest

import numpy as np
from scipy.optimize import linprog

from combe.designing.rates.least_worst import LeastWorst
from tests.support import examples

Array = np.ndarray


def by_program(rows: Array, middles: Array, is_cap: Array, cap: float) -> float:
    """The least worst error as SciPy finds it; infinite where the caps can't be kept."""
    worst = np.where(is_cap, 0.0, -1.0)[:, None]
    limits = np.tile(np.where(is_cap, cap, 0.0), 2) + np.concatenate([middles, -middles])
    aim = np.append(np.zeros(rows.shape[1]), 1.0)
    bounds = [(None, None)] * rows.shape[1] + [(0, None)]
    found = linprog(aim, np.vstack([np.hstack([rows, worst]), np.hstack([-rows, worst])]), limits, bounds=bounds)
    return float(found.fun) if found.status == 0 else np.inf


def points(source: np.random.Generator, count: int, unknowns: int) -> tuple[Array, Array, Array]:
    """A band to be near one and another near nothing, in cosines, and caps between."""
    omega = np.sort(source.uniform(0, np.pi, count))
    rows = np.cos(np.outer(omega, np.arange(unknowns))) * np.where(omega < 1.2, 1.0, source.uniform(1, 30))[:, None]
    return rows, np.where(omega < 1.2, 1.0, 0.0), (omega > 1.2) & (omega < 1.7)


class Exchanges(unittest.TestCase):
    def test_the_error_is_that_of_a_linear_program(self) -> None:
        source = np.random.default_rng(5)
        bound = 0
        for _ in range(examples(120)):
            unknowns = int(source.integers(1, 14))
            rows, middles, is_cap = points(source, int(source.integers(4 * unknowns + 8, 200)), unknowns)
            cap = float(source.choice((0.05, 0.3, 1.0, 3.0, 40.0)))
            search = LeastWorst(unknowns)
            search.add(rows, middles, is_cap)
            error, found = search.solved(cap)
            wanted = by_program(rows, middles, is_cap, cap)
            if np.isinf(wanted):
                self.assertIsNone(found)
                continue
            self.assertAlmostEqual(error, wanted, delta=1e-7)
            assert found is not None
            off = np.abs(rows @ found - middles)
            self.assertLessEqual(float(np.max(off[~is_cap])), error + 1e-8)
            self.assertLessEqual(float(np.max(off[is_cap], initial=0.0)), cap + 1e-8)
            bound += bool(np.any(off[is_cap] > cap - 1e-8))
        self.assertGreater(bound, 0, "caps that bind were among them")

    def test_it_goes_on_where_points_have_come_and_gone(self) -> None:
        source = np.random.default_rng(6)
        for _ in range(examples(40)):
            unknowns = int(source.integers(3, 12))
            search = LeastWorst(unknowns)
            for turn in range(4):
                search.add(*points(source, 60 if not turn else 12, unknowns))
                error, found = search.solved(20.0)
                self.assertAlmostEqual(error, by_program(search.rows, search.middles, search.is_cap, 20.0), delta=1e-7)
                assert found is not None
                before = len(search.rows)
                search.keep(0.6, error, 20.0)
                self.assertLess(len(search.rows), before)
                again, _ = search.solved(20.0)
                self.assertAlmostEqual(again, error, delta=1e-9, msg="what determines it has stayed")

    def test_what_can_be_met_exactly_is_and_goes_on_from_there(self) -> None:
        source = np.random.default_rng(8)
        rows, _, _ = points(source, 80, 6)
        search = LeastWorst(6)
        search.add(rows, rows @ np.arange(6.0), np.zeros(80, dtype=bool))
        error, found = search.solved(1.0)
        self.assertLess(error, 1e-8)
        np.testing.assert_allclose(found, np.arange(6.0), atol=1e-8)
        search.keep(0.6, 1.0, 1.0)
        self.assertEqual(len(search.rows), 7)
        search.add(np.ones((1, 6)), np.array([30.0]), np.zeros(1, dtype=bool))
        self.assertAlmostEqual(
            search.solved(1.0)[0], by_program(search.rows, search.middles, search.is_cap, 1.0), delta=1e-8
        )

    def test_what_determines_it_is_a_certificate(self) -> None:
        """Weights, all positive, with which the rows that are held cancel: no other coefficients are better (Cheney 1966)."""
        source = np.random.default_rng(7)
        for _ in range(examples(40)):
            unknowns = int(source.integers(2, 12))
            rows, middles, is_cap = points(source, 150, unknowns)
            is_cap[:] = False
            search = LeastWorst(unknowns)
            search.add(rows, middles, is_cap)
            error, _ = search.solved(1.0)
            own = search.signs[:, None] * rows[search.held]
            weights = np.linalg.lstsq(
                np.vstack([own.T, np.ones(unknowns + 1)]), np.append(np.zeros(unknowns), 1.0), rcond=None
            )[0]
            self.assertGreater(float(np.min(weights)), -1e-9)
            np.testing.assert_allclose(own.T @ weights, 0, atol=1e-9)
            self.assertAlmostEqual(-float(weights @ (search.signs * middles[search.held])), error, delta=1e-8)

    def test_too_few_points_are_told(self) -> None:
        search = LeastWorst(5)
        search.add(np.eye(5), np.ones(5), np.zeros(5, dtype=bool))
        with self.assertRaises(ArithmeticError):
            search.solved(1.0)
