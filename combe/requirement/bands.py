"""The values a requirement is made of, and the rules that hold between them."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.errors import RequirementError
from combe.requirement.quantities import frequency_text
from combe.requirement.rates import RateChange, check_rate, input_rate, output_rate

Points = tuple[tuple[float, float], ...]
Array = NDArray[np.float64]

MAXIMUM_BANDS = 64
WHOLE_LIMITS = ("max_delay_s", "max_delay_spread_s", "max_multiplies", "max_cycles", "max_multipliers")
"""Limits of the whole filter. ``max_cycles`` are a processor's per sample, estimated for a Cortex-M4; ``max_multipliers``
those of a device that runs at ``clock_hz``."""
SLOWEST_HZ, FASTEST_HZ = 1e-9, 1e15


class Limit(Struct, frozen=True):
    """A gain limit in dB: points (hz, db) joined by straight lines; a level has one point per band edge.

    Two points at one frequency are a step: both levels hold there.
    """

    points: Points
    flat: bool = True

    @classmethod
    def level(cls, db: float, start_hz: float, stop_hz: float) -> Limit:
        """The same limit all over a band."""
        return cls(((start_hz, db), (stop_hz, db)), True)

    @property
    def first_db(self) -> float:
        """The limit where the band starts."""
        return self.points[0][1]

    def pieces(self) -> list[tuple[float, float, float, float]]:
        """The straight pieces as (start_hz, stop_hz, start_db, stop_db)."""
        return [(a[0], b[0], a[1], b[1]) for a, b in pairwise(self.points) if b[0] > a[0]]

    def at(self, hz: Array, tightest: str) -> Array:
        """The limit at frequencies inside the band; ``tightest`` ("least" or "most") settles steps."""
        if all(db == self.first_db for _, db in self.points):
            return np.full(np.shape(hz), self.first_db)
        pick = np.minimum if tightest == "least" else np.maximum
        hz = np.clip(hz, self.points[0][0], self.points[-1][0])
        result = np.full(np.shape(hz), np.inf if tightest == "least" else -np.inf)
        start, stop, start_db, stop_db = np.array(self.pieces()).T
        # Of a frequency where two pieces meet both count: the one that starts there, and the one before.
        last = np.searchsorted(start, hz, "right") - 1
        for index in (np.maximum(last, 0), np.maximum(last - 1, 0)):
            inside = (hz >= start[index]) & (hz <= stop[index])
            line = start_db[index] + (stop_db - start_db)[index] * ((hz - start[index]) / (stop - start)[index])
            result = np.where(inside, pick(result, line), result)
        return np.asarray(result)

    def clipped(self, start_hz: float, stop_hz: float) -> Limit:
        """The same limit on other band edges: cut where the band shrinks, held level where it grows."""
        if self.flat:
            return Limit.level(self.first_db, start_hz, stop_hz)
        hz, db = np.array(self.points).T
        inner = tuple(p for p in self.points if start_hz < p[0] < stop_hz)
        ends = np.interp([start_hz, stop_hz], hz, db)
        return Limit(((start_hz, float(ends[0])), *inner, (stop_hz, float(ends[1]))), False)

    def moved(self, db: float) -> Limit:
        """The same limit raised by ``db``."""
        return Limit(tuple((hz, level + db) for hz, level in self.points), self.flat)


class Band(Struct, frozen=True):
    """One band. With a lower limit it is a passband, without one a stopband."""

    name: str
    start_hz: float
    stop_hz: float
    upper: Limit
    lower: Limit | None = None

    @property
    def is_passband(self) -> bool:
        """Whether the band is to be kept."""
        return self.lower is not None

    def with_edges(self, start_hz: float, stop_hz: float) -> Band:
        """The band between other edges, its limits following."""
        lower = self.lower.clipped(start_hz, stop_hz) if self.lower else None
        return Band(self.name, start_hz, stop_hz, self.upper.clipped(start_hz, stop_hz), lower)


@dataclass(frozen=True, slots=True)
class Requirement:
    """All that is asked of a filter. Bands stand in order of frequency.

    ``sample_rate_hz`` is the rate at which the filter works: the input's, times ``rate.up`` where the rate changes.

    Raises
    ------
    RequirementError
        Where the bands contradict each other, with ``where`` naming the key.
    """

    name: str
    sample_rate_hz: float
    bands: tuple[Band, ...]
    phase: str = "any"
    max_delay_s: float | None = None
    max_delay_spread_s: float | None = None
    max_multiplies: int | None = None
    max_cycles: float | None = None
    max_multipliers: int | None = None
    clock_hz: float | None = None
    note: str = field(default="", compare=False)
    rate: RateChange | None = None

    def __post_init__(self) -> None:
        check(self)

    @property
    def nyquist_hz(self) -> float:
        """Half the sample rate."""
        return self.sample_rate_hz / 2

    @property
    def input_rate_hz(self) -> float:
        """The input's sample rate."""
        return input_rate(self)

    @property
    def output_rate_hz(self) -> float:
        """The output's sample rate."""
        return output_rate(self)

    @property
    def passbands(self) -> tuple[Band, ...]:
        """The bands to keep."""
        return tuple(band for band in self.bands if band.is_passband)

    @property
    def stopbands(self) -> tuple[Band, ...]:
        """The bands to block."""
        return tuple(band for band in self.bands if not band.is_passband)

    def transitions(self) -> list[tuple[float, float]]:
        """The free stretches, the ends of the axis included, as (start_hz, stop_hz)."""
        edges = [0.0]
        for band in self.bands:
            edges += [band.start_hz, band.stop_hz]
        edges.append(self.nyquist_hz)
        return [(a, b) for a, b in zip(edges[::2], edges[1::2]) if b > a]


