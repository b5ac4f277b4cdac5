"""What a design costs and keeps, filters that run as parts in a row counted part by part."""

from __future__ import annotations

from combe.designing.designed import Design
from combe.designing.rates.stages import cost_of_stages
from combe.filters import Fir
from combe.ledger import Cost, Line, cost_of, lines_of
from combe.ledger.cycles import estimated_cycles
from combe.ledger.lines import with_counts
from combe.requirement import Requirement


def cost_of_design(design: Design) -> Cost:
    """Multiplies, adds and memory words per sample."""
    if design.stages:
        return cost_of_stages(design.stages)
    if not design.parts:
        return cost_of(design.filter)
    costs = [cost_of(part) for part in design.parts]
    return Cost(*(sum(getattr(cost, key) for cost in costs) for key in ("multiplies", "adds", "delays")))


def cycles_of_design(design: Design, core: str = "cortex-m4") -> float:
    """Processor cycles per input sample in blocks, by the estimate before any code is generated."""
    if not design.stages:
        return sum(estimated_cycles(part, core) for part in design.parts or (design.filter,))
    cycles, rate = 0.0, 1.0
    for stage in design.stages:
        rate *= stage.up / stage.down
        cycles += rate * estimated_cycles(Fir(stage.taps[:: stage.up] or (0.0,) * (2 * stage.order)), core)
    return cycles


def lines_of_design(design: Design, requirement: Requirement) -> tuple[Line, ...]:
    """Every limit, the multiplies counted as ``cost_of_design`` does."""
    lines = lines_of(design.filter, requirement)
    if not design.parts and not design.stages:
        return lines
    return with_counts(lines, requirement, cost_of_design(design).multiplies, cycles_of_design(design))
