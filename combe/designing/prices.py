"""The price of each line: what moving it a little saves or costs in order, found by designing beside it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from math import log
from typing import Any

from msgspec import Struct

from combe.designing.classic.plan import shape_of
from combe.designing.designed import Design
from combe.designing.methods import design_task, method_named
from combe.designing.moves import Figure, figures_of, transition_beside
from combe.designing.shares import share_of
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError
from combe.ledger import gain_lines
from combe.requirement import Requirement
from combe.values import replace

Stop = Callable[[], bool]
EDGE_SHARE, LEVEL_DB, RIPPLE_SHARE = 0.08, 2.0, 0.15


class Price(Struct, frozen=True):
    """``saved`` orders for relaxing a figure by ``amount`` in its unit; an order stands for a tap or a pole."""

    figure: Figure
    amount: float
    saved: float

    @property
    def per_unit(self) -> float:
        """Orders per Hz or per dB."""
        return self.saved / self.amount

    def document(self, requirement: Requirement) -> dict[str, Any]:
        """The price as ``combe design --prices --json`` gives it."""
        return {
            "band": requirement.bands[self.figure.band_index].name, "figure": self.figure.name,
            "unit": self.figure.unit, "order_per_unit": self.per_unit, "moved": self.amount, "saved": self.saved,
        }  # fmt: skip


def prices(
    requirement: Requirement, choice: DesignChoice, near: Design | None = None, is_stopped: Stop = lambda: False
) -> Iterator[Price]:
    """A price for each figure, as it is found, by the method chosen (its order left free)."""
    free = replace(choice, order=None, cutoffs_hz=(), weights=())
    bare = replace(
        requirement,
        max_delay_s=None,
        max_delay_spread_s=None,
        max_multiplies=None,
        max_cycles=None,
        max_multipliers=None,
    )
    if not free.method or "requirement" not in method_named(free.method).asks:
        return
    # Lengths of one parity only: what the other parity can do differs by up to half a tap, as much as a price.
    first = near if near is not None else design_task(Task(bare, bare.sample_rate_hz, free, is_stopped, None, True))
    parity = first.order % 2 if first.kind == "fir" else None
    here = fractional_order(bare, free, near, is_stopped, parity)
    for figure in figures_of(bare):
        if is_stopped():
            return
        amount = _step(bare, figure)
        try:
            there = fractional_order(figure.moved(bare, amount), free, near, is_stopped, parity)
        except CombeError:
            continue
        yield Price(figure, amount, here - there)


def _step(requirement: Requirement, figure: Figure) -> float:
    if figure.unit == "hz":
        return min(EDGE_SHARE * transition_beside(requirement, figure), figure.room / 2)
    if figure.name == "attenuation":
        return LEVEL_DB
    return RIPPLE_SHARE * figure.value(requirement)


def fractional_order(
    requirement: Requirement,
    choice: DesignChoice,
    near: Design | None = None,
    is_stopped: Stop = lambda: False,
    parity: int | None = None,
) -> float:
    """The order at which the limits would be filled exactly, between the least that keeps them and the next lower.

    The logarithm of the share of the tolerances falls almost straight with order, so that it is drawn straight
    between two designs made.
    """
    rate = requirement.sample_rate_hz
    found = design_task(Task(requirement, rate, choice, is_stopped, near, True))
    used = share_of(gain_lines(found.filter, requirement), requirement)
    step = 1 if shape_of(requirement) in ("lowpass", "highpass") else 2
    if found.kind == "fir":
        step = 1 if parity is None else 2
        if parity is not None and found.order % 2 != parity:
            longer = Task(requirement, rate, replace(choice, order=found.order + 1), is_stopped, found, True)
            found = design_task(longer)
            used = share_of(gain_lines(found.filter, requirement), requirement)
    for lower in range(found.order - step, max(found.order - 3 * step, -1), -step):
        try:
            below = design_task(Task(requirement, rate, replace(choice, order=lower), is_stopped, found, True))
        except CombeError:
            continue
        missed = share_of(gain_lines(below.filter, requirement), requirement)
        if missed > 1 >= used > 0:
            return lower + (found.order - lower) * log(missed) / (log(missed) - log(used))
        found, used = below, missed
    return float(found.order)
