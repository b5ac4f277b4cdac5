"""Hilbert transformers and differentiators: antisymmetric taps by the exchange.

Source: Rabiner & Schafer (1974), "On the behavior of minimax FIR digital Hilbert transformers"; Parks & McClellan
(1972). A differentiator's error is weighed by 1/ω, so that its relative error is equiripple.
"""

from __future__ import annotations

import time

import numpy as np
from msgspec import Struct

from combe.designing import equiripple
from combe.designing.designed import Design
from combe.designing.equiripple.exchange import Approximation, exchange
from combe.designing.equiripple.problem import Piece, Problem, fits_symmetry
from combe.designing.equiripple.taps import taps_of
from combe.designing.settings import TURNED as SETTINGS
from combe.designing.task import Task
from combe.errors import DesignError, Stopped
from combe.requirement.quantities import frequency_text
from combe.values import replace

MAXIMUM_TAPS = 2001


class _Kind(Struct, frozen=True):
    """What distinguishes the two."""

    name: str
    words: str
    rises: bool


HILBERT = _Kind("hilbert", "Hilbert transformer", False)
DIFFERENTIATOR = _Kind("differentiator", "differentiator", True)


def make_hilbert(task: Task) -> Design:
    """Unit gain and a phase of −90° over the passband; with a requirement, whatever gains it asks."""
    if task.requirement is not None and task.choice.setting("start_hz") is None:
        if task.choice.order is None:
            found = equiripple.shortest(task.requirement, -1, task.is_stopped, None, task.is_draft)
        else:
            found = equiripple.design(task.requirement, task.choice.order, -1, task.is_stopped)
        return replace(found, method="hilbert", requirement=task.requirement)
    return _made(HILBERT, task)


def make_differentiator(task: Task) -> Design:
    """Gain ω in radians per sample over the passband, with equal relative ripples."""
    return _made(DIFFERENTIATOR, task)


def _made(kind: _Kind, task: Task) -> Design:
    started = time.perf_counter()
    piece = _piece(kind, task)
    if task.choice.order is not None:
        taps = task.choice.order + 1
        if not 2 <= taps <= MAXIMUM_TAPS:
            raise DesignError(f"order {taps - 1} is out of reach", "order", f"it runs from 1 to {MAXIMUM_TAPS - 1}")
        found = _approximation(piece, taps, task)
    else:
        found = _shortest(kind, piece, task)
    ripple = 20 * np.log10(1 + found.error * (10 ** ((piece.upper_db[0]) / 20) - 1))
    notes = (f"{'relative ' if kind.rises else ''}ripple {ripple:.4g} dB",)
    seconds = time.perf_counter() - started
    return Design(kind.name, taps_of(found), task.sample_rate_hz, task.requirement, notes, seconds)


def _piece(kind: _Kind, task: Task) -> Piece:
    rate = task.sample_rate_hz
    start, stop = (setting.checked(task.choice.setting(setting.name)) for setting in SETTINGS[:2])
    start = (0.0 if kind.rises else None) if start is None else start
    if start is None or stop is None:
        raise DesignError(f"a {kind.words} needs start_hz and stop_hz, its passband", "start_hz")
    if not start < stop <= rate / 2:
        what = f"a passband from {frequency_text(start)} to {frequency_text(stop)} can't be"
        raise DesignError(what, "stop_hz", f"it rises, and ends at most at {frequency_text(rate / 2)}")
    if start == 0 and not kind.rises:
        raise DesignError("antisymmetric taps have a zero at 0 Hz", "start_hz", "start the passband above it")
    ripple = SETTINGS[2].checked(task.choice.setting("ripple_db"))
    assert ripple is not None
    high = 10 ** (ripple / 20)
    low_db, high_db = 20 * np.log10(2 - high) if high < 2 else -60.0, ripple
    turn = 2 * np.pi / rate
    return Piece(
        max(start * turn, 1e-5), min(stop * turn, np.pi), (low_db, low_db), (high_db, high_db), False, kind.rises
    )


def _approximation(piece: Piece, taps: int, task: Task) -> Approximation:
    reason = fits_symmetry((piece,), taps, -1)
    if reason:
        raise DesignError(reason, "order", f"use order {taps - 2} or {taps}")
    return exchange(Problem((piece,), taps, -1), None, False, task.is_stopped)


def _shortest(kind: _Kind, piece: Piece, task: Task) -> Approximation:
    """Each parity doubled until its error is small enough, then halved in between."""
    best: Approximation | None = None
    for parity in (0, 1):
        if fits_symmetry((piece,), 4 + parity, -1):
            continue
        low, high = parity, 4 + parity
        most = MAXIMUM_TAPS if best is None else len(best.reference) * 2
        while _approximation(piece, high, task).error > 1:
            if task.is_stopped():
                raise Stopped
            low, high = high, 2 * high - parity
            if high > most:
                break
        if high > most:
            continue
        while high - low > 2:
            middle = low + (high - low) // 4 * 2
            low, high = (low, middle) if _approximation(piece, middle, task).error <= 1 else (middle, high)
        found = _approximation(piece, high, task)
        if best is None or high < best.problem.taps:
            best = found
    if best is None:
        raise DesignError(f"no {kind.words} of up to {MAXIMUM_TAPS} taps keeps this ripple", "ripple_db",
                          "move the passband away from 0 and from half the sample rate")  # fmt: skip
    return best
