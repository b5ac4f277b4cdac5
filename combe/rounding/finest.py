"""Numbers to integers at the finest binary point a width allows."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from combe.realization.formats import Format

EXACT_IN_DOUBLE = 50
"""Up to this many bits scaling by a power of two and rounding to nearest even are exact in double precision."""


def finest_integers(values: tuple[float, ...], bits: int) -> tuple[Format, tuple[int, ...]]:
    """The signed format of ``bits`` bits with the most fraction bits at which all values, rounded, still fit.

    Rounded to nearest in exact fractions, ties to the even integer, so that symmetric values stay symmetric.
    """
    if bits <= EXACT_IN_DOUBLE and any(values):
        return _finest_of_doubles(np.array(values, dtype=np.float64), bits)
    exact = [Fraction(value) for value in values]
    largest = max(abs(value) for value in exact)
    if largest == 0:
        return Format(True, bits, bits - 1), tuple(0 for _ in exact)
    fraction = bits - 1 - (largest.numerator.bit_length() - largest.denominator.bit_length()) + 1
    while True:
        found = Format(True, bits, fraction)
        scale = Fraction(2) ** fraction
        integers = tuple(round(value * scale) for value in exact)
        if all(found.holds(value) for value in integers):
            return found, integers
        fraction -= 1


def _finest_of_doubles(values: NDArray[np.float64], bits: int) -> tuple[Format, tuple[int, ...]]:
    """The same, all values at once."""
    _, exponent = np.frexp(np.max(np.abs(values)))
    fraction = bits - int(exponent)
    while True:
        found = Format(True, bits, fraction)
        scaled = np.rint(np.ldexp(values, fraction))
        if found.least <= np.min(scaled) and np.max(scaled) <= found.most:
            return found, tuple(scaled.astype(np.int64).tolist())
        fraction -= 1
