"""The point of least squared distance to another under peak limits on its amplitude, by an exchange of extremes.

With the limits on a growing set of extremes, each problem is one of least distance, which non-negative least squares solves
exactly (Lawson & Hanson 1974, chapter 23).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from combe.designing.caps import transition_pieces
from combe.designing.equiripple.problem import Table, pieces_of
from combe.designing.linear_phase import cosine_steps
from combe.errors import Stopped
from combe.requirement import Requirement

Array = NDArray[np.float64]
ROUNDS = 60
TIGHTER = 1e-4
POINTS_PER_STEP = 28


class Limits:
    """The limits of a requirement on the amplitude of so many symmetric taps."""

    def __init__(self, asked: Requirement, taps: int) -> None:
        pieces = (*pieces_of(asked), *transition_pieces(asked))
        self.table = table = Table.of(pieces)
        self.steps = cosine_steps(taps)
        parts, owner = [], []
        for number, piece in enumerate(pieces):
            count = max(17, int(POINTS_PER_STEP * len(self.steps) * (piece.stop - piece.start) / np.pi))
            parts.append(np.linspace(piece.start, piece.stop, count))
            owner.append(np.full(count, number))
        self.omega, self.owner = np.concatenate(parts), np.concatenate(owner)
        target, room = table.target(self.omega, self.owner)
        self.target, self.room = target, room * (1 - TIGHTER)
        self.cosines = np.cos(np.outer(self.omega, self.steps))

    def violations(self, a: Array) -> tuple[list[Array], list[float], float]:
        """Rows g·a ≤ h at each local extreme of the error beyond its limit."""
        error = (self.cosines @ a - self.target) / self.room
        size = np.abs(error)
        left = np.append(np.inf, size[:-1])
        right = np.append(size[1:], np.inf)
        new = np.append(True, self.owner[1:] != self.owner[:-1])
        left = np.where(new, -np.inf, left)
        right = np.where(np.append(new[1:], True), -np.inf, right)
        peaks = np.flatnonzero((size >= left) & (size >= right) & (size > 0.9))
        omega = self._tops(peaks, size, new)
        target, room = self.table.target(omega, self.owner[peaks])
        room = room * (1 - TIGHTER)
        cosines = np.cos(np.outer(omega, self.steps))
        at_top = (cosines @ a - target) / room
        over = np.flatnonzero(np.abs(at_top) > 1 + TIGHTER / 4)
        sign = np.sign(at_top)
        # In units of the tolerance, so that all rows weigh alike.
        rows = [sign[k] * cosines[k] / room[k] for k in over]
        bounds = [1.0 + sign[k] * target[k] / room[k] for k in over]
        return rows, bounds, float(np.max(np.abs(at_top), initial=0.0) - 1)

    def _tops(self, peaks: NDArray[np.intp], size: Array, new: NDArray[np.bool_]) -> Array:
        """Grid peaks moved to the tops of parabolas, those at an edge left where they are."""
        omega = self.omega[peaks].copy()
        last = np.append(new[1:], True)
        inner = ~new[peaks] & ~last[peaks]
        at = peaks[inner]
        before, here, after = size[at - 1], size[at], size[at + 1]
        bend = before - 2 * here + after
        shift = np.where(bend < 0, 0.5 * (before - after) / np.where(bend < 0, bend, -1.0), 0.0)
        omega[inner] += np.clip(shift, -1, 1) * (self.omega[at + 1] - self.omega[at])
        return omega


Turn = Callable[[Array], Array]


def nearest_within(
    limits: Limits, free: Array, whitened: Turn, back: Turn, is_stopped: Callable[[], bool]
) -> Array | None:  # fmt: skip
    """Cosine coefficients nearest to ``free`` that keep the limits; None where none do.

    Parameters
    ----------
    whitened, back
        What turns rows g (of g·a) into rows of unknowns in which distance is plain, and such unknowns into those of a.
    """
    a = free
    rows: list[Array] = []
    bounds: list[float] = []
    for _ in range(ROUNDS):
        if is_stopped():
            raise Stopped
        new_rows, new_bounds, worst = limits.violations(a)
        if worst <= TIGHTER / 2:
            return a
        rows += new_rows
        bounds += new_bounds
        solved = _nearest(np.array(rows), np.array(bounds), free, whitened)
        if solved is None:
            return None
        a, active = free + back(solved[0]), solved[1]
        if len(rows) > 2 * len(a):
            # What isn't touched may go: those that are touched hold the distance, which only grows.
            rows = [row for row, kept in zip(rows, active) if kept]
            bounds = [bound for bound, kept in zip(bounds, active) if kept]
    return None


def _nearest(rows: Array, bounds: Array, free: Array, whitened: Turn) -> tuple[Array, NDArray[np.bool_]] | None:
    """The way from the free solution with rows·a ≤ bounds: min |u| with G u ≥ h by NNLS."""
    # Imported late: the window opens without it.
    from scipy.optimize import nnls

    g = -whitened(rows)
    h = rows @ free - bounds
    matrix = np.vstack([g.T, h[None, :]])
    side = np.zeros(len(matrix))
    side[-1] = 1.0
    try:
        dual, _ = nnls(matrix, side, maxiter=20 * matrix.shape[1])
    except RuntimeError:
        return None
    residual = matrix @ dual - side
    if abs(residual[-1]) < 1e-12:
        return None
    return -residual[:-1] / residual[-1], dual > 0
