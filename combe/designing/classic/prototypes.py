"""Analog lowpass prototypes as zeros and poles; the passband ends at Ω = 1.

``epsilon`` is √(loss − 1) at the passband edge, where loss is the largest gain over the gain there, squared.
Sources: Butterworth (1930); Cauer (1958), "Synthesis of linear communication networks"; Thomson (1949), "Delay
networks having maximally flat frequency characteristics"; Orfanidis (2006), "Lecture notes on elliptic filter design".
"""

from __future__ import annotations

from functools import lru_cache
from math import acosh, asinh, cosh, exp, factorial, log, log1p, pi, sqrt

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.classic.elliptic import Modulus, cd, inverse_sc, quarter_period

Array = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]


class Prototype(Struct, frozen=True, eq=False):
    """Roots of an analog lowpass; ``zeros`` lists the finite ones. ``dips`` says that the gain at 0 is the least of
    the passband, not the largest."""

    zeros: ComplexArray
    poles: ComplexArray
    dips: bool = False


def butterworth(order: int, epsilon: float) -> Prototype:
    """Poles evenly on a circle of radius ε^(−1/n)."""
    angle = pi * (2 * np.arange(order) + 1) / (2 * order)
    poles = epsilon ** (-1 / order) * (-np.sin(angle) + 1j * np.cos(angle))
    return Prototype(np.empty(0, complex), _tidy(poles))


def chebyshev(order: int, epsilon: float) -> Prototype:
    """Poles on an ellipse; equal ripples in the passband."""
    v = asinh(1 / epsilon) / order
    angle = pi * (2 * np.arange(order) + 1) / (2 * order)
    poles = -np.sinh(v) * np.sin(angle) + 1j * np.cosh(v) * np.cos(angle)
    return Prototype(np.empty(0, complex), _tidy(poles), order % 2 == 0)


def inverse_chebyshev(order: int, epsilon: float, stop: float) -> Prototype:
    """Equal ripples beyond ``stop``: the reciprocals of a Chebyshev filter's roots.

    The loss at Ω = 1 is 1 + ε², so that in the stopband it is at least 1 + (ε·T_n(stop))².
    """
    v = asinh(exp(log(epsilon) + log_chebyshev(order, stop))) / order
    angle = pi * (2 * np.arange(order) + 1) / (2 * order)
    poles = stop / (-np.sinh(v) * np.sin(angle) + 1j * np.cosh(v) * np.cos(angle))
    cosines = np.cos(angle)
    cosines = cosines[np.abs(cosines) > 1e-12] if order % 2 else cosines
    return Prototype(1j * stop / cosines, _tidy(poles))


def elliptic(order: int, epsilon: float, stop: float, stop_excess: float | None = None) -> Prototype:
    """Equal ripples in the passband and beyond ``stop``; ``stop_excess`` is stop − 1 where that is known better."""
    modulus = selectivity(stop, stop_excess)
    ripples = Modulus(order * modulus.log_nome)
    k1 = ripples.k
    v = inverse_sc(1 / epsilon, k1) / (order * quarter_period(k1, ripples.kc))
    half = order // 2
    u = (2 * np.arange(1, half + 1) - 1) / order
    zeros = 1j / (modulus.k * cd(u.astype(complex), modulus).real)
    poles = 1j * cd(np.asarray(u - 1j * v, dtype=np.complex128), modulus)
    every = [poles, poles.conj()]
    if order % 2:
        every.append(np.array([1j * cd(np.array([1 - 1j * v]), modulus)[0]]))
    return Prototype(np.concatenate([zeros, zeros.conj()]), _tidy(np.concatenate(every)), order % 2 == 0)


@lru_cache(maxsize=1024)
def selectivity(stop: float, stop_excess: float | None = None) -> Modulus:
    """The modulus k = 1/stop of a transition."""
    excess = stop - 1 if stop_excess is None else stop_excess
    return Modulus.of(1 / stop, sqrt(excess * (stop + 1)) / stop)


@lru_cache(maxsize=64)
def _bessel_poles(order: int) -> tuple[complex, ...]:
    """Zeros of the reverse Bessel polynomial: eigenvalues for a start, then simultaneous Newton steps (Aberth 1973).

    The zeros depend so finely on the coefficients that doubles lose them from about order 20: the polynomial is
    evaluated in integers of as many bits as it takes.
    """
    # Reciprocals of the zeros are eigenvalues of the tridiagonal matrix of the three-term recurrence.
    j = np.arange(1, order)
    lower = 1 / np.sqrt((2.0 * j - 1) * (2 * j + 1)) * 1j
    matrix = np.diag(lower, 1) + np.diag(lower, -1)
    matrix[0, 0] = -1.0
    roots: ComplexArray = np.asarray(1 / np.linalg.eigvals(matrix), dtype=np.complex128)
    for _ in range(40):
        step = np.array([_bessel_newton(order, complex(root)) for root in roots])
        gaps = roots[:, None] - roots[None, :]
        np.fill_diagonal(gaps, np.inf)
        moved = step / (1 - step * np.sum(1 / gaps, axis=1))
        roots = roots - moved
        if np.max(np.abs(moved / roots)) < 4e-16:
            break
    return tuple(_tidy(roots).tolist())


