"""Group delay over the bands that matter."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.filters import Filter, Fir
from combe.responses import group_delay


class DelaySpan(Struct, frozen=True):
    """Group delay in samples: its mean over the frequencies looked at, and its extremes."""

    mean: float
    least: float
    most: float


def delay_over_passbands(source: Filter, bands_hz: list[tuple[float, float]], sample_rate_hz: float) -> DelaySpan:
    """The span of the group delay over bands given as (start_hz, stop_hz); over the whole axis without any."""
    if isinstance(source, Fir) and source.symmetry:
        return DelaySpan(source.order / 2, source.order / 2, source.order / 2)
    turn = 2 * np.pi / sample_rate_hz
    parts = [_scan(source, start * turn, stop * turn) for start, stop in bands_hz or [(0.0, sample_rate_hz / 2)]]
    total = sum(stop - start for start, stop in bands_hz) or sample_rate_hz / 2
    spans = [stop - start for start, stop in bands_hz] or [total]
    mean = sum(part[0] * span for part, span in zip(parts, spans)) / total
    return DelaySpan(float(mean), float(min(part[1] for part in parts)), float(max(part[2] for part in parts)))


def _scan(source: Filter, start: float, stop: float) -> tuple[float, float, float]:
    """Mean, least and most delay between two frequencies: a scan, zoomed in around each extreme."""
    count = 4096 if not isinstance(source, Fir) else max(1024, 8 * len(source.taps))
    omega = np.linspace(start, stop, count)
    delay = group_delay(source, omega)
    mean = np.sum((delay[1:] + delay[:-1]) / 2 * np.diff(omega)) / (stop - start)
    found = []
    for pick in (np.argmin, np.argmax):
        near, value = omega, delay
        for _ in range(6):
            at = int(pick(value))
            near = np.linspace(near[max(at - 1, 0)], near[min(at + 1, len(near) - 1)], 33)
            value = group_delay(source, near)
        found.append(_at(value, int(pick(value))))
    return float(mean), found[0], found[1]


def _at(values: NDArray[np.float64], index: int) -> float:
    return float(values[index])
