"""How well a classic of an order can do: the share of every tolerance it has to use, solved in closed form."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from math import exp, inf, log, sqrt

from msgspec import Struct

from combe.designing.classic.digital import Placement, digital_roots
from combe.designing.classic.families import Family, Row
from combe.designing.classic.plan import Plan, centers, stretched
from combe.filters import Cascade, sections_of

LEAST_SHARE = 1e-9
GUARD = 1e-7


class Fit(Struct, frozen=True):
    """One member of a family laid over a plan.

    ``share`` is the part of each tolerance it uses: 1 fills the limits, above 1 misses them. ``ripple`` and
    ``stop`` are the shares of passband and stopband separately; they differ where the spare room goes to one side.
    """

    order: int
    share: float
    ripple: float
    stop: float
    center: float
    floor: Row


def best_fit(family: Family, plan: Plan, order: int, spare: str = "shared", is_draft: bool = False) -> Fit:
    """The member of an order that needs the least share of the tolerances, over center and stopband edge; a draft's center is
    found to a thousandth of the way."""
    # Imported late: the window opens without it.
    from scipy.optimize import minimize_scalar

    low, high = centers(plan)

    def fit_at(center: float) -> Fit:
        return _fit_at(family, plan, order, spare, center)

    if high <= low * (1 + 1e-12):
        return fit_at(low)
    found = minimize_scalar(lambda x: _score(fit_at(exp(x))), bounds=(log(low), log(high)), method="bounded",
                            options={"xatol": 1e-3 * log(high / low) if is_draft else 1e-7, "maxiter": 40})  # fmt: skip
    return min((fit_at(center) for center in (low, high, exp(found.x))), key=_score)


def _score(fit: Fit) -> float:
    return log(max(fit.share, 1e-300))


def keeps(family: Family, plan: Plan, order: int, spare: str = "shared", is_quick: bool = False) -> bool:
    """Whether ``best_fit`` would need no more than the tolerances: asked at full share, so that no share is solved for, and
    answered by the first center that does. A quick answer is sure where it is yes: few centers are looked at."""
    from scipy.optimize import minimize_scalar

    low, high = centers(plan)
    whole = min(0.0, log(_most(plan, spare)))

    def missing(log_center: float) -> float:
        floors, rows = _laid_over(family, plan, exp(log_center))
        most = -inf
        for floor in floors:
            most = max(most, _room(family, plan, order, spare, floor, rows)(whole))
            if most >= 0:
                raise _FoundError
        return -most

    try:
        ends = log(low), log(high)
        for center in (ends[0], ends[1], sum(ends) / 2):
            missing(center)
        if not is_quick and high > low * (1 + 1e-12):
            minimize_scalar(missing, bounds=ends, method="bounded", options={"xatol": 1e-7, "maxiter": 40})
    except _FoundError:
        return True
    return False


class _FoundError(Exception):
    """A center that keeps all."""


def _fit_at(family: Family, plan: Plan, order: int, spare: str, center: float) -> Fit:
    floors, rows = _laid_over(family, plan, center)
    fits = [_share(family, plan, order, spare, center, floor, rows) for floor in floors]
    return min(fits, key=_score)


def _laid_over(family: Family, plan: Plan, center: float) -> tuple[list[Row], list[Row]]:
    """Stopband edges to try, and the knots of the stopbands, on the prototype's axis around a center."""
    _, rows = stretched(plan, center)
    floors = sorted({(omega, excess) for omega, excess, _ in rows if 1 < omega < 1e9})
    if not floors:
        floors = [(1 + 1e-9, 1e-9)]
    if len(floors) > 1:
        floors = _filled(floors)
    return ([(*floor, 0.0) for floor in floors] if family.has_floor else [(*floors[0], 0.0)]), rows


def _filled(floors: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """A few stopband edges between those asked for: a stepped mask may be kept best from within a step."""
    found = [floors[0]]
    for (low, _low_excess), (high, high_excess) in list(pairwise(floors))[:4]:
        ratio = high / low
        found += [(low * ratio**t, low * ratio**t - 1) for t in (0.25, 0.5, 0.75)] if ratio > 1.001 else []
        found.append((high, high_excess))
    return found


def _shares(spare: str, c: float) -> tuple[float, float]:
    """Of passband and stopband, where the side that isn't spared uses a share ``c``."""
    if spare == "stopband":
        return 1 - GUARD, c
    if spare == "passband":
        return c, 1 - GUARD
    return c, c


def _most(plan: Plan, spare: str) -> float:
    """The largest share: a ripple beyond it would reach down to nothing."""
    return 0.999999 * plan.middle / plan.room if spare != "stopband" else 1e6


def _room(
    family: Family, plan: Plan, order: int, spare: str, floor: Row, rows: list[Row]
) -> Callable[[float], float]:  # fmt: skip
    """How far below its limit the worst stopband knot lies, in nepers, as a function of the logarithm of the share."""
    factors = [family.log_factor(order, floor, row, 1.0) for row in rows] if family.name != "bessel" else []

    def room(log_share: float) -> float:
        ripple, stop = _shares(spare, exp(log_share))
        epsilon = ripple_epsilon(plan, ripple)
        top = plan.middle + ripple * plan.room
        worst = inf
        for index, row in enumerate(rows):
            level = stop * row[2]
            if level >= top:
                continue
            needed = log((top / level) ** 2 - 1) / 2 - log(epsilon)
            factor = factors[index] if factors else family.log_factor(order, floor, row, epsilon)
            worst = min(worst, factor - needed)
        return min(worst, 1e6)

    return room


def _share(family: Family, plan: Plan, order: int, spare: str, center: float, floor: Row, rows: list[Row]) -> Fit:
    """The least share at which every stopband knot is far enough down."""
    # Imported late: the window opens without it.
    from scipy.optimize import brentq

    room = _room(family, plan, order, spare, floor, rows)
    most = _most(plan, spare)
    low, high = log(LEAST_SHARE), log(most)
    if room(high) < 0:
        share = exp(high) if spare != "passband" else 1e9
    elif room(low) > 0:
        share = exp(low)
    else:
        share = exp(brentq(room, low, high, xtol=1e-12))
    ripple, stop = _shares(spare, min(share, most))
    return Fit(order, share, ripple, stop, center, floor)


def ripple_epsilon(plan: Plan, ripple: float) -> float:
    """ε of a passband that uses a share of its tolerance; (top² − bottom²)/bottom² from the difference itself."""
    top, bottom = plan.middle + ripple * plan.room, plan.middle - ripple * plan.room
    return sqrt(2 * ripple * plan.room * (top + bottom)) / bottom


def filter_of(family: Family, plan: Plan, fit: Fit) -> Cascade:
    """The digital filter of a fit."""
    epsilon = ripple_epsilon(plan, fit.ripple)
    top = plan.middle + fit.ripple * plan.room
    prototype = family.prototype(fit.order, epsilon, fit.floor)
    scale, _ = stretched(plan, fit.center)
    gain = top / sqrt(1 + epsilon**2) if prototype.dips else top
    return sections_of(digital_roots(prototype, Placement(plan.shape, scale, fit.center), gain))
