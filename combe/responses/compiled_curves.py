"""The curve of linear-phase taps in one compiled loop: as twenty small steps of NumPy it would take a tenth of what a hand waits for."""

from __future__ import annotations

from typing import Any

import numpy as np

from combe.jit import compiled


@compiled(error_model="numpy")
def _between(values: Any, place: float) -> Any:  # pragma: no cover - compiled
    """A value on the cubic through the four next to a place."""
    first = min(max(int(place), 1), len(values) - 3)
    t = place - first
    a, b, c, d = values[first - 1], values[first], values[first + 1], values[first + 2]
    far, near = t * (t - 1) / 6, (t + 1) * (t - 2) / 2
    return (t + 1) * far * d - (t - 2) * far * a + near * ((t - 1) * b - t * c)


@compiled(error_model="numpy")
def lobed(omega: Any, amplitude: Any) -> Any:  # pragma: no cover - compiled
    """Frequencies in order, with the tops and zeros between the points, and the amplitude at each: to the bit what ``_lobed``
    has without it."""
    a, count = amplitude, len(amplitude)
    places, levels = np.empty(3 * count), np.empty(3 * count)
    number = 0
    for k in range(count):
        first = number
        places[number], levels[number] = omega[k], a[k]
        number += 1
        if 0 < k < count - 1 and (a[k] - a[k - 1]) * (a[k + 1] - a[k]) < 0:
            bend = a[k - 1] - 2 * a[k] + a[k + 1]
            places[number] = omega[k] + omega[1] * (a[k - 1] - a[k + 1]) / (2 * bend)
            levels[number] = _between(a, places[number] / omega[1])
            number += 1
        if 0 < k < count - 2 and a[k] * a[k + 1] < 0:
            part = a[k] / (a[k] - a[k + 1])
            bend = (a[k - 1] - a[k] - a[k + 1] + a[k + 2]) / 4
            part += bend * part * (1 - part) / (a[k + 1] - a[k])
            places[number] = omega[k] + omega[1] * min(max(part, 0.0), 1.0)
            levels[number] = _between(a, places[number] / omega[1])
            number += 1
        # A top lies up to half a step before its point: what has come last finds its place among the few before it.
        for here in range(max(first, 1), number):
            there = here
            while there > 0 and places[there - 1] > places[there]:
                places[there - 1], places[there] = places[there], places[there - 1]
                levels[there - 1], levels[there] = levels[there], levels[there - 1]
                there -= 1
    return places[:number], levels[:number]
