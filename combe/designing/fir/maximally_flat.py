"""Maximally flat linear-phase lowpass and highpass filters: no ripple anywhere.

Source: Herrmann (1971), "On the approximation problem in nonrecursive digital filter design". With x = (1 − cos ω)/2
the amplitude is the chance that at most L − 1 of M trials of probability x succeed, an incomplete beta function: a sum
of positive terms, exact at any order. The taps come from its samples by one transform.
"""

from __future__ import annotations

import time
from math import log10, pi, sin
from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.designing.classic.method import cutoff_edges
from combe.designing.classic.plan import plan_of
from combe.designing.designed import Design
from combe.designing.task import Task
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text, level_text

Array = NDArray[np.float64]
MOST = 1200
"""The largest M: orders to 2M."""
SEEN_DB = 0.005


def betainc(a: Any, b: Any, x: Any) -> Any:
    """The regularized incomplete beta function."""
    # Imported late: the window opens without it.
    from scipy.special import betainc as function

    return function(a, b, x)


def make(task: Task) -> Design:
    """The maximally flat filter of least or given order (even), or of a −6 dB cut-off."""
    started = time.perf_counter()
    notes: tuple[str, ...] = ()
    if task.choice.cutoffs_hz:
        found, notes = _by_cutoff(task)
    else:
        shape, low, high, x_pass, x_stop = _plan(task.asked)
        if task.choice.order is None:
            found, notes = _least(task, shape, low, high, x_pass, x_stop)
        else:
            half = _half_order(task.order)
            used, flat = _best(half, low, high, x_pass, x_stop)
            found = _filter(half, flat, shape, _gain(low, high, used))
    return Design("maximally-flat", found, task.sample_rate_hz, task.requirement, notes, time.perf_counter() - started)


def _half_order(order: int) -> int:
    if order % 2 or order < 2:
        raise DesignError(f"a maximally flat filter has an even order, and {order} isn't", "order", "use an even one")
    if order > 2 * MOST:
        raise DesignError(f"order {order} is out of reach", "order", f"the most is {2 * MOST}")
    return order // 2


def _plan(requirement: Requirement) -> tuple[str, float, float, float, list[tuple[float, float]]]:
    """Shape, limits, x at the passband edge, and (x, level) of each stopband knot, all seen as a lowpass."""
    plan = plan_of(requirement)
    if plan.shape not in ("lowpass", "highpass"):
        raise DesignError(
            f"maximally flat filters are lowpass or highpass, and this is a {plan.shape}", "bands", "take equiripple"
        )

    def x_of(edge: float) -> float:
        # sin²(ω/2) from the prewarped edge tan(ω/2); a highpass is a lowpass seen from the other end.
        square = edge * edge if plan.shape == "lowpass" else (1 / (edge * edge) if edge else np.inf)
        return 1.0 if square == np.inf else square / (1 + square)

    return plan.shape, plan.low, plan.high, x_of(plan.passes[0]), [(x_of(e), level) for e, level in plan.stops]


def _gain(low: float, high: float, used: float) -> float:
    return (low + high) / 2 + min(used, 1.0) * (high - low) / 2


def _shares(half: int, flat: Array, low: float, high: float, x_pass: float, stops: list[tuple[float, float]]) -> Array:
    """The least share of the tolerances M = ``half`` and each L = ``flat`` need."""
    down = betainc(flat, half - flat + 1, x_pass)
    middle, room = (low + high) / 2, (high - low) / 2
    # (m + c·r)(1 − down) ≥ m − c·r
    used = middle * down / (room * (2 - down))
    for x, level in stops:
        left = betainc(half - flat + 1, flat, 1 - x)
        # (m + c·r)·left ≤ c·level
        free = np.maximum(level - room * left, 0)
        used = np.maximum(used, np.where(free > 0, middle * left / np.where(free > 0, free, 1.0), np.inf))
    return np.asarray(used)


def _best(half: int, low: float, high: float, x_pass: float, stops: list[tuple[float, float]]) -> tuple[float, int]:
    """The L that needs the least share, and that share."""
    flat = np.arange(1, half + 1, dtype=np.float64)
    used = _shares(half, flat, low, high, x_pass, stops)
    at = int(np.argmin(used))
    return float(used[at]), int(flat[at])


def _least(
    task: Task, shape: str, low: float, high: float, x_pass: float, stops: list[tuple[float, float]]
) -> tuple[Fir, tuple[str, ...]]:
    nearest = min(x for x, _ in stops)
    if nearest <= x_pass:
        raise DesignError("there is no transition for the gain to fall in", "bands", "move the edges apart")

    def best(half: int) -> tuple[float, int]:
        if task.is_stopped():
            raise Stopped
        return _best(half, low, high, x_pass, stops)

    top = 1
    while best(top)[0] > 1:
        if top == MOST:
            what = f"a slope without ripples would take more than {2 * MOST} taps"
            raise DesignError(what, "bands", "widen the transition, or take equiripple")
        top = min(2 * top, MOST)
    bottom = top // 2
    while top - bottom > 1:
        middle = (top + bottom) // 2
        bottom, top = (bottom, middle) if best(middle)[0] <= 1 else (middle, top)
    for half in range(max(1, top - max(3, top // 6)), min(top + 4, MOST)):
        used, flat = best(half)
        if used <= 1:
            found = _filter(half, flat, shape, _gain(low, high, used))
            if all(line.margin >= 0 for line in gain_lines(found, task.asked)):
                return found, (
                    f"{2 * flat - 1} derivatives vanish in the passband, {2 * (half - flat) + 1} at the far end",
                )
    raise DesignError("rounding in double precision breaks a limit", "bands", "relax the tightest one a little")


def _filter(half: int, flat: int, shape: str, gain: float) -> Fir:
    """Taps by an exact transform of the amplitude's samples."""
    count = 2 * half + 1
    x = np.sin(np.pi * np.arange(half + 1) / count) ** 2
    amplitude = gain * betainc(half - flat + 1, flat, 1 - x)
    right = np.fft.irfft(amplitude, count)[: half + 1]
    taps = np.concatenate([right[:0:-1], right])
    if shape == "highpass":
        taps = taps * (-1.0) ** (np.arange(count) - half)
    return Fir(tuple(taps.tolist()))


def _by_cutoff(task: Task) -> tuple[Fir, tuple[str, ...]]:
    """The flatness whose gain at the cut-off is nearest to half; an order has only so many to choose from."""
    shape, _edges = cutoff_edges(task)
    if shape not in ("lowpass", "highpass"):
        raise DesignError(f"maximally flat filters are lowpass or highpass, and not {shape}", "shape")
    half = _half_order(task.order)
    cutoff = task.choice.cutoffs_hz[0]
    x = sin(pi * cutoff / task.sample_rate_hz) ** 2
    x = x if shape == "lowpass" else 1 - x
    gains = {count: float(betainc(half - count + 1, count, 1 - x)) for count in range(1, half + 1)}
    flat = min(gains, key=lambda count: abs(gains[count] - 0.5))
    notes: tuple[str, ...] = ()
    level = 20 * log10(max(gains[flat], 1e-20))
    if abs(level - 20 * log10(0.5)) > SEEN_DB:
        notes = (
            f"the gain is {level_text(level, 2)} at {frequency_text(cutoff, task.sample_rate_hz)}, not −6.02 dB: order "
            f"{task.order} has {half} maximally flat filters, and this is the nearest",
        )
    return _filter(half, flat, shape, 1.0), notes
