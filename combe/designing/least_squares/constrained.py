"""Least squares under peak limits: the least energy of error of all filters whose ripples stay within the limits.

Source: Selesnick, Lang & Burrus (1996), "Constrained least square design of FIR filters without specified transition
bands". The squared error runs over the whole axis, against an ideal that steps in the middle of each transition, so
that its matrix is diagonal; the limits hold over the bands.
"""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from combe.designing.designed import Design
from combe.designing.equiripple.levels import narrowest, transition_words
from combe.designing.least_squares.limited import Limits, nearest_within
from combe.designing.lengths import allowed_lengths, first_guess
from combe.designing.linear_phase import from_cosines
from combe.designing.task import Task
from combe.designing.windowed.cutoff import check_taps
from combe.designing.windowed.ideal import ideal_of
from combe.errors import DesignError
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.values import replace

Array = NDArray[np.float64]
MAXIMUM_TAPS = 401


def make(task: Task) -> Design:
    """The filter of least energy error within the limits, of least or of given length."""
    started = time.perf_counter()
    if task.choice.cutoffs_hz:
        return _by_levels(task, started)
    requirement = task.asked
    if task.choice.order is not None:
        taps = task.order + 1
        check_taps(requirement, taps)
        if taps > MAXIMUM_TAPS:
            raise DesignError(f"order {taps - 1} is out of reach", "order", f"the most is {MAXIMUM_TAPS - 1}")
        found = _within(task, taps)
        if found is None:
            what = f"no {taps} symmetric taps keep these peak limits"
            raise DesignError(what, "order", "raise the order or relax a limit")
    else:
        found = _least(task)
    notes = tuple(f"{name} goes with a cut-off; here the limits say it" for name, _ in task.choice.settings)
    return Design(
        "constrained-least-squares", found, task.sample_rate_hz, requirement, notes, time.perf_counter() - started
    )


def _by_levels(task: Task, started: float) -> Design:
    """Length, cut-offs and levels given: within the narrowest transition they allow, the least energy of error."""
    best, asked = narrowest(task)
    within = replace(task, requirement=asked, choice=replace(task.choice, cutoffs_hz=()))
    # Where the narrowest transition leaves the levels no room at all, the equiripple filter is the only one that does.
    found = (_within(within, len(best.taps)) if len(best.taps) <= MAXIMUM_TAPS else None) or best
    held = task.requirement if task.requirement is not None else asked
    return Design(
        "constrained-least-squares", found, task.sample_rate_hz, held, (transition_words(asked),),
        time.perf_counter() - started, levels=asked,
    )  # fmt: skip


def _least(task: Task) -> Fir:
    """Longer and longer until the limits can be kept; the peak limits decide, as they do for equiripple."""
    requirement = task.asked
    guess = first_guess(requirement)
    if guess > MAXIMUM_TAPS:
        what = f"this would take about {guess:,} taps, and constrained least squares goes to {MAXIMUM_TAPS}"
        raise DesignError(what, "bands", "take equiripple, or widen a transition")
    from combe.designing import equiripple

    near = equiripple.roughly_shortest(requirement, task.is_stopped)
    allowed = allowed_lengths(requirement)
    for taps in range(near.order + 1, min(near.order + 14, MAXIMUM_TAPS + 1)):
        if allowed(taps):
            found = _within(task, taps)
            if found is not None:
                return found
    raise DesignError("the limits leave no room that least squares could use", "bands", "relax a limit a little")


def _within(task: Task, taps: int) -> Fir | None:
    """The least-squares filter within the limits; None where no filter of this length keeps them."""
    limits = Limits(task.asked, taps)
    half = ideal_of(task.asked).taps(taps)[int(np.ceil((taps - 1) / 2)) :]
    free = np.where(limits.steps == 0, 1.0, 2.0) * half
    # ∫ over the whole axis: π for the constant, π/2 for each cosine; as a scale it is the root.
    scale = np.where(limits.steps == 0, 1.0, np.sqrt(0.5))
    found = nearest_within(limits, free, lambda rows: rows / scale, lambda u: u / scale, task.is_stopped)
    if found is None:
        return None
    fir = Fir(tuple(from_cosines(found, taps).tolist()))
    return fir if all(line.margin >= 0 for line in gain_lines(fir, task.asked)) else None
