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
POINTS_PER_TAP, POINTS_PER_LONG_TAP, LONG = 32, 20, 64
"""How finely errors are looked at, more finely up to so many taps."""
MOST_PAIRED = 120
MOST_MOVES = 400
GAINS, FOLLOWED, PAIRED, KICKS = 61, 40, 10, 800
"""Changes of the gain that are rounded, of those the ones searched by single steps and by pairs; fresh starts after that."""
CRITICAL, VERIFIED, MOST_COLUMNS, NEAR_WORST, NEARLY = 64, 96, 2000, 0.8, 1.3
BELOW = 1 - 1e-9
"""A step has to lower the largest share by more than rounding."""
RETURN, SLACK = 40, 0.02
"""Kicks go on from what is hardly worse than the best, and come back to it after so many."""
TOLD = 1e-9
"""Of the largest in the triangle: what lies below says nothing of a tap."""
HOPELESS = 2.0
"""Where a share of so many is left after rounding, no search brings it below one."""
FEW, NODES, AT_MOST_S = 9, 4000, 60.0
"""Up to this many free taps a mixed-integer program may do better, in so many nodes: what comes out must be the same on every
machine, so that no clock may end it. The seconds are out of any machine's reach."""
SHORT, SECONDS = 14, 4.0
"""Up to this many it is given so many seconds to prove how much better any could be; its integers aren't taken."""
NOTHING_LEFT = 2e-3
"""So near to what any real taps reach nothing is looked for any more."""


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
    enough: float = 0.0,
) -> Better:
    """Integers for symmetric or antisymmetric taps.

    Parameters
    ----------
    fraction
        Fraction bits of the coefficients: an integer k stands for k·2^(−fraction).
    limits
        The least and the largest integer allowed.
    enough
        A share at which the search may end.
    """
    key = taps, symmetry, requirement, fraction, limits, enough
    with _lock:
        known = _found.get(key)
    if known is not None:
        return known
    made = _better(taps, symmetry, requirement, fraction, limits, is_stopped, enough)
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
    enough: float,
) -> Better:
    problem = Problem(len(taps), symmetry, requirement, fraction)
    enough *= problem.certain
    exact = problem.unique(np.array(taps)) * 2.0**fraction
    starts = [np.clip(np.round(exact * gain), *limits) for gain in problem.gains(exact)]
    starts += [np.clip(start, *limits) for start in problem.rounded_in_turn(exact)]
    starts.append(np.clip(np.round(exact), *limits))
    ranked = sorted(((problem.share(start), k) for k, start in enumerate(starts)))
    best, least = starts[ranked[0][1]], ranked[0][0]
    hopeless = max(HOPELESS * enough, HOPELESS if enough else np.inf)
    proved = _relaxed(problem, limits) if len(exact) <= SHORT and least > enough else None
    # What real taps can't do better integers can't either: nothing is left to be looked for.
    aim = max(enough, proved * (1 + NOTHING_LEFT) if proved is not None else 0.0)
    near: list[tuple[float, int, Array]] = []
    for used, k in ranked[: max(FOLLOWED, MOST_COLUMNS // len(exact))]:
        if least <= aim or used > hopeless:
            break
        found, used = searched(problem, starts[k], limits, is_stopped, False)
        near.append((used, k, found))
        best, least = (found, used) if used < least else (best, least)
    for used, _, start in sorted(near, key=lambda each: each[:2])[: max(PAIRED, MOST_COLUMNS // len(exact))]:
        if least <= aim or used > hopeless:
            break
        found, used = searched(problem, start, limits, is_stopped)
        best, least = (found, used) if used < least else (best, least)
    if least > aim and (not enough or least <= NEARLY * enough):
        best, least = _kicked(problem, best, least, limits, is_stopped, enough)
    if least > aim and (not enough or least < 1.3) and len(exact) <= SHORT and not is_stopped():
        if len(exact) <= FEW:
            best, least, proved = _programmed(
                problem, best, least, limits, {"node_limit": NODES, "time_limit": AT_MOST_S}
            )
        elif not enough:
            _, _, proved = _programmed(problem, best, least, limits, {"time_limit": SECONDS})
    whole = problem.whole(best.astype(np.int64))
    return Better(tuple(int(k) for k in whole), float(least), problem.share(exact), proved)


def _relaxed(problem: Problem, limits: tuple[int, int]) -> float | None:
    """The least share of any real taps within the format's ends: no integers go below it."""
    from scipy.optimize import linprog

    count = problem.columns.shape[1]
    ones = np.ones((len(problem.target), 1))
    sides = np.vstack([np.hstack([problem.columns, -ones]), np.hstack([-problem.columns, -ones])])
    room = np.concatenate([problem.target, -problem.target])
    box = [(float(limits[0]), float(limits[1]))] * count + [(0.0, None)]
    answer = linprog(np.append(np.zeros(count), 1.0), sides, room, bounds=box, method="highs")
    return float(answer.fun) if answer.status == 0 else None


def _corners(problem: Problem, least: float, limits: tuple[int, int]) -> tuple[Array, Array]:
    """Between which values each tap lies in anything that uses no more than ``least``: two linear programs for each. A
    mixed-integer program within them is through in a tenth of the time."""
    from scipy.optimize import linprog

    count = problem.columns.shape[1]
    sides = np.vstack([problem.columns, -problem.columns])
    room = np.concatenate([problem.target + least, least - problem.target])
    box = [(float(limits[0]), float(limits[1]))] * count
    ends = np.array([[float(limits[0])] * count, [float(limits[1])] * count])
    for k in range(count):
        for row, way in enumerate((1.0, -1.0)):
            aim = np.zeros(count)
            aim[k] = way
            answer = linprog(aim, sides, room, bounds=box, method="highs")
            if answer.status == 0:
                # A millionth of a step more than the arithmetic of the program is sure of.
                ends[row, k] = np.ceil(answer.fun - 1e-6) if row == 0 else np.floor(-answer.fun + 1e-6)
    return ends[0], ends[1]


def _programmed(
    problem: Problem, best: Array, least: float, limits: tuple[int, int], bounds: dict[str, float]
) -> tuple[Array, float, float | None]:
    """The least share by a mixed-integer program (Kodek 1980), within bounds: what it found and what it proved.

    Its grid lies within the bands, so that its bound holds for the whole bands.
    """
    from scipy.optimize import Bounds, LinearConstraint, milp

    count = problem.columns.shape[1]
    ones = np.ones((len(problem.target), 1))
    over = LinearConstraint(np.hstack([problem.columns, -ones]), -np.inf, problem.target)
    under = LinearConstraint(np.hstack([problem.columns, ones]), problem.target, np.inf)
    low, high = _corners(problem, least * (1 + 1e-9), limits)
    box = Bounds(np.append(low, 0.0), np.append(high, least * (1 + 1e-9)))
    answer = milp(
        np.append(np.zeros(count), 1.0), constraints=[over, under], bounds=box,
        integrality=np.append(np.ones(count), 0), options=bounds,
    )  # fmt: skip
    proved = getattr(answer, "mip_dual_bound", None)
    bound = None if proved is None or not np.isfinite(proved) else max(float(proved), 0.0)
    if answer.x is not None:
        values = np.round(answer.x[:count])
        used = problem.share(values)
        if used < least:
            return values, used, bound
    return best, least, bound


ORDERS = 6


def _kicked(
    problem: Problem, best: Array, least: float, limits: tuple[int, int], is_stopped: Callable[[], bool], enough: float
) -> tuple[Array, float]:
    """From the best so far a few taps are moved at random, and the search goes on from there: it leaves the hollow that
    single steps and pairs end in (the same numbers every time)."""
    source = np.random.default_rng(len(best))
    here, level = best, least
    for kick in range(KICKS if enough else KICKS // 4):
        if least <= enough:
            break
        if kick % RETURN == 0:
            here, level = best, least
        start = here.copy()
        moved = source.choice(len(best), min(len(best), int(source.integers(2, 6))), replace=False)
        start[moved] = np.clip(start[moved] + source.choice((-1.0, 1.0), len(moved)), *limits)
        found, used = searched(problem, start, limits, is_stopped, False)
        if used < 1.1 * level:
            found, used = searched(problem, found, limits, is_stopped)
        if used < level * (1 + SLACK):
            here, level = found, used
        if used < least * (1 - 1e-9):
            best, least = found, used
    return best, least


class Problem:
    """The error at many frequencies as a linear function of the integers that may be chosen freely."""

    def __init__(self, count: int, symmetry: int, requirement: Requirement, fraction: int) -> None:
        self.count, self.symmetry = count, symmetry
        per_tap = POINTS_PER_TAP if count <= LONG else POINTS_PER_LONG_TAP
        # Between two points a ripple rises by so much of itself at most.
        self.certain = 1 - (np.pi / (2 * per_tap)) ** 2 / 2
        pieces = pieces_of(requirement)
        table = Table.of(pieces)
        parts, owner = [], []
        for number, piece in enumerate(pieces):
            points = max(17, int(per_tap * count * (piece.stop - piece.start) / np.pi))
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
        self.rows = np.ascontiguousarray(self.columns.T)
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

    def rounded_in_turn(self, exact: Array) -> list[Array]:
        """Taps rounded one after another, each time the rest made to make good what was lost: the nearest plane in the
        weighted mean square (Babai 1986, "On Lovász' lattice reduction and the nearest lattice point problem"), in a
        few orders and at a few gains."""
        count = self.columns.shape[1]
        source = np.random.default_rng(count)
        orders = [np.arange(count), np.arange(count)[::-1]]
        orders += [source.permutation(count) for _ in range(ORDERS - 2)]
        found = []
        for order in orders:
            Q, R = np.linalg.qr(self.columns[:, order])
            for gain in self.gains(exact)[::7]:
                start = np.zeros(count)
                start[order] = _in_turn(R, Q.T @ (self.columns @ (exact * gain)), exact[order] * gain)
                found.append(start)
        return found

    def gains(self, exact: Array) -> Array:
        """Small changes of the gain that leave room in the passbands: each rounds to other integers."""
        passes = self.middle > 0
        room = float(np.min(self.room[passes] / self.middle[passes])) if np.any(passes) else 0.0
        return 1 + np.linspace(-1.0, 1.0, max(GAINS, MOST_COLUMNS // self.columns.shape[1])) * min(room, 0.2)


def _in_turn(R: Array, wanted: Array, exact: Array) -> Array:
    """Integers from the last to the first, each nearest to what those before it leave over; rounded plainly where the bands, narrow
    beside all that is free, say nothing of a tap that the others can't say."""
    found = np.zeros(len(exact))
    least = TOLD * float(np.max(np.abs(R.diagonal())))
    for k in range(len(exact) - 1, -1, -1):
        is_told = k < len(R) and abs(R[k, k]) > least
        found[k] = np.round((wanted[k] - R[k, k + 1 :] @ found[k + 1 :]) / R[k, k] if is_told else exact[k])
    return found


def searched(
    problem: Problem, start: Array, limits: tuple[int, int], is_stopped: Callable[[], bool], with_pairs: bool = True
) -> tuple[Array, float]:
    """Single steps, then pairs of steps, as long as one of them lowers the largest share."""
    from combe.rounding.search import compiled_steps

    if is_stopped():
        raise Stopped
    values, largest = compiled_steps.searched(
        problem.rows, problem.target, start, float(limits[0]), float(limits[1]), MOST_MOVES, NEAR_WORST, CRITICAL, VERIFIED, BELOW,
        with_pairs and len(problem.rows) <= MOST_PAIRED,
    )  # fmt: skip
    return values, float(largest)
