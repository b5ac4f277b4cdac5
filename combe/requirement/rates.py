"""What a change of rate asks of the filter that goes with it: the copies and the aliases it must keep away.

A rate change by up/down is a filter between "stuff up − 1 zeros after every sample" and "keep every down-th"
(Crochiere & Rabiner 1983). The filter, its prototype, works at ``up`` times the input's rate. Copies of the input lie at all
multiples of the input's rate; what lies near a multiple of the output's rate lands on the output's own band.
"""

from __future__ import annotations

from functools import lru_cache
from itertools import pairwise
from math import inf
from typing import TYPE_CHECKING

from msgspec import Struct

from combe.errors import RequirementError
from combe.requirement.quantities import frequency_text
from combe.values import replace

if TYPE_CHECKING:
    from combe.requirement.bands import Band, Requirement

PROTECTS = ("passbands", "everything")
MOST_RATIO = 4096
MOST_PIECES = 40
"""Stretches of a prototype's stopband kept apart; with more of them what lies in between is blocked, too."""
NAMES = {"aliases": "aliases of {}", "images": "images of {}"}


class RateChange(Struct, frozen=True):
    """Output rate = input rate · up / down. ``alias_db`` limits what sampling at the output's rate folds onto a protected
    frequency, ``image_db`` the copies that the input's rate makes; None leaves them free. ``protect`` is ``passbands`` (what
    folds into transitions is free) or ``everything`` (nothing above half of the lower rate).
    """

    up: int = 1
    down: int = 1
    alias_db: float | None = None
    image_db: float | None = None
    protect: str = "passbands"

    @property
    def words(self) -> str:
        """As it is read: ÷8, ×4, ×3 ÷2."""
        parts = [f"×{self.up}"] if self.up > 1 else []
        return " ".join([*parts, f"÷{self.down}"] if self.down > 1 else parts) or "×1"


class Landing(Struct, frozen=True):
    """What must be kept from landing on a band: ``aliases`` or ``images``, where they come from, and the level."""

    kind: str
    band: str
    pieces: tuple[tuple[float, float], ...]
    level_db: float

    @property
    def name(self) -> str:
        """The row of the ledger."""
        return NAMES[self.kind].format(self.band)


def check_rate(requirement: Requirement) -> None:
    """Raise ``RequirementError`` where the change of rate contradicts itself or the bands."""
    rate = requirement.rate
    if rate is None:
        return
    for key in ("up", "down"):
        if not 1 <= getattr(rate, key) <= MOST_RATIO:
            raise RequirementError(
                f"a factor of {getattr(rate, key)} is out of reach", f"rate.{key}", f"1 to {MOST_RATIO} are taken"
            )
    if rate.up == rate.down == 1:
        raise RequirementError("a rate times 1 is no change", "rate", "give up or down a factor, or leave rate out")
    for key in ("alias_db", "image_db"):
        level = getattr(rate, key)
        if level is not None and not -400 <= level <= 0:
            raise RequirementError(f"{level:g} dB is out of reach", f"rate.{key}", "it runs from -400 to 0 dB")
    if rate.protect not in PROTECTS:
        raise RequirementError(f'"{rate.protect}" is not known', "rate.protect", f"known are {', '.join(PROTECTS)}")
    for landing in landings(requirement):
        for band in requirement.passbands:
            hit = next((p for p in landing.pieces if p[0] < band.stop_hz and p[1] > band.start_hz), None)
            if hit is None:
                continue
            what = f"{landing.name} come from {frequency_text(hit[0])} to {frequency_text(hit[1])}, where {band.name} is kept"
            low = frequency_text(min(input_rate(requirement), output_rate(requirement)) / 2)
            raise RequirementError(what, "rate", f"keep passbands below {low}, half of the lower rate")


def input_rate(requirement: Requirement) -> float:
    """The input's sample rate: the prototype's divided by up, so that reading and writing give the same number."""
    if requirement.rate is None:
        return requirement.sample_rate_hz
    return requirement.sample_rate_hz / requirement.rate.up


def output_rate(requirement: Requirement) -> float:
    """The output's sample rate."""
    rate = requirement.rate
    return requirement.sample_rate_hz if rate is None else requirement.sample_rate_hz / rate.down


