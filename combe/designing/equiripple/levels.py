"""Length, cut-offs, ripple and attenuation given: the transition follows, as narrow as the length allows.

The logarithm of the largest error falls almost straight with the width of the transition, so that the width which fills the
levels is closed in on by secants; the middle of each transition is moved along until the gain at the cut-off is one half.
"""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from combe.designing.classic.method import cutoff_edges
from combe.designing.designed import Design
from combe.designing.equiripple.method import design as designed
from combe.designing.equiripple.search import MAXIMUM_TAPS
from combe.designing.settings import FIR_ATTENUATION, FIR_RIPPLE
from combe.designing.shares import share_of
from combe.designing.task import Task
from combe.designing.windowed.cutoff import HALF, check_taps
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Band, Limit, Requirement
from combe.requirement.quantities import frequency_text

Array = NDArray[np.float64]
ROUNDS = 40
FILLED, PLACED = 1e-6, 1e-9
"""How closely the levels are filled (as a logarithm), and how closely the cut-offs are met (in cycles per sample)."""
PASSES = {"lowpass": (True, False), "highpass": (False, True), "bandpass": (False, True, False),
          "bandstop": (True, False, True)}  # fmt: skip


def make_by_levels(task: Task) -> Design:
    """The equiripple filter of a length whose levels are kept and whose transitions are as narrow as that lets them.

    Raises
    ------
    DesignError
        If the length is out of reach, or too short for these levels between these cut-offs.
    """
    started = time.perf_counter()
    found, asked = narrowest(task)
    notes = (transition_words(asked),)
    seconds = time.perf_counter() - started
    held = task.requirement if task.requirement is not None else asked
    return Design("equiripple", found, task.sample_rate_hz, held, notes, seconds, levels=asked)


def narrowest(task: Task) -> tuple[Fir, Requirement]:
    """The filter, and the requirement its levels and transitions make."""
    choice, rate = task.choice, task.sample_rate_hz
    shape, _ = cutoff_edges(task)
    ripple = FIR_RIPPLE.checked(choice.setting(FIR_RIPPLE.name)) or 0.0
    down = FIR_ATTENUATION.checked(choice.setting(FIR_ATTENUATION.name)) or 0.0
    taps = task.order + 1
    check_taps(None, taps)
    if taps > MAXIMUM_TAPS:
        raise DesignError(f"order {task.order} is out of reach", "order", f"the most is {MAXIMUM_TAPS - 1}")
    wanted = np.sort(np.array(choice.cutoffs_hz)) / rate
    centers, width = wanted.copy(), _first_width(taps, ripple, down, wanted)
    before: tuple[float, float] | None = None
    found: tuple[Fir, Requirement] | None = None
    for _ in range(ROUNDS):
        if task.is_stopped():
            raise Stopped
        asked = _requirement(shape, centers, width, ripple, down, rate, task)
        fir = designed(asked, task.order, 1, task.is_stopped).filter
        assert isinstance(fir, Fir)
        used = float(np.log(share_of(gain_lines(fir, asked), asked)))
        halves = np.array([_half(fir, center, width) for center in centers])
        centers = centers + wanted - halves
        is_placed = bool(np.max(np.abs(wanted - halves)) < PLACED)
        if -10 * FILLED <= used <= 0 and is_placed:
            found = fir, asked
            break
        here, width = (width, used), width * (1 + _step(width, used, before))
        before = here
    if found is None:
        raise DesignError("the transition doesn't settle at this length", "order", "take another order or cut-off")
    return found


def transition_words(asked: Requirement) -> str:
    """Where the bands end and begin, in a sentence."""
    rate = asked.sample_rate_hz
    gaps = [
        f"{frequency_text(float(f'{start:.5g}'), rate)} to {frequency_text(float(f'{stop:.5g}'), rate)}"
        for start, stop in asked.transitions()
    ]  # fmt: skip
    width = max(stop - start for start, stop in asked.transitions())
    return f"transition {' and '.join(gaps)}, {frequency_text(float(f'{width:.4g}'), rate)} wide: the narrowest at this length"


def _step(width: float, used: float, before: tuple[float, float] | None) -> float:
    """By which share the width changes, aiming a hair inside the levels."""
    aim = -FILLED * 4
    if before is not None and abs(before[0] - width) > 1e-15 and before[1] != used:
        slope = (used - before[1]) / (width - before[0])
        if slope < 0:
            return float(np.clip((aim - used) / slope / width, -0.4, 0.8))
    return 0.05 if used > aim else -0.05


def _first_width(taps: int, ripple: float, down: float, wanted: Array) -> float:
    """Kaiser's (1974) estimate of the width, turned round."""
    deviation = (10 ** (ripple / 40) - 1, 10 ** (-down / 20))
    db = -10 * np.log10(deviation[0] * deviation[1])
    room = min(np.diff(np.concatenate([[0.0], wanted, [0.5]])))
    return float(min(max((db - 13) / (14.36 * max(taps - 1, 1)), 1e-5), room))


def _requirement(
    shape: str, centers: Array, width: float, ripple: float, down: float, rate: float, task: Task
) -> Requirement:
    """Bands around the transitions, each as long as the cut-offs leave it."""
    edges = [0.0]
    for center in centers:
        edges += [float(center - width / 2), float(center + width / 2)]
    edges.append(0.5)
    if any(right - left <= 1e-9 for left, right in zip(edges, edges[1:])):
        what = f"order {task.order} is too short for {ripple:g} dB of ripple and {down:g} dB of attenuation at "
        where = " and ".join(frequency_text(hz, rate) for hz in task.choice.cutoffs_hz)
        raise DesignError(what + where, "order", "take a higher order, or less attenuation")
    bands = []
    for k, passes in enumerate(PASSES[shape]):
        start, stop = edges[2 * k] * rate, edges[2 * k + 1] * rate
        if passes:
            upper, lower = Limit.level(ripple / 2, start, stop), Limit.level(-ripple / 2, start, stop)
            bands.append(Band("keep" if shape != "bandstop" else f"keep {k // 2 + 1}", start, stop, upper, lower))
        else:
            name = "stop" if shape != "bandpass" else f"stop {k // 2 + 1}"
            bands.append(Band(name, start, stop, Limit.level(-down, start, stop), None))
    title = task.requirement.name if task.requirement is not None else shape
    return Requirement(title, rate, tuple(bands))


def _half(fir: Fir, center: float, width: float) -> float:
    """Where the amplitude crosses one half in a transition."""
    from scipy.optimize import brentq

    middle = (len(fir.taps) - 1) / 2
    offset = np.arange(len(fir.taps)) - middle

    def over(f: float) -> float:
        return float(fir.array @ np.cos(2 * np.pi * f * offset)) - HALF

    low, high = max(center - width / 2, 0.0), min(center + width / 2, 0.5)
    if over(low) * over(high) > 0:
        return center
    return float(brentq(over, low, high, xtol=1e-15))
