"""The five families: how much each tells passband from stopband at an order, and its prototype."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from math import exp, inf, log, log1p

import numpy as np
from msgspec import Struct

from combe.designing.classic import prototypes
from combe.designing.classic.prototypes import Prototype

Row = tuple[float, float, float]
"""Ω, Ω − 1, level."""


class Family(Struct, frozen=True):
    """``log_factor(order, floor, row)`` is ln F with √(loss − 1) = ε·F at a frequency; families that hold a floor
    beyond their stopband edge are told which row that is. ``prototype(order, epsilon, floor)`` has Ω = 1 at the
    passband edge."""

    name: str
    summary: str
    has_floor: bool
    most_order: int
    log_factor: Callable[[int, Row, Row, float], float]
    prototype: Callable[[int, float, Row], Prototype]


def _butterworth(order: int, floor: Row, row: Row, epsilon: float) -> float:
    if row[0] == inf:
        return inf
    return order * log1p(row[1]) if row[1] > -1 else -inf


def _chebyshev(order: int, floor: Row, row: Row, epsilon: float) -> float:
    if row[0] == inf:
        return inf
    return prototypes.log_chebyshev(order, row[0]) if row[0] > 1 else 0.0


def _inverse(order: int, floor: Row, row: Row, epsilon: float) -> float:
    full = _chebyshev(order, floor, floor, epsilon)
    if row[0] >= floor[0]:
        return full
    return full - prototypes.log_chebyshev(order, floor[0] / row[0]) if row[0] > 0 else -inf


def _elliptic(order: int, floor: Row, row: Row, epsilon: float) -> float:
    if row[0] >= floor[0]:
        return prototypes.log_discrimination(order, floor[0], floor[1])
    return prototypes.log_elliptic(order, floor[0], row[0]) if row[0] > 1 else 0.0


def _bessel(order: int, floor: Row, row: Row, epsilon: float) -> float:
    if row[0] == inf:
        return inf
    if row[0] <= 0:
        return -inf
    log_omega, log_excess = _bessel_table(order)
    edge = float(np.interp(2 * log(epsilon), log_excess, log_omega))
    return float(np.interp(edge + log(row[0]), log_omega, log_excess)) / 2 - log(epsilon)


@lru_cache(maxsize=64)
def _bessel_table(order: int) -> tuple[np.ndarray, np.ndarray]:
    """ln(loss − 1) over ln Ω, both rising: what the search reads instead of solving for every share."""
    log_omega = np.linspace(-12.0, log(4.0 * order + 4) + 6, 3000)
    base = prototypes.bessel(order)
    return log_omega, prototypes.log_loss_excesses(base, np.exp(log_omega))


def bessel_edge(order: int, epsilon: float) -> float:
    """The frequency at which a Bessel prototype of unit delay has a loss of 1 + ε²."""
    # Imported late: the window opens without it.
    from scipy.optimize import brentq

    base = prototypes.bessel(order)
    wanted = 2 * log(epsilon)

    def excess(log_omega: float) -> float:
        return prototypes.log_loss_excess(base, exp(log_omega)) - wanted

    low, high = -30.0, log(4.0 * order + 4) + max(wanted, 0) / (2 * order) + 1
    return exp(brentq(excess, low, high, xtol=1e-14))


def _bessel_prototype(order: int, epsilon: float, floor: Row) -> Prototype:
    return prototypes.bessel(order, 1 / bessel_edge(order, epsilon))


FAMILIES = (
    Family("butterworth", "monotone, flattest at the middle of the passband", False, 100, _butterworth,
           lambda order, epsilon, floor: prototypes.butterworth(order, epsilon)),
    Family("chebyshev", "equal ripples in the passband, monotone stopband", False, 100, _chebyshev,
           lambda order, epsilon, floor: prototypes.chebyshev(order, epsilon)),
    Family("inverse-chebyshev", "flat passband, equal ripples in the stopband", True, 100, _inverse,
           lambda order, epsilon, floor: prototypes.inverse_chebyshev(order, epsilon, floor[0])),
    Family("elliptic", "equal ripples in both: the least order of all", True, 100, _elliptic,
           lambda order, epsilon, floor: prototypes.elliptic(order, epsilon, floor[0], floor[1])),
    Family("bessel", "the flattest delay, a slope like a Gaussian's", False, 40, _bessel, _bessel_prototype),
)  # fmt: skip
