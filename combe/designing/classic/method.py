"""The classics as Combe offers them: the least order that keeps every limit, a given order, or a cut-off alone."""

from __future__ import annotations

import time
from collections.abc import Callable
from math import inf, pi, sqrt, tan

import numpy as np

from combe.designing.classic.digital import Placement, digital_roots
from combe.designing.classic.families import FAMILIES, Family
from combe.designing.classic.plan import Plan, plan_of, shape_of
from combe.designing.classic.prototypes import Prototype
from combe.designing.classic.search import Fit, best_fit, filter_of, keeps
from combe.designing.designed import Design
from combe.designing.settings import ATTENUATION, RIPPLE
from combe.designing.task import SHAPES, Task
from combe.errors import DesignError, Stopped
from combe.filters import Cascade, sections_of
from combe.ledger import Line, gain_lines, worst_line
from combe.requirement import Band, Limit, Requirement
from combe.requirement.quantities import frequency_text, level_text
from combe.values import replace

ROUNDING_STEPS = 4
DRAWN_IN = 1 - 1e-6
TIGHTER = (1.0, 1 - 1e-6, 1 - 1e-5, 1 - 1e-4, 1 - 1e-3, 0.99)


def make_named(task: Task) -> Design:
    """The design a task asks of the family its method names."""
    return make(next(family for family in FAMILIES if family.name == task.choice.method), task)


def make(family: Family, task: Task) -> Design:
    """The design a task asks of a family.

    Raises
    ------
    DesignError
        With the reason: a shape the classics don't have, an order out of reach, or limits no order keeps.
    """
    started = time.perf_counter()
    notes: tuple[str, ...]
    if task.choice.cutoffs_hz:
        found, notes = _by_cutoff(family, task), ()
    elif task.choice.order is None:
        found, notes = _least(family, task)
    else:
        found, notes = _of_order(family, task)
    if not task.choice.cutoffs_hz:
        notes += tuple(f"{name} goes with a cut-off; here the limits say it" for name, _ in task.choice.settings)
    seconds = time.perf_counter() - started
    return Design(family.name, found, task.sample_rate_hz, task.requirement, notes, seconds)


def _per_section(plan_shape: str) -> int:
    return 2 if plan_shape in ("bandpass", "bandstop") else 1


def prototype_order(family: Family, shape: str, order: int) -> int:
    """The order of the prototype behind a digital order; band shapes double it."""
    double = _per_section(shape)
    if order % double or order < double:
        near = f"use {order - 1} or {order + 1}" if order > 1 else "use 2"
        raise DesignError(f"a {family.name} {shape} has an even order, and {order} is odd", "order", near)
    if order // double > family.most_order:
        raise DesignError(f"order {order} is out of reach", "order", f"the most is {family.most_order * double}")
    return order // double


def _of_order(family: Family, task: Task) -> tuple[Cascade, tuple[str, ...]]:
    plan = plan_of(task.asked)
    order = prototype_order(family, plan.shape, task.order)
    fit = best_fit(family, plan, order, task.choice.spare)
    return filter_of(family, plan, fit), ()


def _least(family: Family, task: Task) -> tuple[Cascade, tuple[str, ...]]:
    """The least order whose closed-form share is below 1, verified on the finished sections."""
    requirement = task.asked
    plan = plan_of(requirement)
    fits: dict[int, Fit] = {}

    def fit(order: int) -> Fit:
        if task.is_stopped():
            raise Stopped
        if order not in fits:
            fits[order] = best_fit(family, plan, order, task.choice.spare, task.is_draft)
        return fits[order]

    def holds(order: int, is_quick: bool) -> bool:
        if task.is_stopped():
            raise Stopped
        return keeps(family, plan, order, task.choice.spare, is_quick)

    order = first_that_keeps(family, plan, holds)
    for more in range(ROUNDING_STEPS):
        here = fit(order + more) if order + more <= family.most_order else None
        if here is None:
            break
        found = _drafted(family, plan, here) if task.is_draft else verified(family, plan, here, requirement)
        if found is not None:
            if plan.shape == "bandpass":
                row = in_a_row(family, task, 2 * (order + more))
                if row is not None:
                    return row
            if task.is_draft:
                return found, ()
            return found, _story(family, plan, fit, order + more, requirement)
    what = f"order {order * _per_section(plan.shape)} would do in exact numbers, but rounding of the sections in "
    raise DesignError(what + "double precision breaks a limit", instead="widen the passband or ask for more ripple")


