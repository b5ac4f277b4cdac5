"""Half-band filters: every second tap but the middle one is exactly zero.

Source: Vaidyanathan & Nguyen (1987), "A 'trick' for the design of FIR half-band filters": the amplitude is
½(1 + G(2ω)) with G a filter of even length and one band only, designed by the exchange.
"""

from __future__ import annotations

import time
from math import log10

import numpy as np

from combe.designing.classic.plan import Plan, plan_of
from combe.designing.designed import Design
from combe.designing.equiripple.exchange import Approximation, exchange
from combe.designing.equiripple.problem import Piece, Problem
from combe.designing.equiripple.taps import taps_of
from combe.designing.estimates import kaiser_equiripple_taps
from combe.designing.task import Task
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text

LARGEST_G = 1200


def make(task: Task) -> Design:
    """The half-band filter of least or given order."""
    started = time.perf_counter()
    plan, edge, ripple = _plan(task.asked)
    if task.choice.order is None:
        found = _least(task, plan, edge, ripple)
    else:
        if task.order % 4 != 2:
            near = task.order - (task.order - 2) % 4
            raise DesignError(
                f"a half-band filter has an order like 2, 6, 10, and {task.order} isn't",
                "order",
                f"use {max(near, 2)} or {near + 4}",
            )
        found = _filter(_approximation(task, (task.order + 2) // 2, edge, ripple), plan)
    return Design("half-band", found, task.sample_rate_hz, task.requirement, (), time.perf_counter() - started)


def _plan(requirement: Requirement) -> tuple[Plan, float, float]:
    """The passband edge as a lowpass in radians, the stopband's mirror image included, and the ripple both need."""
    plan = plan_of(requirement)
    if plan.shape not in ("lowpass", "highpass"):
        raise DesignError(f"a half-band filter is a lowpass or a highpass, and this is a {plan.shape}", "bands")
    inner = [edge for edge, level in plan.stops if level <= plan.high / 2]
    if len(inner) < len(plan.stops) or not inner:
        raise DesignError("a stopband asks for less than 6 dB", "bands", "ask for more, or take equiripple")
    if plan.shape == "lowpass":
        pass_edge, stop_edge = 2 * np.arctan(plan.passes[0]), 2 * np.arctan(min(inner))
    else:
        pass_edge, stop_edge = np.pi - 2 * np.arctan(plan.passes[0]), np.pi - 2 * np.arctan(max(inner))
    edge = max(float(pass_edge), float(np.pi - stop_edge))
    if edge >= np.pi / 2 * (1 - 1e-9):
        quarter = requirement.sample_rate_hz / 4
        what = f"a quarter of the sample rate, {frequency_text(quarter)}, doesn't lie inside the transition"
        raise DesignError(what, "bands", "a half-band filter is symmetric about it")
    return plan, edge, min([plan.room / plan.middle] + [level / plan.middle for _, level in plan.stops])


def _least(task: Task, plan: Plan, edge: float, ripple: float) -> Fir:
    guess = kaiser_equiripple_taps(ripple, ripple, (np.pi - 2 * edge) / (2 * np.pi))
    if guess > 4 * LARGEST_G:
        raise DesignError(f"this would take about {guess:,.0f} taps", "bands", "widen the transition")
    length = max(2, 2 * round(guess / 4))
    errors: dict[int, float] = {}

    def error(taps: int) -> float:
        if task.is_stopped():
            raise Stopped
        if taps not in errors:
            errors[taps] = _approximation(task, taps, edge, ripple).error
        return errors[taps]

    while error(length) > 1 and length < 2 * LARGEST_G:
        length += 2
    while length > 2 and error(length - 2) <= 1:
        length -= 2
    for _ in range(4):
        found = _filter(_approximation(task, length, edge, ripple), plan)
        if all(line.margin >= 0 for line in gain_lines(found, task.asked)):
            return found
        length += 2
    raise DesignError("rounding in double precision breaks a limit", "bands", "ask for less attenuation")


def _approximation(task: Task, taps: int, edge: float, ripple: float) -> Approximation:
    limits = [20 * log10(1 - 2 * min(ripple, 0.49)), 20 * log10(1 + 2 * ripple)]
    piece = Piece(0.0, 2 * edge, (limits[0], limits[0]), (limits[1], limits[1]))
    return exchange(Problem((piece,), taps, 1), None, False, task.is_stopped)


def _filter(found: Approximation, plan: Plan) -> Fir:
    half = np.array(taps_of(found).taps) / 2
    taps = np.zeros(2 * len(half) - 1)
    taps[::2] = half
    taps[len(half) - 1] = 0.5
    if plan.shape == "highpass":
        taps = taps * (-1.0) ** (np.arange(len(taps)) - len(half) + 1)
    return Fir(tuple((taps * plan.middle).tolist()))
