"""The least worst error of a linear model over points, some with limits of their own: one point is exchanged at a time (Stiefel 1960).

That is the dual simplex method (Lemke 1954) for the least e with |rows·x − middles| <= e, or <= a cap at some of them. As many points
as there are coefficients, and one more, determine x and e; the one that lies farthest outside joins them, and the one leaves without
which the weights of the others stay positive. Points may be added or taken away between two runs, which go on where the last ended.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
OUTSIDE = 1e-10
"""How far outside a point must lie to be exchanged, in units of the largest middle."""
FRESH, MOST_TURNS = 64, 100
"""Exchanges until the inverse is worked out anew; and how often it is at most."""
TELLING = 1e-9
"""The smallest share of a point in another that counts."""


class LeastWorst:
    """``rows`` (points x coefficients), ``middles`` and ``is_cap`` (points); ``held`` are the places of the points that determine the
    answer, and ``signs`` tell whether the model lies above its middle there."""

    def __init__(self, count: int) -> None:
        self.rows: Array = np.zeros((0, count))
        self.middles, self.is_cap = np.zeros(0), np.zeros(0, dtype=bool)
        self.held: NDArray[np.intp] = np.zeros(0, dtype=np.intp)
        self.signs = np.zeros(0)
        self.answer = np.zeros(count)

    def add(self, rows: Array, middles: Array, is_cap: NDArray[np.bool_]) -> None:
        """More points."""
        self.rows = np.vstack([self.rows, rows])
        self.middles = np.concatenate([self.middles, middles])
        self.is_cap = np.concatenate([self.is_cap, is_cap])

    def keep(self, share: float, error: float, cap: float) -> None:
        """Only points where the last answer comes so near to its limit, and those that determine it."""
        which = np.abs(self.rows @ self.answer - self.middles) > share * np.where(self.is_cap, cap, error)
        which[self.held] = True
        self.held = (np.cumsum(which) - 1)[self.held]
        self.rows, self.middles, self.is_cap = self.rows[which], self.middles[which], self.is_cap[which]

    def solved(self, cap: float) -> tuple[float, Array | None]:
        """The least worst error and the coefficients that have it; infinite and none where the caps can't be kept.

        Raises
        ------
        ArithmeticError
            If there are fewer points than it takes, or rounding errors keep it from ending.
        """
        from combe.designing.rates.compiled_least_worst import exchanged

        weights, reach = np.where(self.is_cap, 0.0, 1.0), np.where(self.is_cap, cap, 0.0)
        if not len(self.held):
            self._begin()
        tolerance = OUTSIDE * max(float(np.max(np.abs(self.middles))), 1.0)
        for _ in range(MOST_TURNS):
            how, answer = exchanged(
                self.rows,
                self.middles,
                reach,
                weights,
                self.held,
                self.signs,
                self._inverted(weights),
                tolerance,
                TELLING,
                FRESH,
            )
            if how == 0:
                self.answer = answer[:-1]
                return max(float(answer[-1]), 0.0), self.answer
            if how == 2:
                return np.inf, None
        raise ArithmeticError("no end of exchanges")

    def _begin(self) -> None:
        """Points that no others are sums of, and one more: with signs for which all weights are positive."""
        from scipy.linalg import qr

        plain = np.flatnonzero(~self.is_cap)
        count = self.rows.shape[1]
        if len(plain) <= count:
            raise ArithmeticError("fewer points than coefficients")
        order = plain[qr(self.rows[plain].T, mode="r", pivoting=True)[1]]
        self.held = order[: count + 1].copy()
        shares = np.append(np.linalg.solve(self.rows[self.held[:-1]].T, self.rows[self.held[-1]]), -1.0)
        self.signs = np.where(shares > 0, 1.0, -1.0)

    def _inverted(self, weights: Array) -> Array:
        left = np.column_stack([self.signs[:, None] * self.rows[self.held], -weights[self.held]])
        return np.asarray(np.linalg.inv(left))
