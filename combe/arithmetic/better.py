"""Better integers: which way each tap is rounded decides how much of the margin is left.

Rounding every tap to its nearest integer is one choice of many. A search over single steps, then over pairs of steps,
keeps whichever lowers the largest share of the tolerances used (Kodek & Steiglitz 1981, "Comparison of optimal and local
search methods for designing finite wordlength FIR digital filters"). A local search: better, not proved best; the share
the real taps use stands beside it.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from combe.design.equiripple.problem import Table, pieces_of
from combe.errors import Stopped
from combe.requirement import Requirement

Array = NDArray[np.float64]
POINTS_PER_TAP = 8
MOST_PAIRED = 90
MOST_MOVES = 400
GAINS = 9


def better_integers(
    taps: tuple[float, ...],
    symmetry: int,
    requirement: Requirement,
    fraction: int,
    limits: tuple[int, int],
    is_stopped: Callable[[], bool] = lambda: False,
) -> tuple[tuple[int, ...], float, float]:
    """Integers for symmetric or antisymmetric taps, the share of the tolerances they use, and the real taps' own.

    Parameters
    ----------
    fraction
        Fraction bits of the coefficients: an integer k stands for k·2^(−fraction).
    limits
        The least and the largest integer allowed.
    """
    problem = _Problem(len(taps), symmetry, requirement, fraction)
    exact = problem.unique(np.array(taps)) * 2.0**fraction
    bound = problem.share(exact)
    best, least = np.round(exact), np.inf
    for gain in problem.gains(exact):
        start = np.clip(np.round(exact * gain), *limits)
        found, used = _searched(problem, start, limits, is_stopped)
        if used < least:
            best, least = found, used
    whole = problem.whole(best.astype(np.int64))
    return tuple(int(k) for k in whole), float(least), float(bound)


class _Problem:
    """The error at many frequencies as a linear function of the integers that may be chosen freely."""

    def __init__(self, count: int, symmetry: int, requirement: Requirement, fraction: int) -> None:
        self.count, self.symmetry = count, symmetry
        pieces = pieces_of(requirement)
        table = Table.of(pieces)
        parts, owner = [], []
        for number, piece in enumerate(pieces):
            points = max(9, int(POINTS_PER_TAP * count * (piece.stop - piece.start) / np.pi))
            parts.append(np.linspace(piece.start, piece.stop, points))
            owner.append(np.full(points, number))
        omega = np.concatenate(parts)
        target, room = table.target(omega, np.concatenate(owner))
        offset = (count - 1) / 2 - np.arange((count + 1) // 2 if symmetry == 1 else count // 2)
        wave = np.cos if symmetry == 1 else np.sin
        columns = 2 * wave(np.outer(omega, offset))
        if symmetry == 1 and count % 2:
            columns[:, -1] /= 2
        self.columns = columns / room[:, None] * 2.0**-fraction
        self.target = target / room
        self.room, self.middle = room, target

    def unique(self, taps: Array) -> Array:
        """The taps that may be chosen freely."""
        return taps[: self.columns.shape[1]]

    def whole(self, half: NDArray[np.int64]) -> NDArray[np.int64]:
        """All taps from those."""
        rest = half[: self.count // 2][::-1] * self.symmetry
        middle = [0] if self.symmetry == -1 and self.count % 2 else []
        return np.concatenate([half, middle, rest]).astype(np.int64)

    def share(self, values: Array) -> float:
        """The largest share of the tolerances."""
        return float(np.max(np.abs(self.columns @ values - self.target)))

    def gains(self, exact: Array) -> Array:
        """Small changes of the gain that leave room in the passbands: each rounds to other integers."""
        passes = self.middle > 0
        room = float(np.min(self.room[passes] / self.middle[passes])) if np.any(passes) else 0.0
        spare = max(0.0, 1 - min(self.share(exact), 1.0))
        return 1 + np.linspace(-0.8, 0.8, GAINS) * room * max(spare, 0.05)


def _searched(
    problem: _Problem, start: Array, limits: tuple[int, int], is_stopped: Callable[[], bool]
) -> tuple[Array, float]:
    """Single steps, then pairs of steps, as long as one of them lowers the largest share."""
    values = start.copy()
    error = problem.columns @ values - problem.target
    largest = float(np.max(np.abs(error)))
    for _ in range(MOST_MOVES):
        if is_stopped():
            raise Stopped
        move = _best_single(problem, values, error, limits, largest)
        if move is None and problem.columns.shape[1] <= MOST_PAIRED:
            move = _best_pair(problem, values, error, limits, largest)
        if move is None:
            break
        values = values + move
        error = problem.columns @ values - problem.target
        largest = float(np.max(np.abs(error)))
    return values, largest


def _best_single(
    problem: _Problem, values: Array, error: Array, limits: tuple[int, int], largest: float
) -> Array | None:
    best, move = largest * (1 - 1e-9), None
    for way in (1.0, -1.0):
        after = np.max(np.abs(error[:, None] + way * problem.columns), axis=0)
        after[(values + way < limits[0]) | (values + way > limits[1])] = np.inf
        at = int(np.argmin(after))
        if after[at] < best:
            best = float(after[at])
            move = np.zeros(len(values))
            move[at] = way
    return move


def _best_pair(problem: _Problem, values: Array, error: Array, limits: tuple[int, int], largest: float) -> Array | None:
    """The first tap's step taken, the best second one beside it."""
    best, move = largest * (1 - 1e-9), None
    for first in range(len(values)):
        for way in (1.0, -1.0):
            if not limits[0] <= values[first] + way <= limits[1]:
                continue
            tried = error + way * problem.columns[:, first]
            for other in (1.0, -1.0):
                after = np.max(np.abs(tried[:, None] + other * problem.columns), axis=0)
                after[(values + other < limits[0]) | (values + other > limits[1])] = np.inf
                after[first] = np.inf
                at = int(np.argmin(after))
                if after[at] < best:
                    best = float(after[at])
                    move = np.zeros(len(values))
                    move[first] += way
                    move[at] += other
    return move
