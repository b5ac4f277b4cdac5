"""Fractional delay: unit gain and a delay between samples, maximally flat at zero or fitted over a band.

Source: Laakso, Välimäki, Karjalainen & Laine (1996), "Splitting the unit delay: tools for fractional delay filter
design". Lagrange's interpolator is the maximally flat one.
"""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from combe.designing.designed import Design
from combe.designing.minimax import minimax
from combe.designing.settings import FRACTIONAL_BAND as BAND
from combe.designing.settings import FRACTIONAL_DELAY as DELAY
from combe.designing.task import Task
from combe.errors import DesignError
from combe.filters import Fir
from combe.requirement.quantities import frequency_text

Array = NDArray[np.float64]
MOST_FLAT, MOST_FITTED = 120, 400


def make(task: Task) -> Design:
    """The delay of a given order."""
    started = time.perf_counter()
    order = task.order
    delay, band = DELAY.checked(task.choice.setting("delay_samples")), BAND.checked(task.choice.setting("stop_hz"))
    if delay is None:
        raise DesignError("a fractional delay needs delay_samples", "delay_samples", f"such as {order / 2 + 0.25:g}")
    most = MOST_FLAT if band is None else MOST_FITTED
    if not 1 <= order <= most:
        raise DesignError(f"order {order} is out of reach", "order", f"it runs from 1 to {most}")
    notes: tuple[str, ...]
    if band is None:
        found, notes = lagrange(order, delay), ("maximally flat at 0 Hz",)
    else:
        if not 0 < band < task.sample_rate_hz / 2:
            raise DesignError(f"{frequency_text(band)} is no end for the band", "stop_hz",
                              f"it lies between 0 and {frequency_text(task.sample_rate_hz / 2)}")  # fmt: skip
        found, used = _fitted(order, delay, 2 * np.pi * band / task.sample_rate_hz)
        notes = (f"largest complex error {20 * np.log10(max(used, 1e-20)):.1f} dB up to {frequency_text(band)}",)
    if not (order - 1) / 2 <= delay <= (order + 1) / 2:
        notes += (f"a delay near {order / 2:g} samples would use this order best",)
    seconds = time.perf_counter() - started
    return Design("fractional-delay", Fir(tuple(found.tolist())), task.sample_rate_hz, task.requirement, notes, seconds)


def lagrange(order: int, delay: float) -> Array:
    """h_k = Π_(m≠k) (D − m)/(k − m)."""
    k = np.arange(order + 1)
    found = np.ones(order + 1)
    for m in range(order + 1):
        others = k != m
        found[others] *= (delay - m) / (k[others] - m)
    return found


def _fitted(order: int, delay: float, edge: float) -> tuple[Array, float]:
    """The complex minimax fit of e^(−jωD) from 0 to ``edge``."""
    omega = edge * (1 - np.cos(np.linspace(0, np.pi, max(64, 8 * order)))) / 2
    basis: NDArray[np.complex128] = np.exp(-1j * np.outer(omega, np.arange(order + 1)))
    return minimax(basis, np.exp(-1j * delay * omega), np.ones(len(omega)), 40)
