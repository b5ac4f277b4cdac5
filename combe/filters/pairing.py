"""Roots to second-order sections: poles next to the circle with their nearest zeros, gentlest section first."""

from __future__ import annotations

import numpy as np

from combe.filters.rational import Rational
from combe.filters.values import Cascade

Section = tuple[float, float, float, float, float]
Pair = tuple[complex, ...]
SMALLEST_GAIN = 1e-200


def sections_of(source: Rational) -> Cascade:
    """The cascade of a rational filter.

    The pole pair nearest the unit circle takes the zero pair nearest to it, and so on; the sections then stand from
    the gentlest to the sharpest, a first-order one last (Jackson 1970, "Roundoff-noise analysis for fixed-point
    digital filters realized in cascade or parallel form"). Numerators start with 1 and the gain stands beside the
    sections; only a gain that would leave the range of doubles is shared out, in powers of two.
    """
    poles, zeros = _pairs(source.poles), _pairs(source.zeros)
    poles.sort(key=lambda pair: abs(1 - abs(pair[0])))
    rows: list[tuple[float, Section]] = []
    while poles or zeros:
        pole = poles.pop(0) if poles else ()
        zero = _nearest(zeros, pole)
        rows.append(_section(pole, zero))
    if not rows:
        rows = [(1.0, (1.0, 0.0, 0.0, 0.0, 0.0))]
    rows.sort(key=lambda row: (row[1][4] == 0 and row[1][2] == 0, row[0]))
    sections, delays = _delayed([row[1] for row in rows], source.delay)
    while delays > 0:
        sections.append((0.0, 0.0, 1.0, 0.0, 0.0) if delays > 1 else (0.0, 1.0, 0.0, 0.0, 0.0))
        delays -= 2
    if source.gain and not SMALLEST_GAIN < abs(source.gain) < 1 / SMALLEST_GAIN:
        return _scaled(sections, source.gain)
    return Cascade(tuple(sections), float(source.gain))


def _delayed(sections: list[Section], delays: int) -> tuple[list[Section], int]:
    """Delays put into sections whose numerator is of lower degree than their denominator; how many are left."""
    found = []
    for b0, b1, b2, a1, a2 in sections:
        degree = 2 if a2 else 1 if a1 else 0
        while delays and (2 if b2 else 1 if b1 else 0) < degree:
            b0, b1, b2, delays = 0.0, b0, b1, delays - 1
        found.append((b0, b1, b2, a1, a2))
    return found, delays


def _scaled(sections: list[Section], gain: float) -> Cascade:
    """Share the gain out over the sections in powers of two, each as far as its own peak asks for."""
    left = np.log2(abs(gain)) if gain else 0.0
    mantissa = float(np.ldexp(gain, -int(np.round(left)))) if gain else 0.0
    remaining = int(np.round(left))
    found = []
    for index, section in enumerate(sections):
        last = index == len(sections) - 1
        wanted = -int(np.round(np.log2(max(_peak(section), 1e-300))))
        share = remaining if last else int(np.clip(wanted, min(remaining, 0), max(remaining, 0)))
        remaining -= share
        scale = 2.0**share
        found.append((section[0] * scale, section[1] * scale, section[2] * scale, section[3], section[4]))
    return Cascade(tuple(found), mantissa)


def _peak(section: Section) -> float:
    """The largest gain of a section, near enough: at its pole's angle, at 0 and at π."""
    b0, b1, b2, a1, a2 = section
    angle = np.arccos(np.clip(-a1 / (2 * np.sqrt(a2)), -1, 1)) if a2 > 0 else 0.0
    z = np.exp(-1j * np.array([0.0, np.pi, angle]))
    return float(np.max(np.abs((b0 + b1 * z + b2 * z * z) / (1 + a1 * z + a2 * z * z))))


def _pairs(roots: np.ndarray) -> list[Pair]:
    """Conjugate pairs, real roots two and two by size, an odd one alone."""
    scale = np.maximum(np.abs(roots), 1e-300) if len(roots) else roots
    real = np.abs(roots.imag) <= 1e-14 * scale if len(roots) else np.zeros(0, bool)
    upper = [complex(root) for root in roots[~real] if root.imag > 0]
    reals = sorted((float(root.real) for root in roots[real]), key=abs)
    found: list[Pair] = [(root, root.conjugate()) for root in upper]
    while len(reals) > 1:
        found.append((complex(reals.pop()), complex(reals.pop())))
    return found + [(complex(root),) for root in reals]


def _nearest(zeros: list[Pair], pole: Pair) -> Pair:
    """The zero pair (or single zero, for a single pole) nearest to a pole; taken out of the list."""
    if not zeros:
        return ()
    if not pole:
        return zeros.pop(0)
    fitting = [pair for pair in zeros if len(pair) == len(pole)] or zeros
    best = min(fitting, key=lambda pair: (min(abs(root - pole[0]) for root in pair), -len(pair)))
    zeros.remove(best)
    return best


def _section(pole: Pair, zero: Pair) -> tuple[float, Section]:
    b0, b1, b2 = _polynomial(zero)
    _, a1, a2 = _polynomial(pole)
    radius = max((abs(root) for root in pole), default=0.0)
    return radius, (b0, b1, b2, a1, a2)


def _polynomial(roots: Pair) -> tuple[float, float, float]:
    """1 + c1·z⁻¹ + c2·z⁻² with these roots; a pair on the unit circle has c2 = 1 exactly."""
    if not roots:
        return 1.0, 0.0, 0.0
    if len(roots) == 1:
        return 1.0, -roots[0].real, 0.0
    product = (roots[0] * roots[1]).real
    if abs(abs(roots[0]) - 1) < 4e-16 and roots[0].imag:
        product = 1.0
    return 1.0, -(roots[0] + roots[1]).real, product
