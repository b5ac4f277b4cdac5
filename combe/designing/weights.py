"""Weights per band, for trading one band against another by hand."""

from __future__ import annotations

from math import log10

from combe.errors import DesignError
from combe.requirement import Band, Limit, Requirement
from combe.values import replace


def check_weights(requirement: Requirement, weights: tuple[float, ...]) -> None:
    """One positive weight for each band."""
    if len(weights) != len(requirement.bands):
        what = f"{len(weights)} weights are given for {len(requirement.bands)} bands"
        raise DesignError(what, "weights", "give one weight for each band, in order")
    if any(not 0 < weight < 1e12 for weight in weights):
        raise DesignError("a weight has to be above zero", "weights")


def reweighted(requirement: Requirement, weights: tuple[float, ...]) -> Requirement:
    """Each band's linear room divided by its weight: an error that fills it evenly is the weighted minimax one.

    Rooms are brought to one scale first, so that weight 1 everywhere means the same absolute error everywhere.
    """
    check_weights(requirement, weights)
    largest = max(weights)
    bands = []
    for band, weight in zip(requirement.bands, weights):
        room = 0.05 * min(weights) / weight if largest else 0.05
        bands.append(_with_room(band, room))
    return replace(requirement, bands=tuple(bands))


def _with_room(band: Band, room: float) -> Band:
    if band.lower is None:
        return replace(band, upper=Limit.level(20 * log10(room), band.start_hz, band.stop_hz))
    knots = sorted({hz for hz, _ in band.upper.points} | {hz for hz, _ in band.lower.points})
    import numpy as np

    at = np.array(knots)
    middle = (10 ** (band.upper.at(at, "least") / 20) + 10 ** (band.lower.at(at, "most") / 20)) / 2
    upper = tuple((hz, 20 * log10(m + room)) for hz, m in zip(knots, middle))
    lower = tuple((hz, 20 * log10(max(m - room, 1e-9))) for hz, m in zip(knots, middle))
    return replace(band, upper=Limit(upper, len(knots) == 2), lower=Limit(lower, len(knots) == 2))