@lru_cache(maxsize=64)
def landings(requirement: Requirement) -> tuple[Landing, ...]:
    """Where copies and aliases come from, for each passband, in frequencies of the prototype."""
    rate = requirement.rate
    if rate is None:
        return ()
    found = []
    low = min(input_rate(requirement), output_rate(requirement)) / 2
    for kind, level, factor, spacing in (
        ("aliases", rate.alias_db, rate.down, output_rate(requirement)),
        ("images", rate.image_db, rate.up, input_rate(requirement)),
    ):
        if level is None or factor == 1:
            continue
        for band in requirement.passbands:
            if rate.protect == "everything":
                pieces = [(low, requirement.nyquist_hz)]
            else:
                pieces = _copies(band.start_hz, band.stop_hz, spacing, requirement.nyquist_hz)
            if pieces:
                found.append(Landing(kind, band.name, tuple(pieces), level))
    return tuple(found)


def _copies(start: float, stop: float, spacing: float, most: float) -> list[tuple[float, float]]:
    """Copies of a band at all multiples of a rate, those below ``most``, joined where they touch."""
    pieces = []
    for k in range(1, int(most / spacing) + 2):
        for low, high in ((k * spacing - stop, k * spacing - start), (k * spacing + start, k * spacing + stop)):
            if low < most:
                pieces.append((low, min(high, most)))
    return joined(pieces)


def joined(pieces: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Stretches in rising order, those that touch or overlap made one; none of no width."""
    found: list[tuple[float, float]] = []
    for low, high in sorted(pieces):
        if found and low <= found[-1][1] * (1 + 1e-12):
            found[-1] = (found[-1][0], max(found[-1][1], high))
        else:
            found.append((low, high))
    return [(low, high) for low, high in found if high > low]


@lru_cache(maxsize=64)
def prototype_requirement(requirement: Requirement) -> Requirement:
    """What the prototype must keep, as a requirement without a change of rate: the bands, and a stopband wherever copies or
    aliases come from, each stretch at the lowest of the levels asked there.
    """
    if requirement.rate is None:
        return requirement
    asked = landings(requirement)
    stretches = joined([piece for landing in asked for piece in landing.pieces])
    if len(stretches) > MOST_PIECES:
        edges = sorted(
            {0.0, requirement.nyquist_hz, *(e for b in requirement.passbands for e in (b.start_hz, b.stop_hz))}
        )
        gaps = [(a, b) for a, b in pairwise(edges)]
        merged = []
        for gap in gaps:
            inside = [p for p in stretches if gap[0] <= p[0] and p[1] <= gap[1]]
            if inside:
                merged.append((inside[0][0], inside[-1][1]))
        stretches = merged
        asked = tuple(
            replace(one, pieces=tuple((max(a, one.pieces[0][0]), b) for a, b in stretches if b > one.pieces[0][0]))
            for one in asked
        )
    bands = list(requirement.passbands)
    plain = [(band.start_hz, band.stop_hz) for band in requirement.stopbands]
    for start, stop in joined(stretches + plain):
        bands.append(_stopband(requirement, asked, start, stop))
    bands.sort(key=lambda band: band.start_hz)
    return replace(requirement, bands=tuple(bands), rate=None)


def _stopband(requirement: Requirement, asked: tuple[Landing, ...], start: float, stop: float) -> Band:
    """One stretch, its limit stepping wherever what is asked changes."""
    from combe.requirement.bands import Band, Limit

    own = [band for band in requirement.stopbands if band.start_hz < stop and band.stop_hz > start]
    edges = {start, stop}
    for band in own:
        edges |= {hz for hz, _ in band.upper.points} | {band.start_hz, band.stop_hz}
    edges |= {edge for landing in asked for piece in landing.pieces for edge in piece}
    cuts = sorted(edge for edge in edges if start <= edge <= stop)
    points: list[tuple[float, float]] = []
    for low, high in pairwise(cuts):
        level = min((one.level_db for one in asked for a, b in one.pieces if a <= low and high <= b), default=inf)
        ends = [level, level]
        for band in own:
            if band.start_hz <= low and high <= band.stop_hz:
                middle = band.upper.clipped(low, high).points
                ends = [min(ends[0], middle[0][1]), min(ends[1], middle[-1][1])]
        points += [(low, ends[0]), (high, ends[1])]
    kept = [points[0]]
    for index, point in enumerate(points[1:-1], 1):
        if not (points[index - 1] == point or points[index - 1][1] == point[1] == points[index + 1][1]):
            kept.append(point)
    kept.append(points[-1])
    is_flat = len({db for _, db in kept}) == 1
    name = own[0].name if len(own) == 1 else "stop"
    limit = Limit.level(kept[0][1], start, stop) if is_flat else Limit(tuple(kept), False)
    return Band(name, start, stop, limit)
