"""A signal as a converter hands it over: parts added up, rounded into the input's format, saturated.

Random parts come from generators whose streams are frozen, one for each seed and place in the list.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.errors import FileError
from combe.realization.formats import Format
from combe.signals.modulation import Modulated, modulated
from combe.signals.recordings import read_recording
from combe.signals.spec import MOST_SAMPLES, Part, Signal

Array = NDArray[np.float64]
PRIMITIVE = {
    2: (1,), 3: (1,), 4: (1,), 5: (2,), 6: (1,), 7: (1,), 8: (4, 3, 2), 9: (4,), 10: (3,), 11: (2,), 12: (6, 4, 1),
    13: (4, 3, 1), 14: (5, 3, 1), 15: (1,), 16: (5, 3, 2), 17: (3,), 18: (7,), 19: (5, 2, 1), 20: (3,), 21: (2,), 22: (1,),
    23: (5,), 24: (4, 3, 1),
}  # fmt: skip
"""Exponents between the highest and 0 of a primitive polynomial over two elements, by degree (Watson 1962)."""


class Made(Struct, frozen=True, eq=False):
    """Raw integers, how many were clipped, and what is known of modulated parts for a receiver."""

    raw: NDArray[np.int64]
    clipped: int
    modulated: tuple[Modulated, ...]


def make_signal(signal: Signal, entry: Format) -> Made:
    """The samples of a signal in an input format.

    Full scale is 2^(bits−1) raw steps; a level in dB of full scale is that of a sine whose peak is full scale, so that
    rms·√2 of a part is its level (of an impulse and a step, the peak).

    Raises
    ------
    FileError
        If a recording can't be read, or was taken at another rate.
    """
    full = 2.0 ** (entry.bits - 1)
    recordings = {k: _recording(part, signal, full) for k, part in enumerate(signal.parts) if part.kind == "recording"}
    count = signal.samples or max(len(values) for values in recordings.values())
    if count > MOST_SAMPLES:
        raise FileError(f"{count} samples are too many", "samples", f"up to {MOST_SAMPLES} are taken")
    total = np.zeros(count)
    pulses = []
    for k, part in enumerate(signal.parts):
        if k in recordings:
            length = min(count, len(recordings[k]))
            total[:length] += recordings[k][:length]
            continue
        peak = full * 10 ** ((part.dbfs if part.dbfs is not None else 0.0) / 20)
        if part.kind == "modulated":
            sent = modulated(part, count, signal.sample_rate_hz, _random(signal.seed, k))
            pulses.append(sent)
            total += _at_level(sent.values, peak)
        else:
            total += _plain(part, count, signal, k, peak)
    rounded = np.rint(total)
    clipped = np.clip(rounded, float(entry.least), float(entry.most))
    return Made(clipped.astype(np.int64), int(np.count_nonzero(clipped != rounded)), tuple(pulses))


def _plain(part: Part, count: int, signal: Signal, place: int, peak: float) -> Array:
    rate = signal.sample_rate_hz
    n = np.arange(count, dtype=np.float64)
    phase = np.deg2rad(part.phase_deg or 0.0)
    if part.kind in ("impulse", "step"):
        found = np.zeros(count)
        at = part.at or 0
        found[at : at + 1 if part.kind == "impulse" else count] = peak
        return found
    if part.kind == "sine":
        # The turns as a fraction of one, so that the millionth period is as exact as the first.
        return np.asarray(peak * np.sin(2 * np.pi * ((n * (part.hz or 0.0) / rate) % 1.0) + phase))
    if part.kind == "chirp":
        return np.asarray(peak * np.sin(_chirp_phase(part, n / rate, count / rate) + phase))
    random = _random(signal.seed, place)
    if part.kind == "square":
        turns = (n * (part.hz or 0.0) / rate + (part.phase_deg or 0.0) / 360) % 1.0
        return _at_level(np.where(turns < 0.5, 1.0, -1.0), peak)
    if part.kind == "white":
        return _at_level(random.standard_normal(count), peak)
    if part.kind == "pink":
        return _at_level(_pink(random, count), peak)
    return _at_level(maximum_length(part.bits or 2, count), peak)


def _at_level(values: Array, peak: float) -> Array:
    """Scaled so that √2 times the rms over the whole signal is the level asked."""
    rms = float(np.sqrt(np.mean(values**2)))
    return np.asarray(values * (peak / np.sqrt(2) / rms)) if rms else values


def _chirp_phase(part: Part, time: Array, length: float) -> Array:
    start, stop = part.start_hz or 0.0, part.stop_hz or 0.0
    if part.law == "logarithmic" and start != stop:
        growth = np.log(stop / start) / length
        return np.asarray(2 * np.pi * start * np.expm1(growth * time) / growth)
    return np.asarray(2 * np.pi * (start * time + (stop - start) * time**2 / (2 * length)))


def _pink(random: np.random.RandomState, count: int) -> Array:
    """Noise whose power falls by 3 dB an octave from one period of the whole signal up: white, shaped in frequency."""
    size = max(count, 2)
    spectrum = np.fft.rfft(random.standard_normal(size))
    shape = np.zeros(len(spectrum))
    shape[1:] = 1 / np.sqrt(np.arange(1, len(spectrum)))
    return np.asarray(np.fft.irfft(spectrum * shape, size)[:count])


def maximum_length(bits: int, count: int) -> Array:
    """±1 from a shift register of so many bits: each period of 2^bits − 1 has every word but zero once."""
    period = (1 << bits) - 1
    length = min(count, period)
    taps = [bits, *PRIMITIVE[bits]]
    found = np.empty(length + bits, dtype=np.int8)
    found[:bits] = 1
    for k in range(bits, length + bits):
        value = 0
        for tap in taps:
            value ^= int(found[k - tap])
        found[k] = value
    one = 1.0 - 2.0 * found[:length]
    return np.asarray(np.resize(one, count))


def _random(seed: int, place: int) -> np.random.RandomState:
    return np.random.RandomState([seed, place])


def _recording(part: Part, signal: Signal, full: float) -> Array:
    path = Path(signal.folder) / (part.file or "")
    found = read_recording(path, part.column)
    if found.rate_hz is not None and found.rate_hz != signal.sample_rate_hz:
        what = f"was recorded at {found.rate_hz:g} Hz, the signal runs at {signal.sample_rate_hz:g} Hz"
        raise FileError(what, str(path), "give a recording of that rate")
    values = found.values - (part.offset or 0.0)
    if part.full_scale is not None:
        return np.asarray(values / part.full_scale * full)
    return np.asarray(values * full) if found.is_sound else values