def first_that_keeps(family: Family, plan: Plan, holds: Callable[[int, bool], bool]) -> int:
    """The least order that ``holds``: doubled until a quick look is sure of one, halved in between, and then those below it
    are looked at closely. What an order doesn't hold takes longest to find out, and no lower one holds."""
    high = 1
    while not holds(high, True):
        if high == family.most_order:
            if holds(high, False):
                break
            raise _hopeless(family, best_fit(family, plan, high))
        high = min(2 * high, family.most_order)
    low = high // 2
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if holds(middle, True) else (middle, high)
    while high > 1 and holds(high - 1, False):
        high -= 1
    return high


def _hopeless(family: Family, fit: Fit) -> DesignError:
    order = family.most_order
    if family.name == "bessel":
        what = "a Bessel filter falls off like a Gaussian however high its order, too slowly for these limits"
        return DesignError(what, "bands", "widen the transition, or take another method")
    what = f"even order {order} would use its tolerances {fit.share:.3g} times over"
    return DesignError(what, "bands", "widen the transition or relax a limit")


def verified(family: Family, plan: Plan, fit: Fit, requirement: Requirement) -> Cascade | None:
    """The filter of a fit if its finished sections keep every gain limit, else with tolerances drawn in a little."""
    for tighter in TIGHTER:
        ripple = min(fit.ripple, tighter) if fit.ripple > 0.9 else fit.ripple
        drawn = Fit(fit.order, fit.share, ripple, fit.stop, fit.center, fit.floor)
        found = filter_of(family, plan, drawn)
        if all(line.margin >= 0 for line in gain_lines(found, requirement)):
            return found
        if fit.ripple <= tighter * 0.9:
            return None
    return None


def _drafted(family: Family, plan: Plan, fit: Fit) -> Cascade:
    """The filter of a fit, its tolerances drawn in by as much as rounding may take; measured once the hand lets go."""
    ripple = fit.ripple * DRAWN_IN if fit.ripple > DRAWN_IN else fit.ripple
    return filter_of(family, plan, Fit(fit.order, fit.share, ripple, fit.stop, fit.center, fit.floor))


def in_a_row(family: Family, task: Task, order: int) -> tuple[Cascade, tuple[str, ...]] | None:
    """A highpass and a lowpass in a row where that takes less than a bandpass of an order; None where it doesn't.

    One prototype gives both transitions the same slope; two give each what it needs, at the price of sharing the
    ripple out between them.
    """
    requirement = task.asked
    for share in (0.5, 0.3, 0.7):
        try:
            halves = [_part(family, task, side, share if side == "highpass" else 1 - share)
                      for side in ("highpass", "lowpass")]  # fmt: skip
        except DesignError:
            continue
        orders = [half.order for half in halves]
        if sum(orders) >= order:
            continue
        sections = (*halves[0].sections, *halves[1].sections)
        found = Cascade(sections, halves[0].gain * halves[1].gain)
        if all(line.margin >= 0 for line in gain_lines(found, requirement)):
            words = (
                f"a highpass of order {orders[0]} and a lowpass of order {orders[1]} in a row use the two transitions"
            )
            return found, (f"{words}; one bandpass would take order {order}",)
    return None