@lru_cache(maxsize=4)
def _bessel_coefficients(order: int) -> tuple[int, ...]:
    return tuple(
        factorial(2 * order - k) // (2 ** (order - k) * factorial(k) * factorial(order - k)) for k in range(order + 1)
    )


def _bessel_newton(order: int, s: complex) -> complex:
    """θ_n/θ_n' at s by Horner's rule in fixed-point integers; θ_n = Σ (2n−k)!/(2^(n−k) k! (n−k)!) s^k."""
    bits = 80 + 8 * order
    real, imaginary = int(s.real * 2**60) << (bits - 60), int(s.imag * 2**60) << (bits - 60)
    coefficients = _bessel_coefficients(order)
    value, slope = (0, 0), (0, 0)
    for k in range(order, -1, -1):
        slope = _times(slope, real, imaginary, bits)
        slope = (slope[0] + value[0], slope[1] + value[1])
        value = _times(value, real, imaginary, bits)
        value = (value[0] + (coefficients[k] << bits), value[1])
    square = slope[0] ** 2 + slope[1] ** 2
    top = (value[0] * slope[0] + value[1] * slope[1], value[1] * slope[0] - value[0] * slope[1])
    return complex((top[0] << 200) // square / 2**200, (top[1] << 200) // square / 2**200)


def _times(value: tuple[int, int], real: int, imaginary: int, bits: int) -> tuple[int, int]:
    return (
        (value[0] * real - value[1] * imaginary) >> bits,
        (value[0] * imaginary + value[1] * real) >> bits,
    )


def bessel(order: int, scale: float = 1.0) -> Prototype:
    """Maximally flat delay: 1 second at low frequencies over ``scale``."""
    return Prototype(np.empty(0, complex), np.array(_bessel_poles(order), dtype=np.complex128) * scale)


def log_loss_excess(prototype: Prototype, omega: float) -> float:
    """ln(loss − 1) of an all-pole prototype with unit gain at 0; loss − 1 doesn't cancel near 0."""
    return float(log_loss_excesses(prototype, np.array([omega]))[0])


def log_loss_excesses(prototype: Prototype, omega: NDArray[np.float64]) -> NDArray[np.float64]:
    """The same at many frequencies."""
    square = np.abs(prototype.poles) ** 2
    u = omega[:, None] ** 2 / square
    # |1 − jΩ/p|·|1 − jΩ/p*| of a pair, written as the root of 1 + a; a real pole has a = Ω²/p².
    bend = 2 * (prototype.poles.real**2 - prototype.poles.imag**2) / square
    pair = prototype.poles.imag != 0
    terms = np.sum(np.where(pair, 0.5, 1.0) * np.log1p(np.where(pair, u * (bend + u), u)), axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(np.where(terms > 0, np.log(-np.expm1(-terms)) + terms, -np.inf))


def log_chebyshev(order: int, x: float) -> float:
    """ln T_n(x) for x ≥ 1."""
    t = order * acosh(max(x, 1.0))
    return t - log(2) + log1p(exp(-2 * t)) if t > 1 else log(cosh(t))


@lru_cache(maxsize=1024)
def log_discrimination(order: int, stop: float, stop_excess: float | None = None) -> float:
    """ln(1/k1): how much an elliptic filter of an order tells its bands apart (the degree equation)."""
    return -Modulus(order * selectivity(stop, stop_excess).log_nome).log_k


@lru_cache(maxsize=256)
def _elliptic_zeros(order: int, stop: float) -> tuple[float, NDArray[np.float64], NDArray[np.float64]]:
    """The modulus, the zeros of the elliptic rational function, and its factors at the passband edge."""
    modulus = selectivity(stop)
    u = (2 * np.arange(1, order // 2 + 1) - 1) / order
    zeros = cd(u.astype(complex), modulus).real
    return modulus.k, zeros, (1 - zeros**2) / (1 - (modulus.k * zeros) ** 2)


def log_elliptic(order: int, stop: float, omega: float) -> float:
    """ln R_n(Ω) between passband and stopband edge, from the roots of the elliptic rational function."""
    k, zeros, ones = _elliptic_zeros(order, stop)
    here = (omega**2 - zeros**2) / (1 - (k * zeros * omega) ** 2)
    total = float(np.sum(np.log(np.abs(here / ones))))
    return total + (log(omega) if order % 2 else 0.0)


def _tidy(poles: ComplexArray) -> ComplexArray:
    """Left half plane, real poles exactly real, conjugates exactly conjugate."""
    poles = -np.abs(poles.real) + 1j * poles.imag
    scale = np.abs(poles)
    real = np.abs(poles.imag) < 1e-9 * scale
    upper = poles[(poles.imag > 0) & ~real]
    return np.concatenate([upper, upper.conj(), poles[real].real.astype(complex)])


__all__ = [
    "Prototype", "bessel", "butterworth", "chebyshev", "elliptic", "inverse_chebyshev", "log_chebyshev",
    "log_discrimination", "log_elliptic", "log_loss_excess", "selectivity",
]  # fmt: skip
