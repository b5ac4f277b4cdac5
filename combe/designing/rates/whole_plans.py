"""Plans that are methods of their own: the cheapest row there is, with half-bands of two allpasses, or with taps that follow polynomials."""

from __future__ import annotations

from combe.designing.designed import Design
from combe.designing.rates.chain import planned
from combe.designing.task import ALLPASS_PLAN, CHEAPEST_PLAN, POLYNOMIAL_PLAN, Task
from combe.errors import DesignError
from combe.values import replace


def make_row(task: Task) -> Design:
    """The plan ``cheapest`` as a method of its own.

    Raises
    ------
    DesignError
        If the rate isn't changed, an order or another plan is asked, or a single stage is the cheapest.
    """
    found = _made(task, CHEAPEST_PLAN, "stages in a row are", "equiripple")
    if len(found.stages) == 1:
        raise DesignError("no row of stages is cheaper than a single one", "method", "take equiripple, which is that")
    return found


def make_half_bands(task: Task) -> Design:
    """The plan ``iir`` as a method of its own.

    Raises
    ------
    DesignError
        If the rate isn't changed, an order or another plan is asked, or no factor of two can be a half-band.
    """
    return _made(task, ALLPASS_PLAN, "half-bands of two allpasses are", "elliptic")


def make_polynomials(task: Task) -> Design:
    """The plan ``farrow`` as a method of its own.

    Raises
    ------
    DesignError
        If the rate isn't changed, or only goes down, or an order or another plan is asked.
    """
    return _made(task, POLYNOMIAL_PLAN, "taps that follow polynomials are", "equiripple")


def _made(task: Task, plan: str, what: str, instead: str) -> Design:
    asked, choice = task.asked, task.choice
    if asked.rate is None:
        raise DesignError("the requirement changes no rate", "method", f"take {instead}, or ask for another rate")
    if choice.order is not None or choice.plan not in ("", plan):
        raise DesignError(f"{what} as short as can be, in the cheapest plan", "order", "leave order and plan out")
    made = planned(asked, "" if plan == CHEAPEST_PLAN else plan, task.is_stopped)
    return replace(made, method=choice.method)