def check(requirement: Requirement) -> None:
    """Raise ``RequirementError`` at the first rule the requirement breaks."""
    if not SLOWEST_HZ <= requirement.sample_rate_hz <= FASTEST_HZ:
        what = f"a sample rate of {frequency_text(requirement.sample_rate_hz)} is out of reach"
        raise RequirementError(
            what, "sample_rate_hz", f"it runs from {frequency_text(SLOWEST_HZ)} to {frequency_text(FASTEST_HZ)}"
        )
    if not requirement.bands:
        raise RequirementError("there is no band yet", "bands", "add at least one passband")
    if len(requirement.bands) > MAXIMUM_BANDS:
        raise RequirementError(
            f"there are {len(requirement.bands)} bands", "bands", f"at most {MAXIMUM_BANDS} are taken"
        )
    for index, band in enumerate(requirement.bands):
        _check_band(band, f"bands[{index}]", requirement.nyquist_hz)
    for index, (left, right) in enumerate(pairwise(requirement.bands)):
        _check_neighbours(left, right, f"bands[{index + 1}]")
    if not requirement.passbands:
        raise RequirementError("no band has min_db, so nothing would pass", "bands", "give one band a min_db")
    if requirement.phase not in ("linear", "any"):
        raise RequirementError(f'phase is "{requirement.phase}"', "phase", 'it must be "linear" or "any"')
    for key in WHOLE_LIMITS:
        value = getattr(requirement, key)
        if value is not None and not (np.isfinite(value) and value >= 0):
            raise RequirementError(f"{value} can't be kept", key, "it must be zero or more")
    if requirement.max_multipliers is not None and not (requirement.clock_hz or 0) > 0:
        what = "a number of multipliers says nothing without their clock"
        raise RequirementError(what, "clock_hz", "give the clock of the device in Hz, such as 4e7")
    check_rate(requirement)


def _check_band(band: Band, where: str, nyquist_hz: float) -> None:
    name = f"band {band.name!r}"
    if band.start_hz < 0:
        raise RequirementError(f"{name} starts below zero", f"{where}.start_hz", "the lowest frequency is 0")
    if band.stop_hz > nyquist_hz:
        what = f"{name} ends at {frequency_text(band.stop_hz)}, above half the sample rate"
        raise RequirementError(what, f"{where}.stop_hz", f"{frequency_text(nyquist_hz)} is the most")
    if not band.stop_hz > band.start_hz:
        what = f"{name} ends at {frequency_text(band.stop_hz)}, not above its start at {frequency_text(band.start_hz)}"
        raise RequirementError(what, f"{where}.stop_hz", "move one of the edges")
    for key, limit in (("max_db", band.upper), ("min_db", band.lower)):
        if limit is not None and any(not -400 <= db <= 200 for _, db in limit.points):
            raise RequirementError(
                f"{name} has a level out of reach", f"{where}.{key}", "levels run from -400 to 200 dB"
            )
    if band.lower is not None:
        knots = np.array(sorted({p[0] for p in band.lower.points + band.upper.points}))
        room = band.upper.at(knots, "least") - band.lower.at(knots, "most")
        if np.any(room <= 0):
            what = f"{name} leaves no room between min_db and max_db at {frequency_text(knots[np.argmin(room)])}"
            raise RequirementError(what, f"{where}.max_db", "max_db must be above min_db")


def _check_neighbours(left: Band, right: Band, where: str) -> None:
    if right.start_hz < left.stop_hz:
        what = f"bands {left.name!r} and {right.name!r} overlap between {frequency_text(right.start_hz)} and {frequency_text(left.stop_hz)}"
        raise RequirementError(what, f"{where}.start_hz", f"start at {frequency_text(left.stop_hz)} or above")
    if right.start_hz == left.stop_hz:
        ends = [band.upper.points[k][1] for band, k in ((left, -1), (right, 0))]
        lows = [None if b.lower is None else b.lower.points[k][1] for b, k in ((left, -1), (right, 0))]
        if ends[0] != ends[1] or lows[0] != lows[1]:
            what = f"bands {left.name!r} and {right.name!r} touch at {frequency_text(right.start_hz)} with limits that don't agree"
            raise RequirementError(what, f"{where}.start_hz", "leave a gap for the transition between them")