def _part(family: Family, task: Task, side: str, share: float) -> Cascade:
    """The highpass or lowpass of a bandpass, with a share of its ripple (in dB, about the middle)."""
    requirement = task.asked
    high = min(db for band in requirement.passbands for _, db in band.upper.points)
    low = max(db for band in requirement.passbands if band.lower for _, db in band.lower.points)
    middle = (high + low) / 2 if side == "highpass" else 0.0
    room = share * (high - low) / 2
    start, stop = requirement.passbands[0].start_hz, requirement.passbands[-1].stop_hz
    edges = (start, requirement.nyquist_hz) if side == "highpass" else (0.0, stop)
    keep = Band("keep", *edges, Limit.level(middle + room, *edges), Limit.level(middle - room, *edges))
    blocks = [band for band in requirement.stopbands if (band.start_hz < start) == (side == "highpass")]
    # The other part may pass a little more than 1 here.
    tighter = [replace(band, upper=band.upper.moved(-abs(high - low) - abs(middle))) for band in blocks]
    bands = (*tighter, keep) if side == "highpass" else (keep, *tighter)
    part = Requirement("part", requirement.sample_rate_hz, bands)
    found, _ = _least(family, replace(task, requirement=part))
    return found


def _story(
    family: Family, plan: Plan, fit: Callable[[int], Fit], order: int, requirement: Requirement
) -> tuple[str, ...]:
    """What the next lower order would have missed."""
    double = _per_section(plan.shape)
    if order == 1:
        return (f"meets at order {double}, the least there is",)
    lower = filter_of(family, plan, fit(order - 1))
    return (miss_sentence(order * double, (order - 1) * double, gain_lines(lower, requirement), requirement),)


def miss_sentence(order: int, lower: int, lines: list[Line], requirement: Requirement) -> str:
    """``meets at order 7; order 6 misses by 0.8 dB at 12.1 kHz``"""
    worst = worst_line(lines)
    if worst is None or worst.margin >= 0:
        return f"meets at order {order}"
    hz = worst.at_hz if worst.at_hz and worst.at_hz > 1e-9 * requirement.sample_rate_hz else 0.0
    place = frequency_text(float(f"{hz:.4g}"), requirement.sample_rate_hz)
    return f"meets at order {order}; order {lower} misses by {level_text(-worst.margin, 2)} at {place}"


def _by_cutoff(family: Family, task: Task) -> Cascade:
    """A given order whose gain falls to half power (−3.01 dB of its largest) at the cut-off."""
    shape, edges = cutoff_edges(task)
    order = prototype_order(family, shape, task.order)
    prototype = cutoff_prototype(family, order, task)
    if shape == "bandpass":
        place = Placement(shape, edges[1] - edges[0], sqrt(edges[0] * edges[1]))
    elif shape == "bandstop":
        place = Placement(shape, 1 / (edges[1] - edges[0]), sqrt(edges[0] * edges[1]))
    else:
        place = Placement(shape, edges[0] if shape == "lowpass" else 1 / edges[0])
    gain = 1.0
    if prototype.dips:
        ripple = RIPPLE.checked(task.choice.setting("ripple_db")) or 0.0
        gain = 10 ** (-ripple / 20)
    return sections_of(digital_roots(prototype, place, gain))


def cutoff_edges(task: Task) -> tuple[str, list[float]]:
    """The shape asked for and its prewarped cut-offs."""
    shape = task.choice.shape or (shape_of(task.requirement) if task.requirement else "")
    cutoffs = sorted(task.choice.cutoffs_hz)
    if not shape:
        shape = "lowpass" if len(cutoffs) == 1 else "bandpass"
    if shape not in SHAPES:
        raise DesignError(f'"{shape}" is not a shape', "shape", "known are " + ", ".join(SHAPES))
    wanted = 1 if shape in ("lowpass", "highpass") else 2
    if len(cutoffs) != wanted:
        count = "one cut-off" if wanted == 1 else "two cut-offs"
        raise DesignError(f"a {shape} has {count}, and {len(cutoffs)} is given", "cutoff")
    for cutoff in cutoffs:
        if not 0 < cutoff < task.sample_rate_hz / 2:
            raise DesignError(
                f"a cut-off at {frequency_text(cutoff)} can't be",
                "cutoff",
                f"it lies between 0 and half the sample rate, {frequency_text(task.sample_rate_hz / 2)}",
            )
    if wanted == 2 and cutoffs[0] == cutoffs[1]:
        raise DesignError("both cut-offs are the same", "cutoff", "leave room between them")
    return shape, [tan(pi * cutoff / task.sample_rate_hz) for cutoff in cutoffs]


