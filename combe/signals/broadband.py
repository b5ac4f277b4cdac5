"""The response of a running filter from broadband noise, as a bench instrument measures it: all frequencies at once."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.files import FLOOR_DB
from combe.realization.formats import Format
from combe.realization.stages import Realization
from combe.signals.sweep import settling_of

Array = NDArray[np.float64]
PERIOD, AVERAGES, PEAK = 2048, 12, 0.97
LONGEST_PERIOD = 1 << 15


class Broadband(Struct, frozen=True, eq=False):
    """Periods of noise, each with phases of its own and played twice or more: until it has settled, then once measured."""

    samples: NDArray[np.int64]
    period: int
    repeats: int
    averages: int
    sample_rate_hz: float


class MeasuredResponse(Struct, frozen=True, eq=False):
    """Gain, unwrapped phase and group delay at frequencies between 0 and half the sample rate, both ends left out.

    ``floor_db`` is how far down the measurement reaches: what its noise would show as gain.
    """

    hz: Array
    db: Array
    phase_rad: Array
    delay_samples: Array
    floor_db: float


def broadband_for(realization: Realization) -> Broadband:
    """A multisine of every frequency of the period, phases random (Schoukens & Pintelon 2012, chapter 5), several times anew."""
    settling = settling_of(realization)
    period = PERIOD
    while period < settling and period < LONGEST_PERIOD:
        period *= 2
    repeats = 1 + -(-settling // period)
    source = np.random.default_rng(11)
    blocks = [np.tile(_period(period, realization.input, source), repeats) for _ in range(AVERAGES)]
    return Broadband(np.concatenate(blocks), period, repeats, AVERAGES, realization.sample_rate_hz)


def _period(period: int, entry: Format, source: np.random.Generator) -> NDArray[np.int64]:
    lines = period // 2 - 1
    best: Array | None = None
    for _ in range(8):  # of a few draws the one with the least peak
        spectrum = np.zeros(period // 2 + 1, dtype=complex)
        spectrum[1:-1] = np.exp(2j * np.pi * source.random(lines))
        wave = np.fft.irfft(spectrum)
        wave /= np.max(np.abs(wave))
        if best is None or np.mean(wave**2) > np.mean(best**2):
            best = wave
    assert best is not None
    middle, reach = (entry.least + entry.most) / 2, (entry.most - entry.least) / 2
    return np.asarray(np.clip(np.floor(middle + PEAK * reach * best + 0.5), entry.least, entry.most), dtype=np.int64)


def measured_response(played: Broadband, inputs: NDArray[Any], outputs: NDArray[Any]) -> MeasuredResponse:
    """The response between two records (real values) of the same length: Σ Y·conj(X) / Σ |X|² over all averages."""
    length = played.period * played.repeats
    cross = np.zeros(played.period // 2 - 1, dtype=complex)
    power = np.zeros(len(cross))
    answers, excitations = [], []
    for k in range(played.averages):
        part = slice((k + 1) * length - played.period, (k + 1) * length)
        x, y = np.fft.rfft(inputs[part])[1:-1], np.fft.rfft(outputs[part])[1:-1]
        cross += y * np.conj(x)
        power += np.abs(x) ** 2
        answers.append(y)
        excitations.append(x)
    gain = cross / power
    rest = sum(np.abs(y - gain * x) ** 2 for x, y in zip(excitations, answers)) / max(played.averages - 1, 1)
    noise = np.sqrt(np.mean(rest) / np.mean(power))
    hz = np.arange(1, played.period // 2) * played.sample_rate_hz / played.period
    phase = _unwrapped(gain)
    omega = 2 * np.pi * hz / played.sample_rate_hz
    # The slope over a few bins: a straight line through each and its neighbors.
    slope = np.gradient(phase, omega)
    heard = np.abs(gain)
    db = np.where(heard > 0, 20 * np.log10(np.maximum(heard, 1e-300)), FLOOR_DB)
    floor = 20 * np.log10(noise) if noise > 0 else FLOOR_DB
    return MeasuredResponse(hz, db, phase, -slope, float(max(floor, FLOOR_DB)))


def _unwrapped(gain: NDArray[Any]) -> Array:
    """Phase without jumps: first the mean delay taken out, found from neighboring bins."""
    turn = np.sum(gain[1:] * np.conj(gain[:-1]))
    step = float(np.angle(turn)) if turn != 0 else 0.0
    index = np.arange(len(gain))
    return np.asarray(np.unwrap(np.angle(gain * np.exp(-1j * step * index))) + step * index)
