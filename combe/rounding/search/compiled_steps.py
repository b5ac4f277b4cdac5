"""The searches of ``better_integers`` in compiled loops: each looks at thousands of steps, most of which a point or two rule out.

``columns`` has a row for each tap, what a step of it adds to the error at every point. A step is a tap and a way; where ``second``
is 0 it is one of a single tap.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from combe.jit import compiled

TRIED = 8
"""Single steps that are looked at everywhere."""


@compiled()
def largest_after(
    columns: Any, error: Any, step: Any, places: Any, bound: float
) -> float:  # pragma: no cover - compiled
    """The largest error at some places after a step; where it isn't below ``bound`` some number that isn't either."""
    one, other = columns[step[0]], columns[step[1]]
    first, second = float(step[2]), float(step[3])
    most = 0.0
    for n in places:
        most = max(most, abs(error[n] + first * one[n] + second * other[n]))
        if most >= bound:
            break
    return most


@compiled()
def kept(steps: Any, after: Any, held: int, step: Any, most: float) -> int:  # pragma: no cover - compiled
    """Put a step among the best, in their order; how many there are."""
    at = min(held, len(after) - 1)
    while at > 0 and after[at - 1] > most:
        after[at] = after[at - 1]
        for k in range(4):
            steps[at, k] = steps[at - 1, k]
        at -= 1
    after[at] = most
    for k in range(4):
        steps[at, k] = step[k]
    return min(held + 1, len(after))


@compiled()
def best_single(
    columns: Any, values: Any, error: Any, places: Any, low: float, high: float, better: float
) -> Any:  # pragma: no cover - compiled
    """The step of one tap that is best at some places, of the first few the first that is below ``better`` everywhere; a way of 0 where
    none is."""
    every = np.arange(len(error))
    steps, after, held = np.zeros((TRIED, 4), dtype=np.int64), np.empty(TRIED), 0
    step = np.zeros(4, dtype=np.int64)
    for way in (1, -1):
        for tap in range(len(values)):
            if low <= values[tap] + way <= high:
                step[0], step[1], step[2] = tap, tap, way
                bound = better if held < TRIED else min(better, after[held - 1])
                most = largest_after(columns, error, step, places, bound)
                if most < bound:
                    held = kept(steps, after, held, step, most)
    for k in range(held):
        if largest_after(columns, error, steps[k], every, better) < better:
            return steps[k]
    return np.zeros(4, dtype=np.int64)


@compiled()
def best_pair(
    columns: Any, values: Any, error: Any, places: Any, low: float, high: float, better: float, verified: int
) -> Any:  # pragma: no cover - compiled
    """The steps of two taps that are best everywhere, of the ``verified`` that are at some places; a way of 0 where none is below
    ``better``."""
    every = np.arange(len(error))
    steps, after, held = np.zeros((verified, 4), dtype=np.int64), np.empty(verified), 0
    step = np.zeros(4, dtype=np.int64)
    for i in range(len(values)):
        for j in range(len(values)):
            for first, second in ((-1, -1), (1, -1), (1, 1)):
                # Two steps one way are the same pair whichever comes first.
                if i == j or (first == second and i > j):
                    continue
                if low <= values[i] + first <= high and low <= values[j] + second <= high:
                    step[0], step[1], step[2], step[3] = i, j, first, second
                    bound = better if held < verified else min(better, after[held - 1])
                    most = largest_after(columns, error, step, places, bound)
                    if most < bound:
                        held = kept(steps, after, held, step, most)
    taken, least = np.zeros(4, dtype=np.int64), better
    for k in range(held):
        most = largest_after(columns, error, steps[k], every, least)
        if most < least:
            taken, least = steps[k], most
    return taken


@compiled()
def moved(columns: Any, values: Any, error: Any, tap: int, way: float) -> float:  # pragma: no cover - compiled
    """Move a tap, and the error with it, in place; the largest error from there."""
    values[tap] += way
    largest = 0.0
    for n in range(len(error)):
        error[n] += way * columns[tap, n]
        largest = max(largest, abs(error[n]))
    return largest


@compiled()
def worst_places(error: Any, least: float, most: int) -> Any:  # pragma: no cover - compiled
    """The ``most`` worst places, worst first, and behind them all that lie above ``least``, some a second time: what is ruled out is so by
    the first few."""
    found = np.empty(most + len(error), dtype=np.int64)
    held = 0
    for n in range(len(error)):
        if held < most or abs(error[n]) > abs(error[found[held - 1]]):
            at = min(held, most - 1)
            while at > 0 and abs(error[found[at - 1]]) < abs(error[n]):
                found[at] = found[at - 1]
                at -= 1
            found[at] = n
            held = min(held + 1, most)
    for n in range(len(error)):
        if abs(error[n]) > least:
            found[held] = n
            held += 1
    return found[:held]


@compiled()
def searched(
    columns: Any, target: Any, start: Any, low: float, high: float, moves: int, near: float, critical: int, verified: int, certain: float, with_pairs: bool
) -> Any:  # fmt: skip  # pragma: no cover - compiled
    """Single steps, then pairs of steps, as long as one of them lowers the largest share; at most ``moves``.

    Single ones are looked at where the error comes within ``near`` of the largest, pairs at the ``critical`` worst points, of which
    the best ``verified`` are looked at everywhere; largest errors have to fall below ``certain`` times what they were. Returns the
    integers and the largest share.
    """
    values, error = np.zeros(len(start)), np.empty(len(target))
    largest = 0.0
    for n in range(len(error)):
        error[n] = -target[n]
    for tap in range(len(values)):
        largest = moved(columns, values, error, tap, start[tap])
    for _ in range(moves):
        better = certain * largest
        worst = worst_places(error, near * largest, critical)
        step = best_single(columns, values, error, worst, low, high, better)
        if step[2] == 0 and with_pairs:
            step = best_pair(columns, values, error, worst[:critical], low, high, better, verified)
        if step[2] == 0:
            break
        largest = moved(columns, values, error, step[0], float(step[2]))
        if step[3] != 0:
            largest = moved(columns, values, error, step[1], float(step[3]))
    return values, largest
