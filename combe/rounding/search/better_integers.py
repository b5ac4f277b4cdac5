"""Better integers: which way each tap is rounded decides how much of the margin is left.

Rounding every tap to its nearest integer is one choice of many. A search over single steps, then over pairs of steps,
keeps whichever lowers the largest share of the tolerances used (Kodek & Steiglitz 1981, "Comparison of optimal and local
search methods for designing finite wordlength FIR digital filters"). For short filters a mixed-integer program follows,
which proves how much better any integers could be; for longer ones the share the real taps use stands beside it.
"""

from __future__ import annotations

from collections.abc import Callable
from threading import Lock

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.equiripple.problem import Table, pieces_of
from combe.errors import Stopped
from combe.requirement import Requirement

Array = NDArray[np.float64]
POINTS_PER_TAP = 8
MOST_PAIRED = 90
MOST_MOVES = 400
GAINS = 9
SHORT, SECONDS = 14, 4.0
"""Up to this many free taps a mixed-integer program is given so many seconds to do better, or to prove that none can."""


class Better(Struct, frozen=True):
    """Integers, the share of the tolerances they use, what the real taps use, and a share no integers of this width go
    below (None where only a local search was made)."""

    integers: tuple[int, ...]
    share: float
    real_share: float
    proved_share: float | None = None

    def sentence(self) -> str:
        """How good they are, in words."""
        used = f"They use {100 * self.share:.1f} % of the tolerances, the real taps {100 * self.real_share:.1f} %"
        if self.proved_share is None:
            return f"{used}; found by a local search, with no proof that no others do better."
        if self.share <= self.proved_share * (1 + 1e-6) + 1e-9:
            return f"{used}; proved: no integers of this width use less."
        return f"{used}; proved: none of this width use less than {100 * self.proved_share:.1f} %."


REMEMBERED = 64
_found: dict[object, Better] = {}
_lock = Lock()
"""Several lanes may ask at once; what one has found the others take."""


def better_integers(
    taps: tuple[float, ...],
    symmetry: int,
    requirement: Requirement,
    fraction: int,
    limits: tuple[int, int],
    is_stopped: Callable[[], bool] = lambda: False,
) -> Better:
    """Integers for symmetric or antisymmetric taps.

    Parameters
    ----------
    fraction
        Fraction bits of the coefficients: an integer k stands for k·2^(−fraction).
    limits
        The least and the largest integer allowed.
    """
    key = taps, symmetry, requirement, fraction, limits
    with _lock:
        known = _found.get(key)
    if known is not None:
        return known
    made = _better(taps, symmetry, requirement, fraction, limits, is_stopped)
    if is_stopped():
        return made  # half a search is not what the next one should get
    with _lock:
        while len(_found) >= REMEMBERED:
            _found.pop(next(iter(_found)))
        return _found.setdefault(key, made)


def _better(
    taps: tuple[float, ...],
    symmetry: int,
    requirement: Requirement,
    fraction: int,
    limits: tuple[int, int],
    is_stopped: Callable[[], bool],
) -> Better:
    problem = Problem(len(taps), symmetry, requirement, fraction)
    exact = problem.unique(np.array(taps)) * 2.0**fraction
    best, least = np.round(exact), np.inf
    for gain in problem.gains(exact):
        start = np.clip(np.round(exact * gain), *limits)
        found, used = searched(problem, start, limits, is_stopped)
        if used < least:
            best, least = found, used
    proved = None
    if len(exact) <= SHORT and not is_stopped():
        best, least, proved = _programmed(problem, best, least, limits)
    whole = problem.whole(best.astype(np.int64))
    return Better(tuple(int(k) for k in whole), float(least), problem.share(exact), proved)


def _programmed(
    problem: Problem, best: Array, least: float, limits: tuple[int, int]
) -> tuple[Array, float, float | None]:
    """The least share by a mixed-integer program (Kodek 1980), within a few seconds: what it found and what it proved.

    Its grid lies within the bands, so that its bound holds for the whole bands.
    """
    from scipy.optimize import Bounds, LinearConstraint, milp

    count = problem.columns.shape[1]
    ones = np.ones((len(problem.target), 1))
    over = LinearConstraint(np.hstack([problem.columns, -ones]), -np.inf, problem.target)
    under = LinearConstraint(np.hstack([problem.columns, ones]), problem.target, np.inf)
    box = Bounds(np.append(np.full(count, limits[0]), 0.0), np.append(np.full(count, limits[1]), least * (1 + 1e-9)))
    answer = milp(
        np.append(np.zeros(count), 1.0), constraints=[over, under], bounds=box,
        integrality=np.append(np.ones(count), 0), options={"time_limit": SECONDS},
    )  # fmt: skip
    proved = getattr(answer, "mip_dual_bound", None)
    bound = None if proved is None or not np.isfinite(proved) else max(float(proved), 0.0)
    if answer.x is not None:
        values = np.round(answer.x[:count])
        used = problem.share(values)
        if used < least:
            return values, used, bound
    return best, least, bound


class Problem:
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


def searched(
    problem: Problem, start: Array, limits: tuple[int, int], is_stopped: Callable[[], bool]
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
    problem: Problem, values: Array, error: Array, limits: tuple[int, int], largest: float
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


def _best_pair(problem: Problem, values: Array, error: Array, limits: tuple[int, int], largest: float) -> Array | None:
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
