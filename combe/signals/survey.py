"""A made-up night at Alder Combe: what the ultrasonic microphone hears. Synthesized, the same every time."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from combe.realization.formats import Format
from combe.running.random_integers import random_integers

Array = NDArray[np.float64]
SECONDS = 0.06
WHINE_HZ = 62_500.0


def night_recording(entry: Format, sample_rate_hz: float) -> NDArray[np.int64]:
    """Wind, a stream, three calls that fall from 90 to 25 kHz, rain clicks and the regulator's whine.

    Raw integers of the input format, ``SECONDS`` long.
    """
    signal = night_values(sample_rate_hz)
    middle, reach = (entry.least + entry.most) / 2, (entry.most - entry.least) / 2
    return np.clip(np.floor(middle + 0.9 * reach * signal + 0.5), entry.least, entry.most).astype(np.int64)


def night_values(sample_rate_hz: float) -> Array:
    """The same as real values, full scale being about 1."""
    count = round(SECONDS * sample_rate_hz)
    time = np.arange(count) / sample_rate_hz
    noise = random_integers(count, Format(True, 24, 23), seed=62) / 2.0**23
    signal = 0.2 * _smoothed(noise, 0.995) + 0.01 * noise
    for start in (0.008, 0.026, 0.044):
        signal += _call(time, start)
    clicks = random_integers(count, Format(False, 16, 16), seed=118)
    return np.asarray(signal + 0.3 * (clicks < 6) + 0.02 * np.sin(2 * np.pi * WHINE_HZ * time))


def _call(time: Array, start: float) -> Array:
    """One frequency-modulated call of 6 ms: the frequency falls on a hyperbola."""
    length = 0.006
    x = (time - start) / length
    inside = (x >= 0) & (x <= 1)
    phase = 2 * np.pi * length * 25_000 * (x + 0.38 * np.log1p(np.clip(x, 0, 1) / 0.15))
    return np.where(inside, 0.5 * np.sin(np.pi * np.clip(x, 0, 1)) ** 2 * np.sin(phase), 0.0)


def _smoothed(noise: Array, pole: float) -> Array:
    """First-order low-pass noise of unit power or so: the wind."""
    kernel = pole ** np.arange(2000)
    return np.asarray(np.convolve(noise, kernel)[: len(noise)] * np.sqrt(1 - pole * pole) * 1.7)
