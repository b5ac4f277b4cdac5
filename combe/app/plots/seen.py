"""What of a curve in pixels the eye can see: few points, and dashes cut by length."""

from __future__ import annotations

import threading

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
TOLERANCE = 0.2
"""Pixels that a dropped point may lie off the line between its neighbors."""
PASSES = 4
DASH, GAP = 6.0, 4.0


_ready = threading.Event()


def make_ready() -> None:
    """Load, or compile, the loop that does the same in a twentieth of the time."""
    from combe.app.plots.compiled_seen import kept, strokes

    kept(np.zeros(9), np.zeros(9), TOLERANCE, PASSES)
    strokes(np.zeros(9), np.zeros(9), 1.0, 1.0, 0.0, 1.0, TOLERANCE, PASSES)
    _ready.set()


def _plain(values: Array) -> Array:
    """Values as the loop was made ready for: for any other kind of array it would be compiled once more, here and now."""
    is_plain = values.dtype == np.float64 and values.flags.c_contiguous and values.flags.writeable
    return values if is_plain else np.array(values, dtype=np.float64)


def seen(x: Array, y: Array) -> tuple[Array, Array]:
    """The points that make a difference; those on a line between their neighbors go."""
    if _ready.is_set():
        from combe.app.plots.compiled_seen import kept

        places = kept(_plain(x), _plain(y), TOLERANCE, PASSES)
        return x[places], y[places]
    for _ in range(PASSES):
        if len(x) < 8:
            break
        dx, dy = x[2:] - x[:-2], y[2:] - y[:-2]
        off = np.abs(dx * (y[1:-1] - y[:-2]) - dy * (x[1:-1] - x[:-2]))
        # What turns back may lie on the line and still reach beyond its ends.
        beyond = np.maximum(y[1:-1] - np.maximum(y[:-2], y[2:]), np.minimum(y[:-2], y[2:]) - y[1:-1])
        off = np.where(beyond > TOLERANCE, np.inf, off)
        keep = np.ones(len(x), dtype=bool)
        # Every other point at most, so that each dropped one still has the neighbors it was measured against.
        keep[1:-1:2] = off[::2] > TOLERANCE * np.hypot(dx[::2], dy[::2])
        if np.all(keep):
            break
        x, y = x[keep], y[keep]
    return x, y


def strokes(x: Array, y: Array, across: float, up: float, low: float, high: float) -> Array:
    """Both ends, x and y of each, of the lines that make a difference: points scaled to pixels, what lies below or above two
    heights cut off there."""
    if _ready.is_set():
        from combe.app.plots import compiled_seen

        scales = float(across), float(up), float(low), float(high)
        return np.asarray(compiled_seen.strokes(_plain(x), _plain(y), *scales, TOLERANCE, PASSES))
    x, y = seen(across * x, up * np.clip(y, low, high))
    return np.column_stack([x[:-1], y[:-1], x[1:], y[1:]])


def dashes(x: Array, y: Array) -> tuple[Array, Array, NDArray[np.bool_]]:
    """Points along a curve and whether each is joined to the next: equal dashes, however the points lie."""
    along = np.concatenate([[0.0], np.cumsum(np.hypot(np.diff(x), np.diff(y)))])
    starts = np.arange(0.0, along[-1], DASH + GAP)
    every = np.union1d(along, np.concatenate([starts, starts + DASH]))
    every = every[every <= along[-1]]
    is_on = np.mod((every[1:] + every[:-1]) / 2, DASH + GAP) < DASH
    return np.interp(every, along, x), np.interp(every, along, y), is_on
