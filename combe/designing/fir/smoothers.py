"""Smoothers: the moving average, and local polynomials fitted by least squares.

Source: Savitzky & Golay (1964), "Smoothing and differentiation of data by simplified least squares procedures"; the
fit is made in polynomials orthogonal over the samples (Gram), which no degree makes ill-conditioned.
"""

from __future__ import annotations

import time
from math import factorial

import numpy as np
from numpy.typing import NDArray

from combe.designing.designed import Design
from combe.designing.settings import DEGREE, DERIVATIVE
from combe.designing.task import Task
from combe.errors import DesignError
from combe.filters import Fir

Array = NDArray[np.float64]
MAXIMUM_TAPS = 5000


def make_moving_average(task: Task) -> Design:
    """The mean of the last order + 1 samples."""
    started = time.perf_counter()
    order = _order(task)
    found = Fir((1 / (order + 1),) * (order + 1))
    notes = ("no multiplies are needed: a running sum and one scale will do",)
    return Design("moving-average", found, task.sample_rate_hz, task.requirement, notes, time.perf_counter() - started)


def make_savitzky_golay(task: Task) -> Design:
    """The value (or a derivative, per sample) in the middle of a polynomial fitted over the taps."""
    started = time.perf_counter()
    order = _order(task)
    degree, derivative = (int(s.checked(task.choice.setting(s.name)) or 0) for s in (DEGREE, DERIVATIVE))
    if order % 2:
        raise DesignError(f"an order of {order} has no middle sample", "order", f"use {order - 1} or {order + 1}")
    if degree > order:
        raise DesignError(f"degree {degree} needs more than {order + 1} samples", "degree", f"{order} is the most")
    if derivative > degree:
        raise DesignError(f"a polynomial of degree {degree} has no derivative {derivative}", "derivative")
    taps = local_polynomial(order // 2, degree, derivative)[::-1]
    found = Fir(tuple(taps.tolist()))
    seconds = time.perf_counter() - started
    return Design("savitzky-golay", found, task.sample_rate_hz, task.requirement, (), seconds)


def _order(task: Task) -> int:
    order = task.order
    if not 0 <= order < MAXIMUM_TAPS:
        raise DesignError(f"order {order} is out of reach", "order", f"orders run from 0 to {MAXIMUM_TAPS - 1}")
    return order


def local_polynomial(half: int, degree: int, derivative: int) -> Array:
    """Weights over samples −half … half that give the derivative at 0 of the fitted polynomial, exact symmetry kept."""
    x = np.arange(-half, half + 1) / max(half, 1)
    table = np.polynomial.chebyshev.chebvander(x, degree)
    basis, triangle = np.linalg.qr(table)
    rows = np.eye(degree + 1)
    slopes = [np.polynomial.chebyshev.chebval(0.0, np.polynomial.chebyshev.chebder(row, derivative)) for row in rows]
    at_zero = np.linalg.solve(triangle.T, np.array(slopes))
    weights = basis @ at_zero / float(max(half, 1)) ** derivative
    sign = 1 if derivative % 2 == 0 else -1
    weights = (weights + sign * weights[::-1]) / 2
    if derivative:
        weights = weights * factorial(derivative) / np.sum(weights * np.arange(-half, half + 1.0) ** derivative)
    else:
        weights = weights / np.sum(weights)
    return np.asarray(weights)
