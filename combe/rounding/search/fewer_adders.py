"""Integers that keep every limit with fewer adders: signed digits and whole taps taken away while the limits hold.

A local search over single taps and over mirrored pairs at several scales and widths, in the spirit of Kumm, Volkova &
Filip (2023, "Design of optimal multiplierless FIR filters with minimal number of adders"), who solve it exactly by integer
programs. What is told is the best found, never proved least.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.errors import Stopped
from combe.requirement import Requirement
from combe.rounding.search.adders import adder_count, adder_graph
from combe.rounding.search.better_integers import Problem
from combe.rounding.search.signed_digits import digit_count, odd_part

Array = NDArray[np.float64]
MOST_ROUNDS = 60
SHORT = 20
"""Up to this many free taps five scales are tried, three beyond."""
FINEST, AFTER = 24, 3
SPAN = 16
"""How far a tap may move, in steps, in search of a cheaper value."""


class Multiplierless(Struct, frozen=True):
    """``coefficients`` at ``fraction`` fraction bits, all adders they take, and the share of the tolerances they use."""

    coefficients: tuple[int, ...]
    fraction: int
    adders: int
    share: float


def fewer_adders(
    taps: tuple[float, ...],
    symmetry: int,
    requirement: Requirement,
    is_stopped: Callable[[], bool] = lambda: False,
    report: Callable[[str], None] = lambda _: None,
) -> Multiplierless | None:
    """The integers with the fewest adders found, None where no binary point keeps the limits.

    Binary points are tried from the coarsest up to AFTER beyond the first at which the limits can be kept.
    """
    best: Multiplierless | None = None
    lead = int(np.ceil(-np.log2(np.max(np.abs(taps)))))
    first: int | None = None
    for fraction in range(lead + 3, lead + FINEST):
        if first is not None and fraction > first + AFTER:
            break
        problem = Problem(len(taps), symmetry, requirement, fraction)
        exact = problem.unique(np.array(taps)) * 2.0**fraction
        if problem.share(exact) > 1:
            continue
        for gain in problem.gains(exact)[:: 2 if len(exact) <= SHORT else 4]:
            if is_stopped():
                raise Stopped
            start = np.round(exact * gain)
            found = _descended(problem, start, exact * gain)
            if found is None:
                continue
            whole = tuple(int(k) for k in problem.whole(found.astype(np.int64)))
            count = adder_count(whole)
            first = fraction if first is None else first
            if best is None or count < best.adders:
                report(f"{count} adders at {fraction} fraction bits")
                best = Multiplierless(whole, fraction, count, problem.share(found))
    return best


def _descended(problem: Problem, start: Array, exact: Array) -> Array | None:
    """First into the limits, then to cheaper values one tap at a time, then to numbers other taps already need."""
    values = _repaired(problem, start, exact)
    if values is None:
        return None
    for _ in range(MOST_ROUNDS):
        moved = _cheaper(problem, values)
        if moved is None:
            break
        values = moved
    return _shared(problem, values)


def _repaired(problem: Problem, values: Array, exact: Array) -> Array | None:
    """Rounded taps that keep every limit, by the steps that lower the largest share."""
    from combe.rounding.search.better_integers import searched

    if problem.share(values) <= 1:
        return values
    room = float(np.max(np.abs(exact))) * 2 + 4
    found, used = searched(problem, values, (-int(room), int(room)), lambda: False)
    return found if used <= 1 else None


def _cheaper(problem: Problem, values: Array) -> Array | None:
    """The one change of a tap that saves the most digits for the least of the tolerances."""
    error = problem.columns @ values - problem.target
    best: tuple[float, float] | None = None
    chosen = None
    for at in range(len(values)):
        moves, saved = _moves(int(values[at]))
        if not len(moves):
            continue
        after = np.max(np.abs(error[:, None] + problem.columns[:, [at]] * moves), axis=0)
        most = np.max(np.where(after <= 1, saved, -np.inf))
        if most == -np.inf or (best is not None and most < best[0]):
            continue
        k = int(np.argmin(np.where((after <= 1) & (saved == most), after, np.inf)))
        if best is None or (most, -after[k]) > best:
            best = float(most), -float(after[k])
            chosen = at, int(moves[k])
    if chosen is None:
        return None
    found = values.copy()
    found[chosen[0]] += chosen[1]
    return found


@lru_cache(maxsize=4096)
def _moves(own: int) -> tuple[NDArray[np.int64], Array]:
    """Steps to cheaper values, zero among them, and what each saves."""
    cost = _tap_cost(own)
    near = [m for m in range(-SPAN, SPAN + 1) if m and _tap_cost(own + m) < cost] + ([-own] if own else [])
    return np.array(near, dtype=np.int64), np.array([cost - _tap_cost(own + m) for m in near])


def _tap_cost(value: int) -> float:
    """Digits beyond the first, and the tap's own place in the sum."""
    return digit_count(value) - 1 + 1.0 if value else 0.0


def _shared(problem: Problem, values: Array) -> Array:
    """Single moves judged by the graph itself: taps go to values that others make cheap."""
    improved = True
    while improved:
        improved = False
        count = len(adder_graph(int(v) for v in values).adders)
        for at in range(len(values)):
            own = int(values[at])
            if odd_part(own) < 2:
                continue
            others = adder_graph(int(v) for k, v in enumerate(values) if k != at).adders
            if len(others) >= count:
                continue  # this tap costs nothing of its own
            have = {adder.value for adder in others} | {0, 1}
            error = problem.columns @ values - problem.target
            moves = [m for m in range(-SPAN, SPAN + 1) if m and odd_part(own + m) in have]
            fitting = [m for m in moves if float(np.max(np.abs(error + problem.columns[:, at] * m))) <= 1]
            if fitting:
                values = values.copy()
                values[at] += min(fitting, key=lambda m: (odd_part(own + m) != 0, abs(m)))
                improved = True
                count = len(others)
    return values
