"""A rate change designed: the plan that is asked for, or the cheapest of all that there are."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from combe.designing.designed import Design
from combe.designing.rates.making import designed, shares_of, unchecked
from combe.designing.rates.plans import (
    Plan,
    allpass_plans,
    every_plan,
    plan_from,
    polynomial_plans,
    priced,
    single,
    stage_prices,
)
from combe.designing.rates.stages import RateStage, cost_of_stages, ratio_of
from combe.designing.task import ALLPASS_PLAN, POLYNOMIAL_PLAN
from combe.errors import CombeError, DesignError
from combe.requirement import Requirement
from combe.requirement.rates import prototype_requirement
from combe.values import replace

SIFTED = 40
"""Plans, of those priced lowest with equal shares of the passband's room, that are priced anew with those they will have."""
TRIED = 4
"""Plans that are designed: those whose better price is lowest, and the single stage."""
LARGE = 256
"""Of such ratios one plan fewer is designed: they take twice the time."""
FAR = 64
"""From such ratios on taps work at the lowest rate, where they cost next to nothing: poles would ring there for a hundred thousand samples of
the highest, all of which are looked through."""
UNSURE = 1.15
"""A price may be too high by so much."""


def planned(
    requirement: Requirement, plan: str = "", is_stopped: Callable[[], bool] = lambda: False
) -> Design:  # fmt: skip
    """The stages of a plan, or of the cheapest there is, counted in multiplies and adds a second.

    Raises
    ------
    DesignError
        If the requirement changes no rate, or the plan can't keep it.
    """
    rate = requirement.rate
    if rate is None:
        raise DesignError("the requirement changes no rate, so there is nothing to plan", "--plan", "leave it out")
    asked, alone = prototype_requirement(requirement), single(rate.up, rate.down)
    if plan == ALLPASS_PLAN:
        return _of_half_bands(requirement, asked, is_stopped)
    if plan == POLYNOMIAL_PLAN:
        return _of_polynomials(requirement, asked, is_stopped)
    if plan:
        return designed(requirement, plan_from(plan, rate.up, rate.down), is_stopped)
    order = sorted(every_plan(rate.up, rate.down), key=lambda one: priced(one, asked))
    order[:SIFTED] = sorted(order[:SIFTED], key=lambda one: _refined(one, asked))
    first = order[: TRIED - (max(rate.up, rate.down) >= LARGE)]
    wanted = [*first, *([alone] if alone not in first else [])]
    return _cheapest_of(requirement, wanted, is_stopped)


def _of_half_bands(requirement: Requirement, asked: Requirement, is_stopped: Callable[[], bool]) -> Design:
    """The cheapest plan in which factors of two are half-bands of two allpasses."""
    rate = requirement.rate
    assert rate is not None
    known = list(allpass_plans(rate.up, rate.down))
    if max(rate.up, rate.down) >= FAR:
        known = [one for one in known if len(one.factors) - 1 not in one.allpass] or known
    plans = _by_price(known, asked)
    if not plans:
        what = "no factor of two of this change of rate can be a half-band of two allpasses"
        instead = (
            "they pass less than a quarter of the rate they work at"
            if rate.up == 1 or rate.down == 1
            else "the rate must go one way"
        )
        raise DesignError(what, "--plan", instead)
    return _cheapest_of(requirement, plans[: TRIED if max(rate.up, rate.down) < FAR else TRIED // 2], is_stopped)


def _of_polynomials(requirement: Requirement, asked: Requirement, is_stopped: Callable[[], bool]) -> Design:
    """The cheapest plan in which the taps at the highest rate follow polynomials."""
    rate = requirement.rate
    assert rate is not None
    plans = _by_price(list(polynomial_plans(rate.up, rate.down)), asked)
    if not plans:
        what = "no stage of this change of rate can have taps that follow polynomials"
        instead = (
            "a rate that only goes down has one place between two samples: take taps"
            if rate.up == 1
            else "narrower transitions need more coefficients than can be searched"
        )
        raise DesignError(what, "--plan", instead)
    return _cheapest_of(requirement, plans[: TRIED if max(rate.up, rate.down) < FAR else TRIED // 2], is_stopped)


def _cheapest_of(requirement: Requirement, plans: list[Plan], is_stopped: Callable[[], bool]) -> Design:
    """Of plans in the order of their prices: what is too dear isn't designed, and the cheapest of the others is held to its limits."""
    asked = prototype_requirement(requirement)
    failure: CombeError | None = None
    found: list[tuple[float, Plan]] = []
    for one in plans:
        # A price is hardly ever too high by more.
        if found and _refined(one, asked) > UNSURE * min(found, key=_first)[0]:
            continue
        try:
            found.append((_operations(unchecked(requirement, one, is_stopped)), one))
        except CombeError as error:
            failure = failure or error
    return _first_that_keeps(requirement, found, failure, is_stopped)


def _first_that_keeps(
    requirement: Requirement, counted: list[tuple[float, Plan]], failure: CombeError | None, is_stopped: Callable[[], bool]
) -> Design:  # fmt: skip
    """To look through the prototype of all stages takes longest: the cheapest first, and no other if it keeps every limit."""
    for _, one in sorted(counted, key=_first):
        try:
            return designed(requirement, one, is_stopped)
        except CombeError as error:
            failure = failure or error
    assert failure is not None
    raise failure


def _by_price(plans: list[Plan], asked: Requirement) -> list[Plan]:
    """Those that can be had, the cheapest first: the room is shared for those that come first where it is shared evenly."""
    first = sorted(plans, key=lambda one: priced(one, asked))[:SIFTED]
    prices = {one: _refined(one, asked) for one in first}
    return sorted((one for one in first if prices[one] < np.inf), key=lambda one: prices[one])


def _first(counted: tuple[float, Plan]) -> float:
    return counted[0]


def _refined(plan: Plan, asked: Requirement) -> float:
    """The price of a plan with the passband's room shared as its stages will share it."""
    return sum(stage_prices(plan, asked, [10 ** (room / 20) - 1 for room in shares_of(asked, plan)]))


def tightened(requirement: Requirement, share: float) -> Requirement:
    """The same with a share of every tolerance taken away: of a passband's width in dB, of every level that is blocked."""
    rate = requirement.rate
    if not share or rate is None:
        return requirement
    down = 20 * float(np.log10(1 - share))
    bands = []
    for band in requirement.bands:
        if band.lower is None:
            bands.append(replace(band, upper=band.upper.moved(down)))
            continue
        room = min(high - low for (_, high), (_, low) in zip(band.upper.points, band.lower.points)) if (
            len(band.upper.points) == len(band.lower.points)
        ) else band.upper.first_db - band.lower.first_db  # fmt: skip
        bands.append(replace(band, upper=band.upper.moved(-share * room / 2), lower=band.lower.moved(share * room / 2)))
    levels = {key: getattr(rate, key) + down for key in ("alias_db", "image_db") if getattr(rate, key) is not None}
    return replace(requirement, bands=tuple(bands), rate=replace(rate, **levels))


def _operations(stages: tuple[RateStage, ...]) -> float:
    """Per sample at the highest rate."""
    cost = cost_of_stages(stages)
    return (cost.multiplies + cost.adds) / ratio_of(stages)[0]
