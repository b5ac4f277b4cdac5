"""Pulse shaping: raised cosine and its square root, in closed form with their limits at the removable singularities.

Source: Nyquist (1928), "Certain topics in telegraph transmission theory"; Proakis (2001), "Digital communications",
chapter 9. Both have unit gain in the middle of the passband, so that two square roots in a row make one raised cosine.
"""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from combe.designing.designed import Design
from combe.designing.settings import PULSE as SETTINGS
from combe.designing.task import Task
from combe.errors import DesignError
from combe.filters import Fir

Array = NDArray[np.float64]
MAXIMUM_TAPS = 5000


def make_raised_cosine(task: Task) -> Design:
    """A raised cosine of a given order, 8 symbols long without one."""
    return _made("raised-cosine", raised_cosine, task)


def make_root_raised_cosine(task: Task) -> Design:
    """Its square root, for a transmitter and a receiver alike."""
    return _made("root-raised-cosine", root_raised_cosine, task)


def _made(name: str, pulse: object, task: Task) -> Design:
    started = time.perf_counter()
    samples, roll_off = (setting.checked(task.choice.setting(setting.name)) for setting in SETTINGS)
    assert samples is not None and roll_off is not None
    order = task.choice.order if task.choice.order is not None else 2 * round(4 * samples)
    if not 0 <= order < MAXIMUM_TAPS:
        raise DesignError(f"order {order} is out of reach", "order", f"orders run from 0 to {MAXIMUM_TAPS - 1}")
    t = (np.arange(order + 1) - order / 2) / samples
    taps = pulse(t, roll_off) / samples  # type: ignore[operator]
    taps = (taps + taps[::-1]) / 2
    notes = (f"{order / samples:.4g} symbols long, unit gain in the passband",)
    seconds = time.perf_counter() - started
    return Design(name, Fir(tuple(taps.tolist())), task.sample_rate_hz, task.requirement, notes, seconds)


def raised_cosine(t: Array, roll_off: float) -> Array:
    """sinc(t)·cos(πβt)/(1 − (2βt)²) with t in symbols."""
    bottom = 1 - (2 * roll_off * t) ** 2
    singular = np.abs(bottom) < 1e-8
    regular = np.sinc(t) * np.cos(np.pi * roll_off * t) / np.where(singular, 1.0, bottom)
    limit = np.pi / 4 * np.sinc(1 / (2 * roll_off)) if roll_off else 0.0
    return np.where(singular, limit, regular)


def root_raised_cosine(t: Array, roll_off: float) -> Array:
    """The pulse whose spectrum is the square root of a raised cosine's."""
    if roll_off == 0:
        return np.asarray(np.sinc(t))
    bottom = np.pi * t * (1 - (4 * roll_off * t) ** 2)
    singular = np.abs(bottom) < 1e-8
    top = np.sin(np.pi * t * (1 - roll_off)) + 4 * roll_off * t * np.cos(np.pi * t * (1 + roll_off))
    regular = top / np.where(singular, 1.0, bottom)
    angle = np.pi / (4 * roll_off)
    edge = roll_off / np.sqrt(2) * ((1 + 2 / np.pi) * np.sin(angle) + (1 - 2 / np.pi) * np.cos(angle))
    middle = 1 - roll_off + 4 * roll_off / np.pi
    return np.where(singular, np.where(np.abs(t) < 1e-6, middle, edge), regular)
