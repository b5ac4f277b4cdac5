"""What a design costs and keeps, filters that run as parts in a row counted part by part."""

from __future__ import annotations

from dataclasses import replace

from combe.design.designed import Design
from combe.ledger import Cost, Line, cost_of, lines_of
from combe.requirement import Requirement


def cost_of_design(design: Design) -> Cost:
    """Multiplies, adds and memory words per sample."""
    if not design.parts:
        return cost_of(design.filter)
    costs = [cost_of(part) for part in design.parts]
    return Cost(*(sum(getattr(cost, key) for cost in costs) for key in ("multiplies", "adds", "delays")))


def lines_of_design(design: Design, requirement: Requirement) -> tuple[Line, ...]:
    """Every limit, the multiplies counted as ``cost_of_design`` does."""
    lines = lines_of(design.filter, requirement)
    if not design.parts:
        return lines
    count = cost_of_design(design).multiplies
    return tuple(
        replace(line, reached=count, margin=line.asked - count) if line.limit == "max_multiplies" else line
        for line in lines
    )
