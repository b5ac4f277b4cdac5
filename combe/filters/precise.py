"""Roots of integer polynomials, each as exact as a double can say it.

Companion matrices lose the digits of clustered roots. Here starting values from one are pulled to the roots together
(Aberth 1973, "Iteration methods for finding all zeros of a polynomial simultaneously") in integers of as many bits as
the degree asks for.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

ComplexArray = NDArray[np.complex128]
MOST_STEPS = 200


def precise_roots(coefficients: list[int]) -> ComplexArray:
    """All roots of Σ coefficients[k]·x^(n−k), leading coefficient first; zero roots included."""
    values = list(coefficients)
    while values and values[0] == 0:
        values.pop(0)
    zeros = 0
    while values and values[-1] == 0:
        values.pop()
        zeros += 1
    degree = len(values) - 1
    if degree < 1:
        return np.zeros(zeros, complex)
    largest = max(abs(value) for value in values)
    start: ComplexArray = np.asarray(np.roots([value / largest for value in values]), complex)
    if len(start) != degree:  # a leading coefficient too small for a double: its roots lie far out
        start = np.concatenate([start, 1e3 * np.exp(1j * (0.4 + np.arange(degree - len(start))))])
    bits = 128 + 24 * degree
    found = _aberth(values, _spread(start), bits)
    return np.concatenate([_mirrored(found), np.zeros(zeros, complex)])


def _spread(start: ComplexArray) -> ComplexArray:
    """Starting values that agree are moved apart a little: two can't find two roots from one place."""
    moved = start * (1 + 1e-9 * np.exp(2.4j * np.arange(len(start))))
    return np.asarray(moved)


def _aberth(values: list[int], start: ComplexArray, bits: int) -> ComplexArray:
    one = 1 << bits
    points = [(round(float(z.real) * 2**60) << (bits - 60), round(float(z.imag) * 2**60) << (bits - 60)) for z in start]
    degree = len(values) - 1
    slopes = [value * (degree - k) for k, value in enumerate(values[:-1])]
    settled = [False] * degree
    goal = one >> 70
    for _ in range(MOST_STEPS):
        for k in range(degree):
            if settled[k]:
                continue
            p = _value(values, points[k], bits)
            if p == (0, 0):
                settled[k] = True
                continue
            ratio = _divided(p, _value(slopes, points[k], bits), bits)
            if ratio is None:
                points[k] = (points[k][0] + (one >> 20), points[k][1] + (one >> 21))
                continue
            pull = (0, 0)
            for j in range(degree):
                if j != k:
                    gap = (points[k][0] - points[j][0], points[k][1] - points[j][1])
                    inverse = _divided((one, 0), gap, bits)
                    if inverse is not None:
                        pull = (pull[0] + inverse[0], pull[1] + inverse[1])
            against = _times(ratio, pull, bits)
            move = _divided(ratio, (one - against[0], -against[1]), bits) or ratio
            points[k] = (points[k][0] - move[0], points[k][1] - move[1])
            settled[k] = abs(move[0]) + abs(move[1]) <= goal
        if all(settled):
            break
    return np.array([complex(x / one, y / one) for x, y in points])


def _value(values: list[int], z: tuple[int, int], bits: int) -> tuple[int, int]:
    re, im = values[0] << bits, 0
    x, y = z
    for value in values[1:]:
        re, im = ((re * x - im * y) >> bits) + (value << bits), (re * y + im * x) >> bits
    return re, im


def _times(a: tuple[int, int], b: tuple[int, int], bits: int) -> tuple[int, int]:
    return (a[0] * b[0] - a[1] * b[1]) >> bits, (a[0] * b[1] + a[1] * b[0]) >> bits


def _divided(a: tuple[int, int], b: tuple[int, int], bits: int) -> tuple[int, int] | None:
    size = b[0] * b[0] + b[1] * b[1]
    if size == 0:
        return None
    re, im = a[0] * b[0] + a[1] * b[1], a[1] * b[0] - a[0] * b[1]
    return (re << bits) // size, (im << bits) // size


def _mirrored(found: ComplexArray) -> ComplexArray:
    """Real polynomials have real roots and pairs: each made exactly so."""
    real = [complex(z.real) for z in found if abs(z.imag) <= 1e-15 * max(abs(z), 1e-300)]
    above = [complex(z) for z in found if z.imag > 1e-15 * abs(z)]
    return np.array(real + [w for z in above for w in (z, z.conjugate())], complex)
