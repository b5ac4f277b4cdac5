"""The exchanges of ``least_worst`` in one compiled loop: each is a hundred small sums, and there are hundreds of them."""

from __future__ import annotations

from typing import Any

import numpy as np

from combe.jit import compiled


@compiled()
def exchanged(
    rows: Any,
    middles: Any,
    reach: Any,
    weights: Any,
    held: Any,
    signs: Any,
    inverse: Any,
    tolerance: float,
    telling: float,
    most: int,
) -> Any:  # pragma: no cover - compiled
    """Up to ``most`` exchanges, with ``held``, ``signs`` and ``inverse`` (of the limits that are held) changed in place.

    Returns how it ended (0 all points lie within, 1 there are more to exchange, 2 caps can't be kept), and the coefficients, the error last.
    """
    count = rows.shape[1]
    size = count + 1
    total = rows.shape[0]
    answer = np.zeros(size)
    right = np.empty(size)
    is_held = np.zeros(total, dtype=np.bool_)
    for k in range(size):
        right[k] = signs[k] * middles[held[k]] + reach[held[k]]
        is_held[held[k]] = True
    shares = np.empty(size)
    for _ in range(most):
        for i in range(size):
            answer[i] = 0.0
            for k in range(size):
                answer[i] += inverse[i, k] * right[k]
        off = rows @ answer[:count]
        joins, farthest = -1, tolerance
        for k in range(total):
            if not is_held[k]:
                over = abs(off[k] - middles[k]) - reach[k] - weights[k] * answer[count]
                if over > farthest:
                    joins, farthest = k, over
        if joins < 0:
            return 0, answer
        sign = 1.0 if off[joins] > middles[joins] else -1.0
        # What joins as a sum of those that are held, whose weights it takes from.
        for k in range(size):
            shares[k] = -weights[joins] * inverse[count, k]
        for i in range(count):
            part = sign * rows[joins, i]
            for k in range(size):
                shares[k] += part * inverse[i, k]
        least = np.inf
        for k in range(size):
            if shares[k] > telling:
                least = min(least, max(-inverse[count, k], 0.0) / shares[k])
        place = -1
        for k in range(size):
            # Whose weight is used up first; of several the one that can be told best.
            is_near = shares[k] > telling and max(-inverse[count, k], 0.0) / shares[k] <= least + 1e-12
            if is_near and (place < 0 or shares[k] > shares[place]):
                place = k
        if place < 0:
            return 2, answer
        is_held[held[place]] = False
        is_held[joins] = True
        held[place], signs[place] = joins, sign
        right[place] = sign * middles[joins] + reach[joins]
        own = shares[place]
        shares[place] -= 1.0
        for i in range(size):
            part = inverse[i, place] / own
            for k in range(size):
                inverse[i, k] -= part * shares[k]
    return 1, answer
