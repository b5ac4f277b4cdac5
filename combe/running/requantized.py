"""Whole signals brought from one format to another."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.realization.stages import Requantize
from combe.running.run import requantized_integer

Integers = NDArray[Any]


def requantized(stage: Requantize, signal: Integers) -> Integers:
    """A whole signal from one format to another."""
    shift = stage.source.fraction - stage.target.fraction
    fits = stage.source.bits <= 62 and stage.target.bits <= 62
    if signal.dtype == np.dtype(object) or not (fits and 0 <= shift <= 62):
        raw = [requantized_integer(stage, int(value)) for value in signal]
        wide = any(not -(1 << 63) <= value < 1 << 63 for value in raw)
        return np.array(raw, dtype=object if wide else np.int64)
    value = _rounded(signal, shift, stage.rounding)
    if stage.overflow == "saturate":
        return np.clip(value, stage.target.least, stage.target.most)
    span = 1 << stage.target.bits
    return np.asarray((value - stage.target.least) % span + stage.target.least)


def _rounded(signal: Integers, shift: int, rounding: str) -> Integers:
    if shift == 0:
        return signal
    floor = signal >> shift
    rest = signal - (floor << shift)
    half = 1 << (shift - 1)
    if rounding == "nearest-even":
        return np.asarray(floor + ((rest > half) | ((rest == half) & (floor & 1 == 1))))
    if rounding == "nearest-up":
        return np.asarray(floor + (rest >= half))
    if rounding == "toward-zero":
        return np.asarray(floor + ((rest != 0) & (floor < 0)))
    return floor
