"""Transitions are free, but nowhere may the gain rise far above the passbands."""

from __future__ import annotations

import numpy as np

from combe.designing.equiripple.problem import Piece, transition_cap_db
from combe.filters import Filter
from combe.requirement import Limit, Requirement
from combe.responses import worst_points


def bulges(source: Filter, requirement: Requirement) -> list[tuple[float, float, float]]:
    """Transitions whose gain rises above the cap, as (start_hz, stop_hz, largest gain in dB)."""
    cap = transition_cap_db(requirement)
    rows = requirement.transitions()
    peaks = worst_points(
        source, requirement.sample_rate_hz, tuple((Limit.level(cap, start, stop), 1) for start, stop in rows)
    )
    return [(start, stop, peak.gain_db) for (start, stop), peak in zip(rows, peaks) if peak.margin_db(1) < -1e-6]


def transition_pieces(requirement: Requirement) -> tuple[Piece, ...]:
    """The transitions as stretches to be held below the cap, a hair away from the bands beside them."""
    turn = 2 * np.pi / requirement.sample_rate_hz
    cap = transition_cap_db(requirement)
    found = []
    for start_hz, stop_hz in requirement.transitions():
        start, stop = start_hz * turn, min(stop_hz * turn, np.pi)
        inset = (stop - start) / 50
        low, high = start + inset * (start > 0), stop - inset * (stop < np.pi)
        found.append(Piece(low, high, None, (cap, cap), True))
    return tuple(found)