def cutoff_prototype(family: Family, order: int, task: Task) -> Prototype:
    """The prototype of an order with its half-power point at Ω = 1."""
    ripple = RIPPLE.checked(task.choice.setting("ripple_db"))
    attenuation = ATTENUATION.checked(task.choice.setting("attenuation_db"))
    assert ripple is not None and attenuation is not None
    epsilon = sqrt(10 ** (ripple / 10) - 1)
    if family.name in ("chebyshev", "elliptic") and epsilon >= 1:
        raise DesignError(f"a ripple of {ripple:g} dB leaves no −3 dB point", "ripple_db", "ask for less than 3 dB")
    depth = sqrt(10 ** (attenuation / 10) - 1)
    if family.name in ("inverse-chebyshev", "elliptic") and depth <= max(1.0, epsilon):
        raise DesignError(f"{attenuation:g} dB is no stopband below −3 dB", "attenuation_db", "ask for more than 3 dB")
    if family.name == "butterworth" or family.name == "bessel":
        return family.prototype(order, 1.0, (inf, inf, 0.0))
    if family.name == "inverse-chebyshev":
        # T_n(stop) = depth when the half-power point is at 1.
        stop = float(np.cosh(np.arccosh(depth) / order))
        return family.prototype(order, 1.0, (stop, stop - 1, 0.0))
    if family.name == "elliptic":
        stop = _stop_for(order, epsilon, depth)
        return _rescaled(family.prototype(order, epsilon, (stop, stop - 1, 0.0)))
    return _rescaled(family.prototype(order, epsilon, (inf, inf, 0.0)))


def _stop_for(order: int, epsilon: float, depth: float) -> float:
    """The stopband edge at which an elliptic filter of an order reaches a depth: the degree equation turned round."""
    from combe.designing.classic.elliptic import Modulus

    ripples = Modulus.of(epsilon / depth)
    if order == 1:
        return depth / epsilon
    return 1 / Modulus(ripples.log_nome / order).k


def _rescaled(prototype: Prototype) -> Prototype:
    """The prototype with its half-power point moved to Ω = 1."""
    # Imported late: the window opens without it.
    from scipy.optimize import brentq

    def log_power(omega: float) -> float:
        s = 1j * omega
        return 2 * float(np.sum(np.log(np.abs(s - prototype.zeros))) - np.sum(np.log(np.abs(s - prototype.poles))))

    top = log_power(0.0) if not prototype.dips else log_power(_top_of(prototype))
    edge = brentq(lambda w: log_power(w) - top + np.log(2), 1.0, _beyond(prototype), xtol=1e-15)
    return Prototype(prototype.zeros / edge, prototype.poles / edge, prototype.dips)


def _top_of(prototype: Prototype) -> float:
    """Where a dipping prototype has its largest gain: beside the pole nearest the axis, refined."""
    omega = np.linspace(0, 1, 40001)
    s = 1j * omega[:, None]
    power = np.sum(np.log(np.abs(s - prototype.poles)), axis=1) - (
        np.sum(np.log(np.abs(s - prototype.zeros)), axis=1) if len(prototype.zeros) else 0.0
    )
    at = int(np.argmin(power))
    low, high = omega[max(at - 1, 0)], omega[min(at + 1, len(omega) - 1)]
    for _ in range(60):
        a, b = low + (high - low) / 3, high - (high - low) / 3

        def loss(w: float) -> float:
            return float(
                np.sum(np.log(np.abs(1j * w - prototype.poles))) - np.sum(np.log(np.abs(1j * w - prototype.zeros)))
            )

        low, high = (low, b) if loss(a) < loss(b) else (a, high)
    return float((low + high) / 2)


def _beyond(prototype: Prototype) -> float:
    """A frequency surely past the half-power point and short of the first zero."""
    nearest = min((abs(zero) for zero in prototype.zeros), default=1e6)
    return nearest * (1 - 1e-12)
