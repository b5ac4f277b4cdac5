"""Sequential linear programming: the least largest of many smooth functions, under linear constraints.

Source: Madsen & Schjær-Jacobsen (1978), "Linearly constrained minimax optimization". Each step solves the linearized
problem inside a box; the box grows where the linear picture held and shrinks where it didn't.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Array = NDArray[np.float64]
ACTIVE_ROWS = 400
LOOKED_BACK = 10
"""Steps whose pace tells whether the goal is in reach: fewer may all be spent on finding how far a step may go."""
SPURT = 4.0
"""How much faster than before a search may yet become. Of sixty random masks one ends two orders higher for it (16 lose it
too), two with 1.5."""


class Linear(Struct, frozen=True, eq=False):
    """Constraints matrix·x ≤ bound that hold at every step."""

    matrix: Array
    bound: Array


def least_maximum(
    values: Callable[[Array], Array],
    slopes: Callable[[Array, NDArray[np.intp]], Array],
    start: Array,
    linear: Linear,
    box: Array,
    rounds: int = 60,
    good_enough: float = -np.inf,
    is_stopped: Callable[[], bool] = lambda: False,
    all_or_nothing: bool = False,
) -> tuple[Array, float]:
    """x with the least largest of ``values(x)`` found, and that value.

    Parameters
    ----------
    slopes
        Rows of the Jacobian at x for the functions picked by index.
    box
        Largest first step of each unknown.
    good_enough
        Stop once the maximum is below this.
    all_or_nothing
        Less than that is of no use: stop as soon as ``SPURT`` times the pace of the last steps wouldn't get there.
    """
    x, here = start, values(start)
    best = float(np.max(here))
    size = box.copy()
    passed: list[float] = []
    for number in range(rounds):
        passed.append(best)
        if all_or_nothing and number >= LOOKED_BACK:
            pace = (passed[-1 - LOOKED_BACK] - best) / LOOKED_BACK
            if best - SPURT * pace * (rounds - number) > good_enough:
                break
        if best <= good_enough or is_stopped():
            break
        reach = max(abs(best), 1e-3)
        rows = np.flatnonzero(here >= best - 4 * reach - 1.0)
        if len(rows) > ACTIVE_ROWS:
            rows = rows[np.argsort(-here[rows])[:ACTIVE_ROWS]]
        step, predicted = _step(here[rows], slopes(x, rows), x, linear, size)
        if step is None:
            size *= 0.5
            continue
        trial = values(x + step)
        reached = float(np.max(trial))
        gain, hoped = best - reached, best - predicted
        if hoped <= 1e-9 * reach:
            break
        if gain > 0:
            x, here, best = x + step, trial, reached
        if gain > 0.7 * hoped:
            size *= 2.0
        elif gain < 0.25 * hoped:
            size *= 0.35
        if np.max(size) < 1e-9 or (0 < gain < 1e-6 * reach):
            break
    return x, best


def _step(values: Array, slopes: Array, x: Array, linear: Linear, size: Array) -> tuple[Array | None, float]:
    """min t with value + slope·d ≤ t, |d| ≤ size, constraints kept."""
    # Imported late: the window opens without it.
    from scipy.optimize import linprog

    count = len(x)
    cost = np.zeros(count + 1)
    cost[-1] = 1
    upper = np.hstack([slopes, -np.ones((len(slopes), 1))])
    held = np.hstack([linear.matrix, np.zeros((len(linear.matrix), 1))])
    bounds = [(-s, s) for s in size] + [(None, None)]
    found = linprog(
        cost,
        A_ub=np.vstack([upper, held]),
        b_ub=np.concatenate([-values, np.maximum(linear.bound - linear.matrix @ x, 0.0)]),
        bounds=bounds,
        method="highs",
    )
    if found.status != 0 or found.x is None:
        return None, np.inf
    return np.asarray(found.x[:-1]), float(found.x[-1])


def triangle(count: int, radius: float, unknowns: int, first: int) -> Linear:
    """Roots of 1 + c1·z⁻¹ + c2·z⁻² no further out than ``radius``, for ``count`` pairs (c1, c2) from unknown ``first``.

    |c2| ≤ ρ² and |c1| ≤ ρ + c2/ρ: a triangle in each pair, so that stability is a linear constraint.
    """
    rows, bounds = [], []
    for pair in range(count):
        at = first + 2 * pair
        for c1, c2, bound in ((1, -1 / radius, radius), (-1, -1 / radius, radius), (0, 1, radius**2)):
            row = np.zeros(unknowns)
            row[at], row[at + 1] = c1, c2
            rows.append(row)
            bounds.append(bound)
    return Linear(np.array(rows).reshape(-1, unknowns), np.array(bounds, dtype=np.float64))


def joined(*parts: Linear) -> Linear:
    """All constraints together."""
    return Linear(np.vstack([part.matrix for part in parts]), np.concatenate([part.bound for part in parts]))
