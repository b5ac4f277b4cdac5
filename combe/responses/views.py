"""What the views beside the magnitude draw of a filter: phase, delay, time and level, each in a few modes."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.filters import Filter
from combe.responses.curves import (
    amplitude_curve,
    delay_curve,
    difference_curve,
    energy_curve,
    magnitude_curve,
    phase_curve,
    phase_delay_curve,
    step_figures,
    time_curve,
)

Array = NDArray[np.float64]
MODES = {
    "phase": ("unwrapped", "wrapped", "linear part removed"),
    "delay": ("samples", "seconds", "phase delay, samples", "phase delay, seconds"),
    "time": ("impulse", "step"),
    "stages": ("before folding",),
    "level": ("zero-phase amplitude", "energy above", "difference to pin"),
}
FARTHEST_DB = 60.0
"""Differences of gain beyond this are drawn there: at a null they have no end."""


class Points(Struct, frozen=True, eq=False):
    """A curve in a view: places in Hz or samples, values in the view's unit; of a step also when it has settled and by
    how many percent it overshoots."""

    places: Array
    values: Array
    settled: int = 0
    overshoot: float | None = None


def view_points(kind: str, mode: str, rate_hz: float, source: Filter, reference: Filter | None = None) -> Points:
    """The points of one filter in a view; a difference is taken to ``reference``."""
    if kind == "time":
        values = time_curve(source, mode != "impulse")
        settled, overshoot = (0, None) if mode == "impulse" else step_figures(source)
        return Points(np.arange(len(values)).astype(float), values, settled, overshoot)
    omega, values = {"level": _level, "stages": _stages, "delay": _delay, "phase": _phase}[kind](
        mode, source, reference
    )
    if mode.endswith("seconds"):
        values = values / rate_hz
    return Points(omega * rate_hz / (2 * np.pi), values)


def _level(mode: str, source: Filter, reference: Filter | None) -> tuple[Array, Array]:
    if mode == "zero-phase amplitude":
        return amplitude_curve(source)
    if mode == "energy above":
        return energy_curve(source)
    assert reference is not None
    omega, value = difference_curve(source, reference)
    return omega, np.clip(value, -FARTHEST_DB, FARTHEST_DB)


def _stages(_: str, source: Filter, __: Filter | None) -> tuple[Array, Array]:
    return magnitude_curve(source)


def _delay(mode: str, source: Filter, _: Filter | None) -> tuple[Array, Array]:
    return phase_delay_curve(source) if mode.startswith("phase") else delay_curve(source)


def _phase(mode: str, source: Filter, _: Filter | None) -> tuple[Array, Array]:
    omega, phase, rest = phase_curve(source)
    if mode == "wrapped":
        return omega, (phase + np.pi) % (2 * np.pi) - np.pi
    return omega, phase if mode == "unwrapped" else rest
