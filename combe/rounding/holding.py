"""The least order that still keeps every limit once its coefficients are rounded to a width.

The shortest ideal filter fills its limits, so that rounding breaks them at any ordinary width. Orders are tried upward from
the least: the best filter of an order is rounded plainly; where that misses and any taps are allowed, integers that hold
are searched for, and the exact filter is leaned towards them until plain rounding finds them.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from combe.designing.contenders import contenders, ranked
from combe.designing.costs import cost_of_design, lines_of_design
from combe.designing.designed import Design
from combe.designing.methods import design_task, method_named
from combe.designing.task import DesignChoice, Stop, Task
from combe.errors import CombeError, DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines, meets, worst_line
from combe.realization.formats import Format
from combe.requirement import Requirement
from combe.rounding.choices import FEWEST_BITS, MOST_BITS, Choices
from combe.rounding.realize import HELD, realize, rounded_coefficients, rounded_lines
from combe.rounding.search.better_integers import better_integers
from combe.values import replace

LONGER, MORE_SECTIONS = 16, 6
"""How many orders above the least are tried: for taps at least so many, for sections."""
LEANS = ("equiripple", "least-squares", "constrained-least-squares")
"""Methods that look for the best taps of all; the others stand for a shape of their own and stay as they are."""
ALMOST = 0.499
SPARED = (0.0, 0.01, 0.02, 0.04, 0.07, 0.1, 0.15, 0.2, 0.25, 0.33)
"""Shares of the tolerances that stages of a change of rate leave to rounding, tried in turn."""
MOVES, FREE = 12_000, 20
"""How many moves one order's integers are searched for where it has few free taps, and how many taps halve that. Counted and
not timed: the same brief gives the same filter on every machine."""


def designed(task: Task) -> Design:
    """What a task asks for: the least order that holds with integers of a width where the choice names one, else the
    least, or the given, order."""
    bits = task.choice.holds_with_bits
    if bits is not None and task.requirement is not None and task.requirement.rate is not None:
        return stages_that_hold(task, bits)
    return design_task(task) if bits is None or task.is_draft else least_that_holds(task, bits)


def least_that_holds(task: Task, bits: int) -> Design:
    """The least order of a method that keeps every limit with coefficients of ``bits`` bits, by plain rounding.

    Raises
    ------
    DesignError
        If none within reach does, saying which width would do instead.
    """
    asked = task.asked
    _check_bits(bits)
    if task.choice.order is not None:
        raise DesignError(
            f"order {task.choice.order} is given, so none is searched for", "order", "leave one of the two out"
        )
    if task.choice.cutoffs_hz:
        raise DesignError("holding with integers needs limits to keep", "cutoff", "leave the cut-off out")
    first = design_task(task)
    if not meets(lines_of_design(first, asked)):
        raise DesignError("the ideal filter misses its limits already", "holds_with_bits", "relax one of them")
    last = first.order
    for found in _longer(task, first):
        if task.is_stopped():
            raise Stopped
        last = found.order
        held = _held(found, asked, bits, task.is_stopped)
        if held is not None:
            return _told(held, bits, found.order - first.order, first.is_shortest)
    raise DesignError(
        f"no order from {first.order} to {last} keeps every limit with {bits}-bit coefficients",
        "holds_with_bits",
        _instead(first, asked, bits),
    )


def stages_that_hold(task: Task, bits: int) -> Design:
    """A change of rate whose stages keep every limit with coefficients of so many bits: designed with a little more room to
    spare, step by step, until what is rounded keeps them.

    Raises
    ------
    DesignError
        If a third of the tolerances isn't room enough.
    """
    from combe.designing.rates.chain import tightened
    from combe.rounding.rates import rate_lines, realize_stages

    _check_bits(bits)
    asked = task.asked
    choice = replace(task.choice, holds_with_bits=None)
    for share in SPARED:
        if task.is_stopped():
            raise Stopped
        found = design_task(replace(task, requirement=tightened(asked, share), choice=choice, near=None))
        found = replace(found, requirement=asked, is_shortest=found.is_shortest and share == 0.0)
        if not meets(lines_of_design(found, asked)):
            raise DesignError("the ideal filter misses its limits already", "holds_with_bits", "relax one of them")
        if meets(rate_lines(realize_stages(found, Choices(bits)), asked)):
            left = f": {100 * share:g} % of the tolerances are left to rounding" if share else ""
            note = f"with {bits}-bit coefficients it keeps every limit{left}"
            return replace(found, notes=(*found.notes, note), holds_with_bits=bits)
    raise DesignError(
        f"stages with a third of every tolerance to spare don't keep the limits with {bits}-bit coefficients",
        "holds_with_bits",
        "take more bits, or relax a limit",
    )


def cheapest_that_holds(requirement: Requirement, bits: int, is_stopped: Stop = lambda: False) -> Design:
    """The cheapest contender that keeps every limit with coefficients of ``bits`` bits, each at its least such order.

    Contenders are tried from the cheapest; one that needs more than the best so far before it is rounded is not.

    Raises
    ------
    DesignError
        If none does.
    """
    _check_bits(bits)
    best: Design | None = None
    reason: CombeError | None = None
    leaned_before = False
    for contender in ranked(list(contenders(requirement, is_stopped))):
        if not contender.keeps or contender.cost is None:
            continue
        if best is not None and contender.cost.multiplies >= cost_of_design(best).multiplies:
            break
        if contender.method in LEANS and leaned_before:
            continue  # its integers are those of the other method that may lean
        leaned_before |= contender.method in LEANS
        task = Task(requirement, requirement.sample_rate_hz, DesignChoice(contender.method), is_stopped)
        try:
            found = least_that_holds(task, bits)
        except CombeError as error:
            reason = reason or error
            continue
        if best is None or _price(found) < _price(best):
            best = found
    if best is None:
        raise reason or DesignError("no method keeps every limit", "requirement", "relax one of them")
    return best


def holds(found: Design, requirement: Requirement, bits: int) -> bool:
    """Whether plain rounding to a width keeps every limit, in the structure a design takes by itself."""
    try:
        made = realize(found.filter, requirement.sample_rate_hz, Choices(bits), requirement=requirement)
    except CombeError:
        return False
    return meets(rounded_lines(made, requirement))


def may_lean(found: Design) -> bool:
    """Whether a design's taps may be any that keep the limits."""
    return found.method in LEANS and isinstance(found.filter, Fir) and found.filter.symmetry != 0


