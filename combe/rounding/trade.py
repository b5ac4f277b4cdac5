"""Taps against bits: which orders keep every limit with coefficients of which widths, and what each pair costs."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from combe.designing.costs import lines_of_design
from combe.designing.designed import Design
from combe.designing.methods import design_task
from combe.designing.task import DesignChoice, Task
from combe.errors import DesignError, FormatError, Stopped
from combe.filters import Fir
from combe.ledger import meets, worst_line
from combe.realization.cic import Cic
from combe.realization.stages import Realization, Requantize, TapSum
from combe.requirement import Requirement
from combe.rounding.choices import FEWEST_BITS, MOST_BITS, Choices
from combe.rounding.rates import realize_design
from combe.rounding.realize import HELD, rounded_lines
from combe.values import replace

BITS = range(8, 21)
LONGER, MORE_SECTIONS = 8, 3
"""Orders above the least that are looked at where nobody says how many: for taps, for sections."""
PATIENCE_S = 6.0
IN_VAIN = 2
"""After so many widths in a row whose search found nothing, narrower ones are rounded plainly and not searched."""
BLOCK_BITS = 18
"""Signed factors of up to so many bits are one multiplier block of the usual devices."""

Stop = Callable[[], bool]


class Cell(Struct, frozen=True):
    """An order at a width: the least margin of all limits, whether all are kept, and whether it takes better integers.

    ``multiplies``, ``adds`` and ``delays`` are of the rounded filter, where the rate changes of an input sample on average and
    with ``taps`` those of all stages; ``memory_bits`` holds the coefficients, a symmetric pair once; ``multiplier_blocks`` are blocks
    of 18 × 18 bits with a multiplier of its own for each product.
    """

    order: int
    taps: int | None
    bits: int
    margin_db: float
    meets: bool
    is_better: bool
    multiplies: float
    adds: float
    delays: int
    memory_bits: int
    multiplier_blocks: int

    def document(self, is_unbeaten: bool) -> dict[str, Any]:
        """The cell as ``combe trade --json`` lists it."""
        return {
            "order": self.order, "taps": self.taps, "coefficient_bits": self.bits, "margin_db": self.margin_db,
            "meets": self.meets, "better": self.is_better, "unbeaten": is_unbeaten,
            "cost": {"multiplies": self.multiplies, "adds": self.adds, "delays": self.delays,
                     "memory_bits": self.memory_bits, "multiplier_blocks": self.multiplier_blocks},
        }  # fmt: skip


def trade(
    requirement: Requirement,
    choice: DesignChoice,
    widths: Sequence[int] = BITS,
    longer: int | None = None,
    choices: Choices = Choices(),
    is_plain: bool = False,
    is_stopped: Stop = lambda: False,
    first: Design | None = None,
) -> Iterator[Cell]:
    """Every order from the least to ``longer`` above it at every width, order by order, widest first.

    Parameters
    ----------
    choices
        Structure and formats; their width and search for better integers are set cell by cell.
    is_plain
        Round plainly only. Otherwise taps that miss are searched for better integers, as long as that finds any.
    first
        The least order's design where it is known already.

    Raises
    ------
    DesignError
        If the method keeps the limits at no order, or a width or number of orders is out of reach.
    """
    if not widths or min(widths) < FEWEST_BITS or max(widths) > MOST_BITS:
        raise DesignError("the widths are out of reach", "bits", f"take some within {FEWEST_BITS}:{MOST_BITS}")
    if longer is not None and not 0 <= longer <= 1000:
        raise DesignError(f"{longer} more orders are out of reach", "longer", "take 0 to 1000")
    task = Task(requirement, requirement.sample_rate_hz, replace(choice, order=None, holds_with_bits=None), is_stopped)
    first = first or design_task(task)
    if not meets(lines_of_design(first, requirement)):
        raise DesignError("the ideal filter misses its limits already", "requirement", "relax one of them")
    known = _Known(requirement, choices, is_plain, is_stopped)
    for found in _orders(task, first, longer):
        yield from known.row(found, sorted(widths, reverse=True))


def unbeaten(cells: Sequence[Cell]) -> list[Cell]:
    """Cells that keep every limit where no other does with as few taps and bits, and fewer of one."""
    kept = [cell for cell in cells if cell.meets]
    return [
        cell for cell in kept
        if not any(
            o.order <= cell.order and o.bits <= cell.bits and (o.order, o.bits) != (cell.order, cell.bits) for o in kept
        )
    ]  # fmt: skip


def _orders(task: Task, first: Design, longer: int | None) -> Iterator[Design]:
    yield first
    if len(first.stages) > 1:
        return  # each of them is as short as can be
    more = longer if longer is not None else LONGER if first.kind == "fir" else MORE_SECTIONS
    for order in range(first.order + 1, first.order + more + 1):
        if task.is_stopped():
            raise Stopped
        try:
            found = design_task(task.with_order(order))
        except DesignError:
            continue  # an order that the symmetry or the method doesn't have
        if found.order == order:
            yield found


class _Known:
    """What narrower filters and wider words have told already: how far down a search is worth its while."""

    def __init__(self, requirement: Requirement, choices: Choices, is_plain: bool, is_stopped: Stop) -> None:
        self.requirement, self.choices, self.is_plain, self.is_stopped = requirement, choices, is_plain, is_stopped

    def row(self, found: Design, widths: Sequence[int]) -> Iterator[Cell]:
        """One order at every width."""
        vain = 0
        may_search = not self.is_plain and isinstance(found.filter, Fir) and found.filter.symmetry != 0
        may_search = may_search and len(found.stages) < 2
        may_search = may_search and meets(lines_of_design(found, self.requirement))
        for bits in widths:
            cell = self.cell(found, bits, False)
            if cell is not None and not cell.meets and may_search and vain < IN_VAIN:
                better = self.cell(found, bits, True)
                if better is not None and better.meets:
                    cell, vain = better, 0
                else:
                    vain += 1
            if cell is not None:
                yield cell

    def cell(self, found: Design, bits: int, is_better: bool) -> Cell | None:
        """An order at a width; None where it can't be realized at all."""
        if self.is_stopped():
            raise Stopped
        wanted = replace(
            self.choices, coefficient_bits=bits, better=is_better, accumulator_bits=None, product_bits=None
        )
        ends = time.monotonic() + PATIENCE_S
        try:
            made = realize_design(
                found, wanted, is_stopped=lambda: self.is_stopped() or time.monotonic() > ends, enough=HELD,
                requirement=self.requirement,
            )  # fmt: skip
        except FormatError:
            return None
        except Stopped:
            if self.is_stopped():
                raise
            return None  # nothing that holds was found in time
        lines = rounded_lines(made, self.requirement)
        worst = worst_line(lines)
        return _cell(found, bits, made, worst.margin if worst is not None else 0.0, meets(lines), is_better)


