"""Impulse and step responses."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from combe.filters import Cascade, Filter, Fir, Roots, rational_of
from combe.filters.gathered import taps_and_sections

Array = NDArray[np.float64]
LONGEST = 200_000


def impulse_response(source: Filter, count: int | None = None) -> Array:
    """The first ``count`` output samples for a unit impulse.

    Without a count: all taps of a FIR; of a recursive filter as many as its slowest pole needs to fall to 1e-6.
    """
    if isinstance(source, Fir):
        taps = source.array
        return taps if count is None else np.pad(taps, (0, max(0, count - len(taps))))[:count]
    length = count or ringing_length(source)
    if isinstance(source, Roots):
        return _from_roots(source, length)
    gathered, cascade = taps_and_sections(source)
    signal = np.zeros(length)
    first = np.array(gathered or (1.0,))[:length]
    signal[: len(first)] = first
    signal *= cascade.gain
    for section in cascade.sections:
        signal, _ = through_section(signal, section)
    return signal


def step_response(source: Filter, count: int | None = None) -> Array:
    """The running sum of the impulse response."""
    return np.cumsum(impulse_response(source, count))


def ringing_length(source: Cascade | Roots) -> int:
    """Samples until the slowest pole has fallen to 1e-6."""
    rational = rational_of(source)
    radius = float(np.max(np.abs(rational.poles), initial=0.0))
    order = len(rational.poles) + len(rational.zeros) + rational.delay
    if radius == 0:
        return order + 1
    if radius >= 1:
        return 1024
    return int(min(LONGEST, order + 16 + np.ceil(np.log(1e-6) / np.log(radius))))


def through_section(
    signal: Array, section: Sequence[float], state: tuple[float, float] = (0.0, 0.0)
) -> tuple[Array, tuple[float, float]]:
    """A signal through one section, direct form II transposed: outputs, and the state to go on from."""
    b0, b1, b2, a1, a2 = section
    output = np.empty_like(signal)
    s1, s2 = state
    for index, x in enumerate(signal.tolist()):
        y = b0 * x + s1
        s1 = b1 * x - a1 * y + s2
        s2 = b2 * x - a2 * y
        output[index] = y
    return output, (s1, s2)


def _from_roots(source: Roots, count: int) -> Array:
    """One first-order complex section per root; conjugates leave a real sum."""
    rational = rational_of(source)
    signal = np.zeros(count, dtype=np.complex128)
    if rational.delay < count:
        signal[rational.delay] = rational.gain
    for zero in rational.zeros:
        signal[1:] = signal[1:] - zero * signal[:-1]
    for pole in rational.poles:
        state = 0j
        for index, x in enumerate(signal.tolist()):
            state = x + complex(pole) * state
            signal[index] = state
    return np.asarray(signal.real)
