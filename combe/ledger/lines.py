"""The lines of the ledger."""

from __future__ import annotations

from functools import lru_cache
from math import ceil
from typing import Any

import numpy as np
from msgspec import Struct

from combe.filters import Filter, Fir
from combe.ledger.cost import cost_of
from combe.ledger.cycles import estimated_cycles
from combe.ledger.delay import delay_over_passbands
from combe.requirement import Limit, Requirement
from combe.requirement.rates import Landing, landings
from combe.responses import worst_points

FEW_PIECES, NEARLY = 8, 0.89
COUNTED = ("max_multiplies", "max_cycles", "max_multipliers")


class Line(Struct, frozen=True):
    """One limit and what was reached.

    ``asked`` and ``reached`` are in the unit of the limit: dB, seconds or multiplies. ``margin`` is positive
    where the limit is kept. ``band`` is empty for limits of the whole filter, ``at_hz`` None where no one
    frequency decides.
    """

    band: str
    band_index: int
    limit: str
    asked: float
    reached: float
    margin: float
    at_hz: float | None = None
    within_db: float | None = None
    """Where the margin is proved: no frequency of the band falls short of it by more than this."""

    @property
    def unit(self) -> str:
        """``db``, ``s`` or ``""`` (a count)."""
        return "db" if self.limit.endswith("_db") else "s" if self.limit.endswith("_s") else ""

    def document(self) -> dict[str, Any]:
        """The line as a design file has it."""
        unit = f"_{self.unit}" if self.unit else ""
        found: dict[str, Any] = {"band": self.band or None, "limit": self.limit}
        found |= {f"asked{unit}": self.asked, f"reached{unit}": self.reached}
        if self.at_hz is not None:
            found["at_hz"] = self.at_hz
        found |= {f"margin{unit}": self.margin}
        return found if self.within_db is None else found | {"certified_within_db": self.within_db}


def gain_lines(source: Filter, requirement: Requirement) -> list[Line]:
    """A line per gain limit: the true worst point over the whole band."""
    asked = [
        (index, band.name, name, limit, side)
        for index, band in enumerate(requirement.bands)
        for name, limit, side in (("min_db", band.lower, -1), ("max_db", band.upper, 1))
        if limit is not None
    ]
    points = worst_points(source, requirement.sample_rate_hz, tuple((limit, side) for _, _, _, limit, side in asked))
    found = [
        Line(band, index, name, point.limit_db, point.gain_db, point.margin_db(side), point.hz)
        for (index, band, name, _, side), point in zip(asked, points)
    ]
    return found + [_landing_line(source, requirement, landing) for landing in landings(requirement)]


def _landing_line(source: Filter, requirement: Requirement, landing: Landing) -> Line:
    """What lands on a band, worst over all stretches it comes from."""
    pieces = _loudest(source, requirement.sample_rate_hz, landing.pieces)
    limits = tuple((Limit.level(landing.level_db, start, stop), 1) for start, stop in pieces)
    worst = max(worst_points(source, requirement.sample_rate_hz, limits), key=lambda point: point.gain_db)
    return Line(landing.name, -1, "max_db", worst.limit_db, worst.gain_db, worst.margin_db(1), worst.hz)


@lru_cache(maxsize=64)
def lines_of(source: Filter, requirement: Requirement) -> tuple[Line, ...]:
    """Every limit of a requirement, delay and cost included, in the requirement's order."""
    lines = gain_lines(source, requirement)
    rate = requirement.sample_rate_hz
    if requirement.max_delay_s is not None or requirement.max_delay_spread_s is not None:
        bands = [(band.start_hz, band.stop_hz) for band in requirement.passbands]
        span = delay_over_passbands(source, bands, rate)
        reached = {"max_delay_s": span.most / rate, "max_delay_spread_s": (span.most - span.least) / rate}
        for name, value in reached.items():
            asked = getattr(requirement, name)
            if asked is not None:
                lines.append(Line("", -1, name, asked, value, asked - value))
    if any(getattr(requirement, key) is not None for key in COUNTED):
        cycles = estimated_cycles(source) if requirement.max_cycles is not None else 0.0
        lines += count_lines(requirement, cost_of(source).multiplies, cycles)
    return tuple(lines)


def with_counts(
    lines: tuple[Line, ...], requirement: Requirement, multiplies: float, cycles: float
) -> tuple[Line, ...]:
    """The same lines, with these multiplies and cycles in place of those that were counted on the exact filter."""
    counted = count_lines(requirement, multiplies, cycles)
    return (*(line for line in lines if line.limit not in COUNTED), *counted)


def count_lines(requirement: Requirement, multiplies: float, cycles: float) -> list[Line]:
    """Multiplies a sample, a processor's cycles, and the multipliers that do it at the device's clock."""
    lines = []
    if requirement.max_multiplies is not None:
        most = requirement.max_multiplies
        lines.append(Line("", -1, "max_multiplies", most, multiplies, most - multiplies))
    if requirement.max_cycles is not None:
        lines.append(Line("", -1, "max_cycles", requirement.max_cycles, cycles, requirement.max_cycles - cycles))
    if requirement.max_multipliers is not None and requirement.clock_hz:
        rate = requirement.input_rate_hz
        clocks = max(int(requirement.clock_hz // rate), 1)
        needed = ceil(multiplies / clocks)
        if requirement.clock_hz < rate:
            needed = ceil(multiplies * -int(-rate // requirement.clock_hz))
        most = requirement.max_multipliers
        lines.append(Line("", -1, "max_multipliers", most, needed, most - needed))
    return lines


def meets(lines: tuple[Line, ...] | list[Line]) -> bool:
    """Whether every limit is kept."""
    return all(line.margin >= 0 for line in lines)


def worst_line(lines: tuple[Line, ...] | list[Line]) -> Line | None:
    """The gain limit with the least margin."""
    gains = [line for line in lines if line.unit == "db"]
    return min(gains, key=lambda line: line.margin, default=None)


def _loudest(
    source: Filter, rate: float, pieces: tuple[tuple[float, float], ...]
) -> tuple[tuple[float, float], ...]:  # fmt: skip
    """The stretches that may hold the worst point of all: with sixteen points a tap, peaks are met within a fraction of
    the decibel allowed here."""
    if len(pieces) <= FEW_PIECES or not isinstance(source, Fir):
        return pieces
    size = 1 << (16 * len(source.taps) - 1).bit_length()
    gains = np.abs(np.fft.rfft(source.array, size))
    spots = np.array(pieces) / rate * size
    peaks = np.array(
        [np.max(gains[int(a) : min(int(np.ceil(b)), size // 2) + 1]) for a, b in spots.tolist()], dtype=np.float64
    )
    return tuple(piece for piece, peak in zip(pieces, peaks) if peak >= np.max(peaks) * NEARLY)
