"""A requirement as the classics see it: prewarped edges, one passband tolerance, stopband levels to stay below."""

from __future__ import annotations

from itertools import groupby
from math import inf, sqrt, tan

import numpy as np
from msgspec import Struct

from combe.errors import DesignError
from combe.requirement import Band, Requirement

PATTERNS = {"PS": "lowpass", "SP": "highpass", "SPS": "bandpass", "PSP": "bandstop"}


class Plan(Struct, frozen=True):
    """Edges are tan(ω/2); ``low`` and ``high`` are the linear gain limits all passbands share; ``stops`` are
    (edge, linear level) for each knot of each stopband's limit."""

    shape: str
    passes: tuple[float, ...]
    low: float
    high: float
    stops: tuple[tuple[float, float], ...]

    @property
    def middle(self) -> float:
        """The middle of the passband limits."""
        return (self.low + self.high) / 2

    @property
    def room(self) -> float:
        """Half the room between them."""
        return (self.high - self.low) / 2


def shape_of(requirement: Requirement) -> str:
    """``lowpass``, ``highpass``, ``bandpass``, ``bandstop``, or ``""`` for anything else."""
    kinds = "".join(key for key, _ in groupby("P" if band.is_passband else "S" for band in requirement.bands))
    return PATTERNS.get(kinds, "")


def plan_of(requirement: Requirement) -> Plan:
    """The plan behind a requirement.

    Raises
    ------
    DesignError
        With the reason why no classic filter has this shape.
    """
    shape = shape_of(requirement)
    if not shape:
        what = "the classics know lowpass, highpass, bandpass and bandstop, and this is none of them"
        if not requirement.stopbands:
            what = "no band is blocked, so there is nothing for a classic filter to do"
        raise DesignError(what, "bands", "equiripple and optimized-iir take any number of bands")
    high = min(db for band in requirement.passbands for _, db in band.upper.points)
    low = max(db for band in requirement.passbands if band.lower for _, db in band.lower.points)
    if low >= high:
        what = f"no one gain lies inside all passband limits: they rise to {low:g} dB and fall to {high:g} dB"
        raise DesignError(what, "bands", "equiripple, least-squares and optimized-iir follow such limits")
    edges = sorted(edge for band in requirement.passbands for edge in _edges(band, requirement))
    passes = {"lowpass": edges[-1:], "highpass": edges[:1], "bandpass": [edges[0], edges[-1]]}.get(shape)
    if passes is None:
        middle = requirement.stopbands[0].start_hz
        below = max(band.stop_hz for band in requirement.passbands if band.start_hz < middle)
        above = min(band.start_hz for band in requirement.passbands if band.start_hz > middle)
        passes = [_warped(below, requirement), _warped(above, requirement)]
    stops = []
    for band in requirement.stopbands:
        for start, stop, start_db, stop_db in band.upper.pieces():
            stops += [(_warped(start, requirement), 10 ** (start_db / 20))]
            stops += [(_warped(stop, requirement), 10 ** (stop_db / 20))]
    low, high = 10 ** (low / 20), 10 ** (high / 20)
    useful = tuple(sorted({(edge, level) for edge, level in stops if level < high}))
    if not useful:
        raise DesignError("every stopband allows as much gain as the passbands", "bands", "ask for some attenuation")
    return Plan(shape, tuple(passes), low, high, useful)


def _warped(hz: float, requirement: Requirement) -> float:
    if hz >= requirement.nyquist_hz:
        return inf
    return tan(np.pi * hz / requirement.sample_rate_hz)


def _edges(band: Band, requirement: Requirement) -> tuple[float, float]:
    return _warped(band.start_hz, requirement), _warped(band.stop_hz, requirement)


def from_center(shape: str, edge: float, center: float) -> float:
    """The prototype frequency, up to scale, an edge is mapped to; ``center`` only matters with two edges."""
    if shape == "lowpass":
        return edge
    if shape == "highpass":
        return 1 / edge if edge else inf
    if shape == "bandpass":
        if edge == 0 or edge == inf:
            return inf
        return abs((edge - center) * (1 + center / edge))
    if edge == 0 or edge == inf:
        return 0.0
    distance = abs((edge - center) * (1 + center / edge))
    return 1 / distance if distance else inf


def stretched(plan: Plan, center: float) -> tuple[float, list[tuple[float, float, float]]]:
    """The scale of the passband edge, and (Ω, Ω − 1, level) for each stopband knot, with Ω = 1 at that edge.

    Ω − 1 is found from differences of the edges themselves, so that the narrowest transition keeps its digits.
    """
    widths = [(from_center(plan.shape, edge, center), edge) for edge in plan.passes]
    scale, at = max(widths)
    rows = []
    for edge, level in plan.stops:
        x = from_center(plan.shape, edge, center)
        rows.append((x / scale, _excess(plan.shape, edge, at, center, x / scale), level))
    return scale, rows


def _excess(shape: str, edge: float, at: float, center: float, ratio: float) -> float:
    """x(edge)/x(at) − 1 without cancellation where both edges lie on the same side."""
    if edge in (0.0, inf) or at in (0.0, inf):
        return ratio - 1
    if shape == "lowpass":
        return (edge - at) / at
    if shape == "highpass":
        return (at - edge) / edge
    if (edge - center) * (at - center) <= 0:
        return ratio - 1
    here, there = ((e - center) * (1 + center / e) for e in (edge, at))
    difference = (edge - at) * (1 + center * center / (edge * at))
    return difference / there if shape == "bandpass" else -difference / here


def centers(plan: Plan) -> tuple[float, float]:
    """Between which the center of a bandpass or bandstop may be put."""
    if len(plan.passes) == 1:
        return 1.0, 1.0
    p1, p2 = plan.passes
    inner = [edge for edge, _ in plan.stops if 0 < edge < inf]
    if plan.shape == "bandpass":
        below = [edge for edge in inner if edge < p2]
        above = [edge for edge in inner if edge > p1]
        s1, s2 = max((e for e in below if e <= p1), default=0.0), min((e for e in above if e >= p2), default=inf)
    else:
        s1, s2 = min(inner), max(inner)
    passes = sqrt(p1 * p2) if p1 > 0 and p2 < inf else sqrt(max(p1, 1e-9) * min(p2, 1e9))
    stops = sqrt(s1 * s2) if s1 > 0 and s2 < inf else passes
    if plan.shape == "bandpass":
        low, high = p1 * (1 + 1e-9), p2 * (1 - 1e-9)
    else:
        low, high = s1 * (1 + 1e-9), s2 * (1 - 1e-9)
    first, last = sorted((min(max(passes, low), high), min(max(stops, low), high)))
    return first, last