def _cell(found: Design, bits: int, made: Realization, margin: float, is_kept: bool, is_better: bool) -> Cell:
    from combe.analysis.cost import realized_cost

    cost = realized_cost(made)
    multiplies, adds = (int(each) if each == int(each) else round(each, 6) for each in (cost.multiplies, cost.adds))
    numbers = _stored(made)
    wide = -(-bits // BLOCK_BITS) * -(-made.input.bits // BLOCK_BITS)
    products = numbers if found.stages else int(multiplies)
    taps = found.order + 1 if found.kind == "fir" else None
    if found.stages:
        taps = sum(len(stage.coefficients) for stage in made.stages if isinstance(stage, TapSum))
    return Cell(
        found.order, taps, bits, margin, is_kept, is_better, multiplies, adds, int(cost.delays), numbers * bits, products * wide,
    )  # fmt: skip


def _stored(made: Realization) -> int:
    """How many coefficients are kept: of symmetric taps one half."""
    count = 0
    for stage, source in zip(made.stages, made.formats()):
        if isinstance(stage, TapSum):
            taps = stage.coefficients
            is_even = taps == taps[::-1] or taps == tuple(-value for value in reversed(taps))
            count += sum(
                1 for tap in (taps[: (len(taps) + 1) // 2] if is_even else taps) if tap or not made.changes_rate
            )
        elif isinstance(stage, (Cic, Requantize)):
            continue
        else:
            terms = [term for node in stage.network(source).nodes for term in node.terms]
            count += sum(1 for term in terms if abs(term.coefficient) & (abs(term.coefficient) - 1))
    return count
