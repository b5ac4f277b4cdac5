"""Low-delay FIR: linear phase traded for delay, the complex error held within the limits.

A passband that approximates g·e^(−jωτ) within its room in the complex plane keeps its magnitude limits and stays near
the delay τ, which may be much less than half the length. Source: Karam & McClellan (1995), "Complex Chebyshev
approximation for FIR filter design"; solved here by reweighted least squares.
"""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from combe.designing.caps import transition_pieces
from combe.designing.designed import Design
from combe.designing.equiripple.problem import Table, pieces_of
from combe.designing.lengths import first_guess
from combe.designing.linear_phase import crowded
from combe.designing.minimax import minimax
from combe.designing.settings import LOW_DELAY as DELAY
from combe.designing.task import Task
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import delay_over_passbands, gain_lines
from combe.requirement import Requirement

MAXIMUM_TAPS = 301
POINTS_PER_TAP = 7


def make(task: Task) -> Design:
    """The filter of least or given order around a delay: the one set, or what the requirement's limit leaves."""
    started = time.perf_counter()
    requirement = task.asked
    delay = DELAY.checked(task.choice.setting("delay_samples"))
    limit = None if requirement.max_delay_s is None else requirement.max_delay_s * requirement.sample_rate_hz
    if delay is None and limit is None:
        what = "no delay is asked for, so that linear phase serves better"
        raise DesignError(what, "max_delay_s", "limit the delay, or set delay_samples")
    if task.choice.order is not None:
        taps = task.choice.order + 1
        if not 2 <= taps <= MAXIMUM_TAPS:
            raise DesignError(f"order {taps - 1} is out of reach", "order", f"it runs from 1 to {MAXIMUM_TAPS - 1}")
        wanted = min(0.95 * limit, task.choice.order / 2) if delay is None and limit is not None else delay
        assert wanted is not None
        found, _ = _filter(requirement, taps, wanted)
    else:
        found, wanted = _least(task, delay, limit)
    notes = (
        f"approximates a delay of {wanted:.4g} samples, {len(found.taps) / 2 - 0.5 - wanted:.3g} less than linear phase",
    )
    return Design("low-delay", found, task.sample_rate_hz, requirement, notes, time.perf_counter() - started)


def _least(task: Task, delay: float | None, limit: float | None) -> tuple[Fir, float]:
    requirement = task.asked
    guess = first_guess(requirement)
    if guess > MAXIMUM_TAPS:
        raise DesignError(f"this would take about {guess:,} taps, and {MAXIMUM_TAPS} is the most", "bands")
    if delay is None and limit is not None and limit >= guess / 2 + 2:
        what = f"linear phase at about {guess / 2:.0f} samples already keeps the delay asked"
        raise DesignError(what, "max_delay_s", "it serves better")
    wanted = delay if delay is not None else 0.93 * (limit or 0.0)
    for _ in range(3):
        found = _shortest_around(task, wanted, guess)
        if limit is None or delay is not None:
            return found, wanted
        bands = [(band.start_hz, band.stop_hz) for band in requirement.passbands]
        most = delay_over_passbands(found, bands, requirement.sample_rate_hz).most
        if most <= limit:
            return found, wanted
        wanted -= 1.3 * (most - limit)
        if wanted <= 0:
            break
    raise DesignError("no delay this short goes with these limits", "max_delay_s", "allow more delay")


def _shortest_around(task: Task, delay: float, guess: int) -> Fir:
    """Longer in steps until the limits are kept, then shorter again."""
    known: dict[int, tuple[Fir, float]] = {}

    def keeps(taps: int) -> bool:
        if task.is_stopped():
            raise Stopped
        if taps not in known:
            known[taps] = _filter(task.asked, taps, delay)
        fir, used = known[taps]
        return used < 1.5 and all(line.margin >= 0 for line in gain_lines(fir, task.asked))

    low, high = int(delay), max(int(guess * 0.8), int(delay) + 2)
    while not keeps(high):
        low, high = high, high + max(4, high // 6)
        if high > min(MAXIMUM_TAPS, 4 * guess + 40):
            what = f"a delay of {delay:.4g} samples leaves too little room for these limits"
            raise DesignError(what, "max_delay_s", f"linear phase would take about {guess / 2:.0f} samples")
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if keeps(middle) else (middle, high)
    return known[high][0]


def _filter(requirement: Requirement, taps: int, delay: float) -> tuple[Fir, float]:
    """The complex fit at one length, and the share of the tolerances used on its grid."""
    pieces = (*pieces_of(requirement), *transition_pieces(requirement))
    table = Table.of(pieces)
    omega, where = crowded(pieces, POINTS_PER_TAP * taps)
    target, room = table.target(omega, where)
    basis: NDArray[np.complex128] = np.exp(-1j * np.outer(omega, np.arange(taps)))
    found, used = minimax(basis, target * np.exp(-1j * delay * omega), room, 24)
    return Fir(tuple(found.tolist())), used
