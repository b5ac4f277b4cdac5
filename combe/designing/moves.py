"""Every figure of a requirement that can be moved, and the requirement with one of them moved."""

from __future__ import annotations

from msgspec import Struct

from combe.errors import RequirementError
from combe.requirement import Band, Requirement
from combe.values import replace


class Figure(Struct, frozen=True):
    """One edge or level: ``name`` is ``start``, ``stop``, ``attenuation`` or ``ripple``; ``room`` how far it can go.

    Moving it by a positive amount relaxes it: edges shrink their band, levels allow more.
    """

    band_index: int
    name: str
    unit: str
    room: float

    def moved(self, requirement: Requirement, amount: float) -> Requirement:
        """The requirement with this figure relaxed by an amount in its unit."""
        band = requirement.bands[self.band_index]
        return _with(requirement, self.band_index, _moved(band, self.name, amount))

    def value(self, requirement: Requirement) -> float:
        """Where the figure stands: Hz, dB (of gain for a stopband, to either side for a passband)."""
        band = requirement.bands[self.band_index]
        if self.name in ("start", "stop"):
            return band.start_hz if self.name == "start" else band.stop_hz
        if self.name == "attenuation":
            return band.upper.first_db
        assert band.lower is not None
        return (band.upper.first_db - band.lower.first_db) / 2


def figures_of(requirement: Requirement) -> list[Figure]:
    """All figures that bear on the filter: edges next to a transition, and every level."""
    found = []
    bands = requirement.bands
    for index, band in enumerate(bands):
        width = band.stop_hz - band.start_hz
        if index > 0 and band.start_hz > bands[index - 1].stop_hz:
            found.append(Figure(index, "start", "hz", 0.98 * width))
        if index < len(bands) - 1 and bands[index + 1].start_hz > band.stop_hz:
            found.append(Figure(index, "stop", "hz", 0.98 * width))
        if band.is_passband:
            found.append(Figure(index, "ripple", "db", 12.0))
        else:
            found.append(Figure(index, "attenuation", "db", max(-band.upper.first_db, 1.0)))
    return found


def _moved(band: Band, name: str, amount: float) -> Band:
    if name == "start":
        return band.with_edges(band.start_hz + amount, band.stop_hz)
    if name == "stop":
        return band.with_edges(band.start_hz, band.stop_hz - amount)
    if name == "attenuation":
        return replace(band, upper=band.upper.moved(amount))
    if name == "ripple" and band.lower is not None:
        return replace(band, upper=band.upper.moved(amount), lower=band.lower.moved(-amount))
    raise RequirementError(f'"{name}" is not a figure of a band')


def _with(requirement: Requirement, index: int, band: Band) -> Requirement:
    return replace(requirement, bands=requirement.bands[:index] + (band,) + requirement.bands[index + 1 :])


def transition_beside(requirement: Requirement, figure: Figure) -> float:
    """The width of the transition an edge borders on, in Hz."""
    bands, index = requirement.bands, figure.band_index
    if figure.name == "start":
        return bands[index].start_hz - bands[index - 1].stop_hz
    return bands[index + 1].start_hz - bands[index].stop_hz
