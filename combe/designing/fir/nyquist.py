"""Nyquist (M-th band) filters: every M-th tap from the middle is exactly zero, so that symbols don't meet.

Source: Mintzer (1982), "On half-band, third-band, and Nth-band FIR filters and their design"; the free taps are
fitted towards the least largest error.
"""

from __future__ import annotations

import time

import numpy as np

from combe.designing.caps import transition_pieces
from combe.designing.classic.plan import plan_of
from combe.designing.designed import Design
from combe.designing.equiripple.problem import Table, pieces_of
from combe.designing.lengths import first_guess
from combe.designing.linear_phase import crowded
from combe.designing.minimax import minimax
from combe.designing.settings import NYQUIST_BANDS as BANDS
from combe.designing.task import Task
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement.quantities import frequency_text

MAXIMUM_TAPS = 301
POINTS_PER_STEP = 14


def make(task: Task) -> Design:
    """The M-th band lowpass of least or given order."""
    started = time.perf_counter()
    requirement = task.asked
    plan = plan_of(requirement)
    if plan.shape != "lowpass":
        raise DesignError(f"an M-th band filter is a lowpass, and this is a {plan.shape}", "bands")
    low = np.arctan(plan.passes[0]) / np.pi
    high = np.arctan(min(edge for edge, _ in plan.stops)) / np.pi
    asked = BANDS.checked(task.choice.setting("bands"))
    bands = round(asked) if asked else round(1 / (low + high))
    if bands < 2 or not low < 0.5 / bands < high:
        rate = requirement.sample_rate_hz
        what = f"no frequency of the form rate/2M ({frequency_text(rate / (2 * max(bands, 2)))} is nearest) lies in the transition"
        raise DesignError(what, "bands", "an M-th band filter has half its gain there")
    if task.choice.order is None:
        found = _least(task, bands)
    else:
        if task.order % 2 or not 2 <= task.order < MAXIMUM_TAPS:
            raise DesignError(
                f"order {task.order} can't be had", "order", f"use an even order from 2 to {MAXIMUM_TAPS - 1}"
            )
        found, _ = _filter(task, task.order + 1, bands)
    notes = (f"every {_ordinal(bands)} tap is zero",)
    return Design("nyquist", found, task.sample_rate_hz, requirement, notes, time.perf_counter() - started)


def _ordinal(count: int) -> str:
    return {2: "second", 3: "third"}.get(count, f"{count}th")


def _least(task: Task, bands: int) -> Fir:
    guess = first_guess(task.asked) | 1
    if guess > MAXIMUM_TAPS:
        raise DesignError(f"this would take about {guess:,} taps, and {MAXIMUM_TAPS} is the most", "bands",
                          "widen the transition")  # fmt: skip
    taps = guess
    while taps <= min(2 * guess + 40, MAXIMUM_TAPS):
        if task.is_stopped():
            raise Stopped
        found, used = _filter(task, taps, bands)
        if used <= 1.01 and all(line.margin >= 0 for line in gain_lines(found, task.asked)):
            return found
        step = 2 if used < 1.3 else max(2, taps // 16 * 2)
        taps += step
        if (taps // 2) % bands == 0:
            taps += 2  # an outermost tap that is zero adds nothing
    raise DesignError("its fixed zeros leave too little freedom for these limits", "bands", "take equiripple")


def _filter(task: Task, taps: int, bands: int) -> tuple[Fir, float]:
    """The free taps fitted, and the share of the tolerances used on the grid."""
    requirement = task.asked
    pieces = (*pieces_of(requirement), *transition_pieces(requirement))
    table = Table.of(pieces)
    half = taps // 2
    omega, where = crowded(pieces, POINTS_PER_STEP * half)
    target, room = table.target(omega, where)
    passband = next(band for band in requirement.bands if band.lower is not None)
    assert passband.lower is not None
    gain = (10 ** (passband.lower.first_db / 20) + 10 ** (passband.upper.first_db / 20)) / 2
    steps = np.array([k for k in range(1, half + 1) if k % bands])
    basis = 2 * np.cos(np.outer(omega, steps))
    free, used = minimax(basis, target - gain / bands, room, 30)
    right = np.zeros(half + 1)
    right[0] = gain / bands
    right[steps] = free
    return Fir(tuple(np.concatenate([right[:0:-1], right]).tolist())), used