def leaned(found: Design, requirement: Requirement, bits: int, is_stopped: Stop = lambda: False) -> Design | None:
    """The exact filter moved towards integers that keep every limit, as little as lets plain rounding find them.

    Limits on a linear-phase gain are linear in the taps, so what lies between two filters that keep them keeps them.
    None where no integers of the width are found that hold.
    """
    fir = found.filter
    assert isinstance(fir, Fir)
    coefficient, _ = rounded_coefficients(fir, bits)
    limits = coefficient.least, coefficient.most
    integers = better_integers(
        fir.taps, fir.symmetry, requirement, coefficient.fraction, limits, is_stopped, HELD
    ).integers
    if not _kept(integers, coefficient, requirement):
        return None
    taps, aims = np.array(fir.taps), np.array(integers, dtype=float)
    off = float(np.max(np.abs(taps / coefficient.step - aims)))
    share = min(1.0, ALMOST / off) if off else 1.0
    for lean in (share, share / 2, share / 8, 0.0):
        moved = Fir(tuple(coefficient.step * (aims + lean * (taps / coefficient.step - aims))))
        tried = replace(found, filter=moved, alternation=())
        if holds(tried, requirement, bits) and meets(lines_of_design(tried, requirement)):
            return tried
    return None


def _longer(task: Task, first: Design) -> Iterator[Design]:
    """The best filters of an order and of those above it, where they keep their limits and the method has them."""
    yield first
    more = max(LONGER, first.order // 4) if first.kind == "fir" else MORE_SECTIONS
    if not _takes_order(task):
        return
    for order in range(first.order + 1, first.order + more + 1):
        try:
            found = design_task(task.with_order(order))
        except DesignError:
            continue  # an order the symmetry or the method doesn't have
        if found.order == order and meets(lines_of_design(found, task.asked)):
            yield found


def _takes_order(task: Task) -> bool:
    return any("order" in asks for asks in method_named(task.choice.method).asks)


def _held(found: Design, requirement: Requirement, bits: int, is_stopped: Stop) -> Design | None:
    if holds(found, requirement, bits):
        return found
    if not may_lean(found):
        return None
    moves = Moves(len(found.filter.taps) // 2 + 1 if isinstance(found.filter, Fir) else 1, is_stopped)
    try:
        return leaned(found, requirement, bits, moves.are_over)
    except Stopped:
        if is_stopped():
            raise
        return None  # nothing that holds was found in time


class Moves:
    """Counts what a search tries, asked before each of its moves."""

    def __init__(self, free: int, is_stopped: Stop) -> None:
        self.left = round(MOVES / (1 + free / FREE))
        self.is_stopped = is_stopped

    def are_over(self) -> bool:
        """Whether it has to end: it has had its moves, or whoever asked for it has gone."""
        self.left -= 1
        return self.left < 0 or self.is_stopped()


def _told(found: Design, bits: int, more: int, is_shortest: bool) -> Design:
    added = f", {more} above the least order of the ideal filter" if more else ""
    note = f"with {bits}-bit coefficients every limit is kept; order {found.order} is the least found that does{added}"
    return replace(
        found, notes=(*found.notes, note), holds_with_bits=bits, is_shortest=is_shortest and not more
    )  # fmt: skip


def _instead(first: Design, requirement: Requirement, bits: int) -> str:
    """Which width would do for the least order."""
    for wider in range(bits + 1, min(bits + 12, MOST_BITS) + 1):
        if holds(first, requirement, wider):
            return f"{wider} bits hold at order {first.order}"
    return "take more bits, or relax a limit"


def _kept(integers: tuple[int, ...], coefficient: Format, requirement: Requirement) -> bool:
    worst = worst_line(gain_lines(Fir(tuple(value * coefficient.step for value in integers)), requirement))
    return worst is None or worst.margin >= 0


def _price(found: Design) -> tuple[float, float, float]:
    cost = cost_of_design(found)
    return cost.multiplies, cost.adds, cost.delays


def _check_bits(bits: int) -> None:
    if not FEWEST_BITS <= bits <= MOST_BITS:
        raise DesignError(f"{bits} bits are out of reach", "holds_with_bits", f"take {FEWEST_BITS} to {MOST_BITS}")
