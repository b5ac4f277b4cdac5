"""Minimum-phase FIR: the same limits with the least delay and fewer taps.

The squared magnitude is an equiripple filter of twice the length whose stopbands lie between 0 and the squared limit;
it is lifted clear of zero and split into a factor and its mirror image, in the logarithm of the spectrum (Oppenheim &
Schafer 1989, chapter 12), then polished by Newton's method on the autocorrelation (Wilson 1969, "Factorization of the
covariance generating function of a pure moving average process"). Herrmann & Schüssler (1970) for the idea.
"""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from combe.designing import equiripple
from combe.designing.designed import Design
from combe.designing.estimates import estimated_taps
from combe.designing.task import Task
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Band, Limit, Requirement
from combe.values import replace

Array = NDArray[np.float64]
MAXIMUM_TAPS = 1000
DEEPEST_DB = -100.0
NEWTON_STEPS = 12


def make(task: Task) -> Design:
    """The minimum-phase filter of least or given order."""
    started = time.perf_counter()
    requirement = task.asked
    squared = squared_requirement(requirement)
    if task.choice.order is None:
        found = _least(task, squared)
    else:
        if not 0 <= task.order < MAXIMUM_TAPS:
            raise DesignError(f"order {task.order} is out of reach", "order", f"the most is {MAXIMUM_TAPS - 1}")
        linear = equiripple.design(squared, 2 * task.order, 1, task.is_stopped)
        assert isinstance(linear.filter, Fir)
        found = spectral_factor(linear.filter)
    return Design("minimum-phase", found, task.sample_rate_hz, requirement, (), time.perf_counter() - started)


def squared_requirement(requirement: Requirement) -> Requirement:
    """Limits for |H|²: levels in dB doubled, stopbands kept above zero."""
    bands = []
    for band in requirement.bands:
        if not band.is_passband and min(db for _, db in band.upper.points) < DEEPEST_DB:
            what = f"squared, {band.name!r} would lie below what double precision can factor"
            raise DesignError(what, "bands", f"{-DEEPEST_DB:g} dB is the most for minimum phase")
        floor = Limit.level(-400.0, band.start_hz, band.stop_hz)
        lower = _doubled(band.lower) if band.lower is not None else floor
        # A little inside: lifting the square clear of zero takes some of the room.
        upper = _doubled(band.upper).moved(-2e-3 if band.is_passband is False else 0.0)
        bands.append(Band(band.name, band.start_hz, band.stop_hz, upper, lower))
    return replace(
        requirement,
        bands=tuple(bands),
        max_delay_s=None,
        max_delay_spread_s=None,
        max_multiplies=None,
        max_cycles=None,
        max_multipliers=None,
    )


def _doubled(limit: Limit) -> Limit:
    return Limit(tuple((hz, 2 * db) for hz, db in limit.points), limit.flat)


def _least(task: Task, squared: Requirement) -> Fir:
    """From the shortest squared filter of odd length outward, verified on the factor itself."""
    guess, _ = estimated_taps(squared)
    if guess > 2.2 * MAXIMUM_TAPS:
        raise DesignError(f"this would take about {guess / 2:,.0f} taps, and {MAXIMUM_TAPS} is the most", "bands")
    linear = equiripple.roughly_shortest(squared, task.is_stopped)
    order = (linear.order + 1) // 2
    if order >= MAXIMUM_TAPS:
        raise DesignError(f"this would take {order + 1} taps, and {MAXIMUM_TAPS} is the most", "bands")
    for more in range(6):
        if task.is_stopped():
            raise Stopped
        here = linear
        if linear.order != 2 * (order + more):
            here = equiripple.design(squared, 2 * (order + more), 1, task.is_stopped)
        assert isinstance(here.filter, Fir)
        found = spectral_factor(here.filter)
        if all(line.margin >= 0 for line in gain_lines(found, task.asked)):
            return found
    raise DesignError("rounding in the spectral factor breaks a limit", "bands", "ask for less attenuation")


def spectral_factor(squared: Fir) -> Fir:
    """The minimum-phase h with h ⋆ h reversed = r, for a symmetric r of odd length with R(ω) ≥ 0.

    Raises
    ------
    DesignError
        If the polished factor doesn't reproduce r to within rounding of its stopbands.
    """
    r = squared.array
    half = len(r) // 2
    r = _lifted(r, half)
    h = _from_cepstrum(r, half)
    h = _polished(h, r[half:])
    return Fir(tuple(h.tolist()))


def _lifted(r: Array, half: int) -> Array:
    """Raise the square just clear of zero, its deepest points found by a transform and parabolas between."""
    size = 1 << int(np.ceil(np.log2(64 * len(r))))
    spectrum = np.fft.rfft(np.concatenate([r[half:], np.zeros(size - len(r)), r[:half]])).real
    at = np.flatnonzero((spectrum[1:-1] <= spectrum[:-2]) & (spectrum[1:-1] <= spectrum[2:])) + 1
    before, here, after = spectrum[at - 1], spectrum[at], spectrum[at + 1]
    bend = before - 2 * here + after
    tops = here - np.where(bend > 0, (before - after) ** 2 / (8 * np.where(bend > 0, bend, 1.0)), 0.0)
    least = min(float(np.min(spectrum)), float(np.min(tops, initial=np.inf)))
    floor = 1e-15 * float(np.max(spectrum))
    lifted = r.copy()
    lifted[half] += max(floor - least, 0.0) + floor
    return lifted


def _from_cepstrum(r: Array, half: int) -> Array:
    """Fold the cepstrum of the spectrum to its causal side."""
    size = 1 << int(np.ceil(np.log2(max(256 * len(r), 1 << 14))))
    spectrum = np.fft.rfft(np.concatenate([r[half:], np.zeros(size - len(r)), r[:half]])).real
    cepstrum = np.fft.irfft(0.5 * np.log(np.maximum(spectrum, 1e-300)), size)
    cepstrum[1 : size // 2] *= 2
    cepstrum[size // 2 + 1 :] = 0
    return np.asarray(np.fft.irfft(np.exp(np.fft.rfft(cepstrum)), size)[: half + 1])


def _polished(h: Array, wanted: Array) -> Array:
    """Newton's steps on the autocorrelation; kept as long as they bring it closer."""
    # Imported late: the window opens without it.
    import scipy.linalg

    best, least = h, _missed(h, wanted)
    for _ in range(NEWTON_STEPS):
        matrix = scipy.linalg.toeplitz(np.r_[best[0], np.zeros(len(h) - 1)], best) + scipy.linalg.hankel(best)
        try:
            step = np.linalg.solve(matrix, wanted - _autocorrelation(best))
        except np.linalg.LinAlgError:
            break
        better = best + step
        missed = _missed(better, wanted)
        if not missed < least:
            break
        best, least = better, missed
    return best


def _autocorrelation(h: Array) -> Array:
    return np.asarray(np.correlate(h, h, "full")[len(h) - 1 :])


def _missed(h: Array, wanted: Array) -> float:
    return float(np.max(np.abs(_autocorrelation(h) - wanted)))
