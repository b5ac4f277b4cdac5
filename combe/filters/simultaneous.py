"""All roots of a polynomial at once, by small steps that leave other threads their turn: a matrix's eigenvalues hold the interpreter
until the last of them is found, a tenth of a second for two hundred taps."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Real = NDArray[np.float64]
Complex = NDArray[np.complex128]

MOST_ROUNDS = 50
"""Simple roots take a dozen."""
REAL = 1e-10
"""A root's imaginary part is rounding if it is a smaller share of it."""
ALONE = 1e-6
"""The same of a root without a conjugate."""
CLOSE = 4 * float(np.finfo(float).eps)


def roots_of(coefficients: Real) -> Complex:
    """Roots of a real polynomial, highest power first; those at the origin, told by zeros at its end, come last.

    Each of as many points as there are roots goes on as Newton's method would if the others were taken out (Ehrlich 1967,
    Aberth 1973), from circles that the sizes of the coefficients tell (Bini 1996). Conjugate pairs are exact: the upper halves, then
    the lower, then real roots, each by their angles. Where points don't settle eigenvalues of the companion matrix are found instead.
    """
    used = np.flatnonzero(coefficients)
    if not len(used):
        return np.zeros(0, dtype=np.complex128)
    return np.append(
        _apart(coefficients[used[0] : used[-1] + 1]), np.zeros(len(coefficients) - 1 - used[-1], dtype=np.complex128)
    )


def _apart(coefficients: Real) -> Complex:
    """Those of a polynomial whose first and last coefficient aren't zero."""
    degree = len(coefficients) - 1
    if degree < 1:
        return np.zeros(0, dtype=np.complex128)
    scaled = coefficients / np.max(np.abs(coefficients))
    points = _start(scaled[::-1])
    moving = np.arange(degree)
    for _ in range(MOST_ROUNDS):
        here = points[moving]
        with np.errstate(all="ignore"):
            newton, is_root = _newton(scaled, here)
            away = here[:, None] - points
            away[np.arange(len(moving)), moving] = np.inf
            step = newton / (1 - newton * np.sum(1 / away, axis=1))
        step = np.where(is_root, 0, step)
        points[moving] = here - step
        moving = moving[np.abs(step) > CLOSE * np.abs(here)]
        if not len(moving):
            paired = _paired(points)
            if len(paired) == degree:
                return paired
            break  # points got lost, or halves of a pair did
    return np.asarray(np.roots(coefficients), dtype=np.complex128)


def _paired(points: Complex) -> Complex:
    """Exact pairs: what is as good as real is real, and of all others the upper ones stand for both. A point that has no
    other half and lies next to the axis is real, too: of some roots rounding says little."""
    points = points[np.lexsort((np.abs(points), np.abs(np.angle(points))))]
    share = points.imag / np.abs(points)
    is_real = np.abs(share) < REAL
    upper, lower = np.flatnonzero((share > 0) & ~is_real), np.flatnonzero((share < 0) & ~is_real)
    longer, spare = (upper if len(upper) > len(lower) else lower), abs(len(upper) - len(lower))
    alone = longer[np.argsort(np.abs(share[longer]))[:spare]]
    is_real[alone[np.abs(share[alone]) < ALONE]] = True
    halves = points[(share > 0) & ~is_real]
    return np.concatenate([halves, halves.conj(), points[is_real].real + 0j])


def _start(ascending: Real) -> Complex:
    """Points on circles: one for each edge of the upper hull of the coefficients' logarithms, with as many points as it is long."""
    powers = np.flatnonzero(ascending)
    heights = np.log(np.abs(ascending[powers]))
    hull: list[int] = []
    for new in range(len(powers)):
        while len(hull) > 1 and _rises(powers, heights, hull[-2], hull[-1]) <= _rises(powers, heights, hull[-1], new):
            hull.pop()
        hull.append(new)
    found = []
    for first, last in zip(hull, hull[1:]):
        count = int(powers[last] - powers[first])
        radius = math.exp(-_rises(powers, heights, first, last))
        turns = np.arange(count) / count + powers[first] / len(ascending)
        found.append(radius * np.exp(2j * np.pi * turns + 0.7j))
    return np.concatenate(found)


def _rises(powers: NDArray[np.int64], heights: Real, first: int, last: int) -> float:
    return float((heights[last] - heights[first]) / (powers[last] - powers[first]))


def _newton(coefficients: Real, points: Complex) -> tuple[Complex, NDArray[np.bool_]]:
    """Newton's step at each point, and where the value is no more than rounding: beyond the unit circle from the polynomial turned
    around, so that no power overflows."""
    is_out = np.abs(points) > 1
    inner = np.where(is_out, 1 / points, points)
    rows = np.where(is_out, coefficients[::-1, None], coefficients[:, None])
    value, slope = rows[0].astype(np.complex128), np.zeros(len(points), dtype=np.complex128)
    size, radius = np.abs(rows[0]), np.abs(inner)
    for row in rows[1:]:
        slope = slope * inner + value
        value = value * inner + row
        size = size * radius + np.abs(row)
    degree = len(coefficients) - 1
    turned = 1 / (inner * (degree - inner * slope / value))
    return np.where(is_out, turned, value / slope), np.abs(value) <= CLOSE * size
