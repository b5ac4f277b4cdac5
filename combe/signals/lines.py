"""Lines of a spectrum: a sine reads its own amplitude at its own frequency, in every window and wherever it lies between two
lines of the transform."""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
WINDOWS = {
    "hann": (0.5, 0.5),
    "flat top": (1.0, 1.933, 1.286, 0.388, 0.0322),
    "four terms": (0.35875, 0.48829, 0.14128, 0.01168),
}
"""Sums of cosines: narrow lines; levels that need no help (ISO 18431-2); no side lobe above -92 dB (Harris 1978)."""
LONGEST = 16_384
ALONE = 4.0
"""A line that stands so many times above what lies beyond its main lobe is a sine, and is read between the transform's lines."""
FLOOR_DB = -160.0


def lines(values: Array, rate_hz: float, window: str = "hann") -> tuple[Array, Array]:
    """Frequencies in Hz and levels of the end of a signal, in dB of a sine of peak 1.

    Where a sine stands alone its line is put where it is, at its own height: from the ratio of both neighbors, by the window's
    transform (Grandke 1983, there for two windows).
    """
    heard = values[max(len(values) - LONGEST, 0) :]
    size = max(len(heard), 1)
    places, height = _read(heard, window)
    level = 20 * np.log10(np.maximum(height, 10 ** (FLOOR_DB / 20)))
    return np.asarray(places * rate_hz / size, dtype=np.float64), np.asarray(level, dtype=np.float64)


def amplitudes(values: Array, window: str) -> Array:
    """Heights of all lines of a whole signal, as ``lines`` reads them."""
    return _read(values, window)[1]


def _read(values: Array, window: str) -> tuple[Array, Array]:
    size = len(values)
    if size < 2:
        return np.zeros(1), np.abs(np.sum(values, keepdims=True))
    terms = WINDOWS[window]
    n = np.arange(size)
    shape = sum(a * (-1) ** m * np.cos(2 * np.pi * m * n / size) for m, a in enumerate(terms))
    height = np.asarray(np.abs(np.fft.rfft(values * shape)) * 2 / (terms[0] * size))
    height[0] /= 2
    places = np.arange(len(height), dtype=np.float64)
    reach = len(terms)
    inner = np.arange(reach + 1, len(height) - reach - 1)
    if not len(inner):
        return places, height
    left, right = height[inner - 1], height[inner + 1]
    beyond = np.maximum(height[inner - reach - 1], height[inner + reach + 1])
    alone = (height[inner] >= left) & (height[inner] > right) & (height[inner] > ALONE * beyond)
    at = inner[alone]
    if len(at):
        offsets, ratios, gains = _table(window)
        ratio = np.log(np.maximum(height[at + 1], 1e-300) / np.maximum(height[at - 1], 1e-300))
        offset = np.interp(ratio, ratios, offsets)
        height[at] /= np.interp(offset, offsets, gains)
        places[at] += offset
    return places, height


@cache
def _table(window: str) -> tuple[Array, Array, Array]:
    """Offsets from a line, the logarithm of what the line above reads to what the one below does, and what the line itself
    reads of the whole."""
    offsets = np.linspace(-0.5, 0.5, 2001)
    above, below = (np.abs(_transform(window, offsets - way)) for way in (1, -1))
    return offsets, np.log(above / below), np.abs(_transform(window, offsets))


def _transform(window: str, x: Array) -> Array:
    """A long window's transform at ``x`` lines from its middle, 1 there: sums of shifted sinc functions."""
    terms = WINDOWS[window]
    total = np.sinc(x)
    for m, a in enumerate(terms[1:], 1):
        total = total + (a / terms[0] / 2) * (np.sinc(x - m) + np.sinc(x + m))
    return np.asarray(total)
