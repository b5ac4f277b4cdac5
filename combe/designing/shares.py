"""How much of a tolerance a filter uses, from its lines: 1 fills a limit, above 1 misses it."""

from __future__ import annotations

import numpy as np

from combe.ledger import Line
from combe.requirement import Requirement


def share_of(lines: tuple[Line, ...] | list[Line], requirement: Requirement) -> float:
    """The largest linear deviation over the gain limits, in units of half the room between them."""
    return max((line_share(line, requirement) for line in lines if line.unit == "db"), default=0.0)


def line_share(line: Line, requirement: Requirement) -> float:
    """The same of one line."""
    reached = 10 ** (line.reached / 20)
    band = requirement.bands[line.band_index]
    if band.lower is None:
        return float(reached / 10 ** (line.asked / 20))
    at = np.array([line.at_hz or 0.0])
    low = 10 ** (float(band.lower.at(at, "most")[0]) / 20)
    high = 10 ** (float(band.upper.at(at, "least")[0]) / 20)
    side = 1 if line.limit == "max_db" else -1
    return float(side * (reached - (low + high) / 2) / ((high - low) / 2))
