"""Jacobi's elliptic functions as filters need them: through the nome, accurate at moduli next to 0 and to 1.

Sources: Orfanidis (2006), "Lecture notes on elliptic filter design"; Jacobi's theta series for the moduli
(Whittaker & Watson 1927, chapter 21).
"""

from __future__ import annotations

from math import asinh, exp, log, pi, sqrt

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

ComplexArray = NDArray[np.complex128]
TERMS = 14
LOST = 1e-17
"""A term so much smaller than the sum changes no digit of it; those that follow are smaller still."""


class Modulus(Struct, frozen=True):
    """An elliptic modulus with all that belongs to it, known by the logarithm of its nome q = exp(−π K'/K).

    ``k`` and its complement ``kc`` are each exact to rounding, however close the other is to 1.
    """

    log_nome: float

    @classmethod
    def of(cls, k: float, kc: float | None = None) -> Modulus:
        """From k (and its complement, where that is known better)."""
        kc = sqrt((1 - k) * (1 + k)) if kc is None else kc
        return cls(-pi * quarter_period(kc, k) / quarter_period(k, kc))

    @property
    def k(self) -> float:
        """The modulus."""
        return _modulus(self.log_nome) if self.log_nome < -pi else _complement(pi * pi / self.log_nome)

    @property
    def kc(self) -> float:
        """The complementary modulus √(1 − k²)."""
        return _complement(self.log_nome) if self.log_nome < -pi else _modulus(pi * pi / self.log_nome)

    @property
    def log_k(self) -> float:
        """ln k, finite where k itself would vanish."""
        if self.log_nome < -60:
            return log(4) + self.log_nome / 2
        return log(self.k)


def quarter_period(k: float, kc: float) -> float:
    """The complete integral K(k), from whichever of modulus and complement is exact: π/2 over the mean of Gauss."""
    a, b = 1.0, kc
    while abs(a - b) > 4e-16 * a:
        a, b = (a + b) / 2, sqrt(a * b)
    return pi / (2 * a)


def _modulus(log_nome: float) -> float:
    """k = (θ2/θ3)² by their series in the nome."""
    upper = 1.0
    for m in range(1, TERMS):
        term = exp(log_nome * m * (m + 1))
        upper += term
        if term < LOST:
            break
    lower = 1 + 2 * _squares(log_nome, 1.0)
    return 4 * exp(log_nome / 2) * (upper / lower) ** 2


def _complement(log_nome: float) -> float:
    """k' = (θ4/θ3)²."""
    upper, lower = 1 + 2 * _squares(log_nome, -1.0), 1 + 2 * _squares(log_nome, 1.0)
    return float((upper / lower) ** 2)


def _squares(log_nome: float, sign: float) -> float:
    """Σ sign^m·q^(m²) from m = 1 on, as far as a term still counts."""
    total, way = 0.0, sign
    for m in range(1, TERMS):
        term = exp(log_nome * m * m)
        total += way * term
        if term < LOST * abs(total):
            break
        way *= sign
    return total


def cd(u: ComplexArray, modulus: Modulus) -> ComplexArray:
    """cd(u·K, k) for complex u in units of the quarter period, by the descending Landen transformation."""
    moduli: list[float] = []
    k, kc = modulus.k, modulus.kc
    while k > 1e-17 and len(moduli) < 40:
        k, kc = (k / (1 + kc)) ** 2, 2 * sqrt(kc) / (1 + kc)
        moduli.append(k)
    w = np.cos(np.asarray(u, dtype=np.complex128) * pi / 2)
    for k in reversed(moduli):
        w = (1 + k) * w / (1 + k * w * w)
    return np.asarray(w)


def inverse_sc(x: float, kc: float) -> float:
    """v with sc(v, k') = x, where ``kc`` is the small complement of that modulus k'."""
    # Imported late: the window opens without it.
    from scipy.special import elliprf

    if kc < 1e-9:
        return asinh(x)
    sine, cosine = x / sqrt(1 + x * x), 1 / sqrt(1 + x * x)
    return float(sine * elliprf(cosine**2, cosine**2 + (kc * sine) ** 2, 1.0))
