"""What helps where rounding misses a limit: better integers, a few taps more, a few bits more. Each is tried before it's told."""

from __future__ import annotations

import time
from collections.abc import Iterator

from combe.analysis.fact import Fact, Remedy
from combe.designing.costs import lines_of_design
from combe.designing.designed import Design
from combe.designing.methods import design_task
from combe.designing.task import DesignChoice, Stop, Task
from combe.errors import CombeError, Stopped
from combe.filters import Fir
from combe.ledger import meets
from combe.requirement import Requirement
from combe.rounding.choices import MOST_BITS, Choices
from combe.rounding.rates import realize_design
from combe.rounding.realize import HELD, rounded_lines
from combe.values import replace

MORE_ORDERS, MORE_BITS = 8, 12
PATIENCE_S = 6.0


def rounding_remedies(
    found: Design, choice: DesignChoice, requirement: Requirement, choices: Choices, is_stopped: Stop = lambda: False
) -> Iterator[Fact]:
    """Ways out that were seen to keep every limit, one by one; nothing where the rounded filter keeps them already, or
    the ideal one doesn't."""
    if not meets(lines_of_design(found, requirement)) or _holds(found, requirement, choices, is_stopped):
        return
    fir = found.filter
    may_search = isinstance(fir, Fir) and fir.symmetry != 0
    if may_search and not choices.better:
        better = replace(choices, better=True)
        if _holds(found, requirement, better, is_stopped):
            yield Fact("warning", "", Remedy("Better integers at this width", {"better": True}))
    longer = _longer(found, choice, requirement, choices, may_search, is_stopped)
    if longer is not None:
        yield longer
    for bits in range(choices.coefficient_bits + 1, min(choices.coefficient_bits + MORE_BITS, MOST_BITS) + 1):
        wider = replace(choices, coefficient_bits=bits, better=False, accumulator_bits=None)
        if _holds(found, requirement, wider, is_stopped):
            yield Fact(
                "warning", "", Remedy(f"{bits} bits, rounded plainly", {"coefficient_bits": bits, "better": False})
            )
            return


def _longer(
    found: Design, choice: DesignChoice, requirement: Requirement, choices: Choices, may_search: bool, is_stopped: Stop
) -> Fact | None:
    """The next order that holds at this width."""
    task = Task(requirement, requirement.sample_rate_hz, replace(choice, order=None, holds_with_bits=None), is_stopped)
    for order in range(found.order + 1, found.order + MORE_ORDERS + 1):
        try:
            longer = design_task(task.with_order(order))
        except CombeError:
            continue
        if longer.order != order:
            continue
        for better in (False, True) if may_search else (False,):
            if _holds(longer, requirement, replace(choices, better=better), is_stopped):
                more = order - found.order
                thing = ("tap" if found.kind == "fir" else "order") + ("s" if more > 1 else "")
                how = ", better integers" if better else ""
                return Fact("warning", "", Remedy(f"{more} more {thing}{how}", {"order": order, "better": better}))
    return None


def _holds(found: Design, requirement: Requirement, choices: Choices, is_stopped: Stop) -> bool:
    ends = time.monotonic() + PATIENCE_S
    try:
        made = realize_design(
            found,
            choices,
            is_stopped=lambda: is_stopped() or time.monotonic() > ends,
            enough=HELD,
            requirement=requirement,
        )
    except CombeError:
        return False
    except Stopped:
        if is_stopped():
            raise
        return False
    return meets(rounded_lines(made, requirement))
