"""One form for everything recursive: gain, delay and roots, ready to be evaluated by differences."""

from __future__ import annotations

import cmath
import math

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.filters.values import Cascade, Roots

ComplexArray = NDArray[np.complex128]


class Rational(Struct, frozen=True):
    """H(z) = gain · z^(−delay) · Π(1 − zero·z⁻¹)/Π(1 − pole·z⁻¹)."""

    gain: float
    delay: int
    zeros: ComplexArray
    poles: ComplexArray

    @property
    def is_stable(self) -> bool:
        """Whether every pole lies inside the unit circle."""
        return bool(np.all(np.abs(self.poles) < 1))


def rational_of(source: Cascade | Roots) -> Rational:
    """The roots of a cascade, section by section: no polynomial above the second order is ever formed."""
    if isinstance(source, Roots):
        delay = max(len(source.poles) - len(source.zeros), 0)
        poles = [p for p in source.poles if p != 0]
        zeros = [z for z in source.zeros if z != 0]
        return Rational(source.gain, delay, np.array(zeros, complex), np.array(poles, complex))
    gain, delay = source.gain, 0
    zeros, poles = [], []
    for b0, b1, b2, a1, a2 in source.sections:
        lead, shift, found = _factor(b0, b1, b2)
        gain *= lead
        delay += shift
        zeros += found
        poles += _factor(1.0, a1, a2)[2]
    return Rational(gain, delay, np.array(zeros, complex), np.array(poles, complex))


def _factor(c0: float, c1: float, c2: float) -> tuple[float, int, list[complex]]:
    """Leading factor, delay and nonzero roots of c0 + c1·z⁻¹ + c2·z⁻²."""
    if c0 == 0:
        if c1 == 0:
            return c2, 2, []
        return c1, 1, [complex(-c2 / c1)] if c2 else []
    if c2 == 0:
        return c0, 0, [complex(-c1 / c0)] if c1 else []
    half, product = -c1 / (2 * c0), c2 / c0
    square = half * half - product
    if square < 0:
        # |root|² is the product: keeps the radius exact where the angle is tiny.
        radius, angle = math.sqrt(product), cmath.phase(complex(half, math.sqrt(-square)))
        return c0, 0, [cmath.rect(radius, angle), cmath.rect(radius, -angle)]
    large = half + math.copysign(math.sqrt(square), half)
    return c0, 0, [complex(large), complex(product / large)] if large else [0j, 0j]
