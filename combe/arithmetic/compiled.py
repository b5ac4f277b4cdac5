"""Bit-true loops compiled by numba, twins of the plain-integer ones in ``simulate``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.arithmetic.formats import Format
from combe.arithmetic.section import Section
from combe.jit import compiled

Integers = NDArray[Any]
MODES = {"nearest-even": 0, "nearest-up": 1, "floor": 2, "toward-zero": 3}


def run_section(stage: Section, source: Format, signal: Integers) -> Integers:
    """A whole signal through a section whose sums 62 bits hold."""
    u, v = stage.shifts(source)
    b = np.array([value << u for value in stage.b], dtype=np.int64)
    a = np.array([value << v for value in stage.a], dtype=np.int64)
    shift = stage.accumulator.fraction - stage.result.fraction
    found: Integers = _loop(
        signal, b, a, shift, MODES[stage.rounding], stage.overflow == "saturate", stage.result.least, stage.result.most
    )
    return found


@compiled()
def _loop(
    signal: Any, b: Any, a: Any, shift: int, mode: int, saturates: bool, least: int, most: int
) -> Any:  # pragma: no cover - compiled
    found = np.empty_like(signal)
    x1 = x2 = y1 = y2 = np.int64(0)
    half = np.int64(1) << (shift - 1) if shift > 0 else np.int64(0)
    span = np.int64(most) - np.int64(least) + np.int64(1)
    for n in range(len(signal)):
        x = signal[n]
        total = b[0] * x + b[1] * x1 + b[2] * x2 - a[0] * y1 - a[1] * y2
        y = total >> shift
        if shift > 0:
            rest = total - (y << shift)
            if mode == 0:
                if rest > half or (rest == half and (y & 1) == 1):
                    y += 1
            elif mode == 1:
                if rest >= half:
                    y += 1
            elif mode == 3 and rest != 0 and y < 0:
                y += 1
        if saturates:
            y = min(max(y, least), most)
        elif y < least or y > most:
            y = (y - least) % span + least
        x2, x1, y2, y1 = x1, x, y1, y
        found[n] = y
    return found
