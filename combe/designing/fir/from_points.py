"""Arbitrary magnitude: linear-phase taps that follow the middle of all limits, joined by straight lines.

The least squared error over the whole axis is the impulse response of the target cut to length; a Kaiser window of
small parameter softens the cut where asked.
"""

from __future__ import annotations

import time

import numpy as np

from combe.designing.designed import Design
from combe.designing.equiripple.problem import Table, pieces_of
from combe.designing.lengths import allowed_lengths, first_guess, least_length
from combe.designing.linear_phase import share
from combe.designing.settings import POINTS_BETA as BETA
from combe.designing.task import Task
from combe.designing.windowed.cutoff import check_taps
from combe.designing.windowed.shapes import kaiser
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines

DENSE = 1 << 15


def make(task: Task) -> Design:
    """The filter of least or given order that follows the points."""
    started = time.perf_counter()
    beta = BETA.checked(task.choice.setting("beta")) or 0.0
    target = _target(task)

    def filter_of(taps: int) -> np.ndarray:
        if task.is_stopped():
            raise Stopped
        return _cut(target, taps) * kaiser(taps, beta)

    if task.choice.order is not None:
        taps = task.choice.order + 1
        check_taps(task.asked, taps)
    else:
        guess = first_guess(task.asked, 1.3)
        allowed = allowed_lengths(task.asked)
        found = least_length(lambda n: share(filter_of(n), task.asked), guess, allowed, min(4 * guess + 60, 2001))
        for _ in range(12):
            if found is None or all(
                line.margin >= 0 for line in gain_lines(Fir(tuple(filter_of(found).tolist())), task.asked)
            ):
                break
            found += 1 if allowed(found + 1) else 2
        if found is None:
            what = "straight lines between the bands, cut to any sensible length, don't keep these limits"
            raise DesignError(what, "bands", "take equiripple or least-squares")
        taps = found
    fir = Fir(tuple(filter_of(taps).tolist()))
    return Design("from-points", fir, task.sample_rate_hz, task.requirement, (), time.perf_counter() - started)


def _target(task: Task) -> np.ndarray:
    """The amplitude asked on a dense grid from 0 to π."""
    pieces = pieces_of(task.asked)
    table = Table.of(pieces)
    knots, values = [], []
    for number, piece in enumerate(pieces):
        omega = np.linspace(piece.start, piece.stop, 65)
        knots.append(omega)
        values.append(table.target(omega, np.full(65, number))[0])
    return np.interp(np.linspace(0, np.pi, DENSE + 1), np.concatenate(knots), np.concatenate(values))


def _cut(target: np.ndarray, taps: int) -> np.ndarray:
    """∫ target·cos(nω)/π about the middle, for whole or half n."""
    if taps % 2:
        right = np.fft.irfft(target)[: taps // 2 + 1]
        return np.concatenate([right[:0:-1], right])
    omega = np.linspace(0, np.pi, DENSE + 1)
    shifted = np.fft.irfft(target * np.exp(0.5j * omega))[: taps // 2]
    # Half a sample of delay put in front: the samples at ±½, ±3/2, … of the impulse response.
    return np.concatenate([shifted[::-1], shifted])
