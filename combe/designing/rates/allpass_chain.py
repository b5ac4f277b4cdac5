"""A rate changed by twos where phase is free: the cheapest row of half-bands of two allpasses."""

from __future__ import annotations

from combe.designing.designed import Design
from combe.designing.rates.chain import planned
from combe.designing.task import ALLPASS_PLAN, Task
from combe.errors import DesignError
from combe.values import replace


def make(task: Task) -> Design:
    """The plan ``iir`` as a method of its own.

    Raises
    ------
    DesignError
        If the rate isn't changed, an order or another plan is asked, or no factor of two can be a half-band.
    """
    asked, choice = task.asked, task.choice
    if asked.rate is None:
        raise DesignError("the requirement changes no rate", "method", "take elliptic, or ask for another rate")
    if choice.order is not None or choice.plan not in ("", ALLPASS_PLAN):
        raise DesignError(
            "half-bands of two allpasses are as short as can be, in the cheapest plan", "order", "leave order and plan out"
        )  # fmt: skip
    return replace(planned(asked, ALLPASS_PLAN, task.is_stopped), method=choice.method)
