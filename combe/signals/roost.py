"""The weight on a roost beam at Alder Combe, made up: bats land and leave, wind sways the beam, the amplifier drifts and hums."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
RATE_HZ = 160.0
"""What the load cell was sampled at; at another rate the same beam is seen with other eyes."""
FULL_KG, BEAM_KG, BAT_KG = 0.5, 0.12, 0.0075
VISITS, NIGHT_S = 24, 90.0
RING_HZ, RING_S = 6.3, 0.35


def visits() -> tuple[Array, Array, Array]:
    """When each bat lands and leaves in seconds, and what it weighs in kg; the same every time."""
    draw = np.random.RandomState(4711)
    land = np.sort(draw.uniform(1.0, NIGHT_S - 8.0, VISITS))
    leave = land + draw.uniform(1.5, 14.0, VISITS)
    return land, leave, BAT_KG * (1 + 0.12 * draw.standard_normal(VISITS))


def roost_values(n: Array, rate: float) -> Array:
    """What the cell reads at places n of a signal, as a share of its full scale; it repeats after ``NIGHT_S``."""
    time = (n / rate) % NIGHT_S
    weight = np.full(len(n), BEAM_KG)
    for land, leave, mass in zip(*visits()):
        weight += mass * (_step(time - land) - _step(time - leave))
    sway = 0.004 * np.sin(2 * np.pi * 0.83 * time) * (1 + 0.5 * np.sin(2 * np.pi * 0.031 * time))
    drift = 0.006 * np.sin(2 * np.pi * time / NIGHT_S - 0.4)
    hum = 0.0009 * np.sin(2 * np.pi * 50.0 * (n / rate))
    return np.asarray((weight + sway + drift + hum) / FULL_KG)


def _step(time: Array) -> Array:
    """A landing: the beam rings before it settles."""
    after = np.maximum(time, 0.0)
    ringing = 1 - np.exp(-after / RING_S) * np.cos(2 * np.pi * RING_HZ * after)
    return np.where(time >= 0, ringing, 0.0)
