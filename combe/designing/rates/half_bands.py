"""Half-band filters of two allpasses: a multiply for each pole pair, at the lower of both rates, where phase is free.

H(z) = (A₀(z²) + z⁻¹·A₁(z²))/2, both allpasses products of (α + z⁻²)/(1 + α·z⁻²) with 0 < α < 1. In an elliptic filter of odd order
whose ripples stand in this ratio the α are known in closed form (Valenzuela and Constantinides 1983). What a half-band filter
blocks by 1/δ it passes within δ²/2, so that passbands need no room.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from math import ceil, log

import numpy as np
from numpy.typing import NDArray

from combe.errors import DesignError

Array = NDArray[np.float64]
MOST_POLES = 16
"""Multiplies of one half-band."""
SLOWEST = 0.9999
"""The largest coefficient: its impulse response is two million samples."""
TAIL = 1e-17
"""What is left of the impulse response where it is cut, beside its largest value."""


@lru_cache(maxsize=256)
def allpass_half_band(edge: float, level_db: float) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """The α of A₀ and of A₁ with the fewest poles that block 0.5 − ``edge`` to 0.5 (cycles per sample, ``edge`` below 0.25) by
    ``level_db``, a negative number.

    Raises
    ------
    DesignError
        If none of so many poles does.
    """
    if not 0 < edge < 0.25:
        raise DesignError(
            "a half-band passes less than a quarter of its rate", "--plan", "take 2 for this stage, not iir2"
        )
    for count in range(1, MOST_POLES + 1):
        found = coefficients(edge, count)
        even, odd = found[0::2], found[1::2]
        if half_band_level_db(even, odd, edge) <= level_db:
            return even, odd
    what = f"no half-band of {MOST_POLES} poles blocks by {-level_db:.3g} dB from {0.5 - edge:.4g} of its rate on"
    raise DesignError(what, "--plan", "take 2 for this stage, not iir2")


def coefficients(edge: float, count: int) -> tuple[float, ...]:
    """All α of an elliptic half-band filter of order 2·count + 1, ascending; they belong to A₀ and A₁ in turn.

    The poles by theta functions of the nome (Gray and Markel 1976), whose quarter periods are scipy's.
    """
    from scipy import special

    modulus = float(np.tan(np.pi * edge) ** 2)
    nome = float(np.exp(-np.pi * special.ellipkm1(modulus**2) / special.ellipk(modulus**2)))
    order = 2 * count + 1
    found = []
    for index in range(1, count + 1):
        angle = np.pi * index / order
        top = sum((-1) ** j * nome ** (j * (j + 1)) * np.sin((2 * j + 1) * angle) for j in range(12))
        below = 0.5 + sum((-1) ** j * nome ** (j * j) * np.cos(2 * j * angle) for j in range(1, 12))
        square = (nome**0.25 * top / below) ** 2
        x = np.sqrt((1 - square * modulus) * (1 - square / modulus)) / (1 + square)
        found.append(float((1 - x) / (1 + x)))
    return tuple(found)


def half_band_level_db(even: Sequence[float], odd: Sequence[float], edge: float) -> float:
    """The gain at 0.5 − ``edge``, where an elliptic one's is as large as anywhere above, in dB."""
    turn = np.exp(-2j * np.pi * (0.5 - edge))
    gain = abs(_allpass(even, turn**2) + turn * _allpass(odd, turn**2)) / 2
    return float(20 * np.log10(max(gain, 1e-20)))


def _allpass(alphas: Sequence[float], turn: complex) -> complex:
    value = 1.0 + 0j
    for alpha in alphas:
        value *= (alpha + turn) / (1 + alpha * turn)
    return value


def impulse_response(even: Sequence[float], odd: Sequence[float]) -> Array:
    """Of the half-band, as far as anything is left of it: what is cut off is below ``TAIL`` of its sum.

    Raises
    ------
    DesignError
        If it rings for too long to be looked at.
    """
    longest = max(map(abs, (*even, *odd)), default=0.0)
    if longest > SLOWEST:
        what = f"an allpass coefficient of {longest:.9g} rings too long to be looked at"
        raise DesignError(what, "parts", f"{SLOWEST} is the largest")
    count = 2 + ceil(log(TAIL * (1 - longest)) / log(longest)) * 2 if longest > TAIL else 2
    paths = [_allpass_response(alphas, count) / 2 for alphas in (even, odd)]
    found = np.zeros(2 * count)
    found[0::2], found[1::2] = paths
    used = np.flatnonzero(np.abs(found) > TAIL * np.abs(found).max())
    return found[: used[-1] + 1]


def _allpass_response(alphas: Sequence[float], count: int) -> Array:
    """Of a row of allpasses at their own rate."""
    found = np.zeros(count)
    found[0] = 1.0
    for alpha in alphas:
        # y[n] = α·(x[n] − y[n−1]) + x[n−1]: one after the other, for feedback has no shorter way.
        before_x = before_y = 0.0
        values = found.tolist()
        for n, x in enumerate(values):
            before_y = alpha * (x - before_y) + before_x
            before_x, values[n] = x, before_y
        found = np.array(values)
    return found
