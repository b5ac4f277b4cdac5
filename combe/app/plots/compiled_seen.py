"""The points of ``seen`` in one compiled loop: many small steps of NumPy would take a fifth of a frame under the hand."""

from __future__ import annotations

from typing import Any

import numpy as np

from combe.jit import compiled


@compiled(error_model="numpy")
def kept(x: Any, y: Any, tolerance: float, passes: int) -> Any:  # pragma: no cover - compiled
    """Which points stay: the same sums in the same order as there."""
    places = np.arange(len(x))
    for _ in range(passes):
        count = len(places)
        if count < 8:
            break
        staying = np.empty(count, dtype=places.dtype)
        number = 0
        for k in range(count):
            if k % 2 and k < count - 1:
                before, here, after = places[k - 1], places[k], places[k + 1]
                dx, dy = x[after] - x[before], y[after] - y[before]
                rise = y[here] - y[before]
                beyond = max(y[here] - max(y[before], y[after]), min(y[before], y[after]) - y[here])
                off = abs(dx * rise - dy * (x[here] - x[before]))
                if beyond <= tolerance and off <= tolerance * np.hypot(dx, dy):
                    continue
            staying[number] = places[k]
            number += 1
        if number == count:
            break
        places = staying[:number]
    return places


@compiled(error_model="numpy")
def strokes(
    x: Any, y: Any, across: float, up: float, low: float, high: float, tolerance: float, passes: int
) -> Any:  # pragma: no cover - compiled
    """Both ends of each line through the points that stay, in pixels; what lies beyond two heights is cut off there."""
    count = len(x)
    left, right = np.empty(count), np.empty(count)
    for k in range(count):
        left[k] = across * x[k]
        right[k] = up * min(max(y[k], low), high)
    places = kept(left, right, tolerance, passes)
    ends = np.empty((max(len(places) - 1, 0), 4))
    for k in range(len(places) - 1):
        here, there = places[k], places[k + 1]
        ends[k, 0], ends[k, 1] = left[here], right[here]
        ends[k, 2], ends[k, 3] = left[there], right[there]
    return ends
