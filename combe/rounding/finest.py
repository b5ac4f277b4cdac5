"""Numbers to integers at the finest binary point a width allows."""

from __future__ import annotations

from fractions import Fraction

from combe.realization.formats import Format


def finest_integers(values: tuple[float, ...], bits: int) -> tuple[Format, tuple[int, ...]]:
    """The signed format of ``bits`` bits with the most fraction bits at which all values, rounded, still fit.

    Rounded to nearest in exact fractions, ties to the even integer, so that symmetric values stay symmetric.
    """
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
