"""The stages of a plan, each designed with its share of the passband's room, the last making all good."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from functools import lru_cache
from math import prod

import numpy as np

from combe.designing.designed import Design
from combe.designing.equiripple.method import nearly_shortest
from combe.designing.estimates import estimated_taps
from combe.designing.rates.branches import places, taps_of
from combe.designing.rates.half_bands import allpass_half_band
from combe.designing.rates.phase_polynomials import shortest_kernel
from combe.designing.rates.plans import (
    MOST_CIC_ORDER,
    Piece,
    Plan,
    blocked,
    cic_order,
    duties,
    half_band_duty,
    min_ripple,
)
from combe.designing.rates.stages import RateStage, prototype_of
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError, DesignError
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Band, Limit, Requirement
from combe.requirement.rates import prototype_requirement
from combe.responses import frequency_response
from combe.values import replace

POINTS = 65
"""Of a limit that makes good for the droop of the stages before."""
SPARE_DB = 1e-4
ROUNDS = 4
MOST_BANDS = 8
LONGEST_BANDS = 200
"""Stages whose zeros at every M-th place are tried: few bands, and quick to fit."""
LONG = 800
"""Taps of a stage from which on the last few aren't searched for: a phase has a whole number of them anyway."""
WORTH_IT = 0.95
"""Of the operations: a stage with such zeros is longer, in memory and delay."""


def single_stage(found: Design, requirement: Requirement) -> Design:
    """A filter designed for a change of rate as the one polyphase stage that does it."""
    rate = requirement.rate
    if rate is None:
        return found
    if not isinstance(found.filter, Fir):
        what = f"{found.method} feeds its output back, and has no phases to run at the lower rate"
        raise DesignError(what, "method", "take one whose kind is fir, such as equiripple")
    stage = RateStage("taps", rate.up, rate.down, tuple(rate.up * tap for tap in found.filter.taps))
    return replace(found, requirement=requirement, stages=(stage,), parts=())


def unchecked(requirement: Requirement, plan: Plan, is_stopped: Callable[[], bool]) -> tuple[RateStage, ...]:
    """The stages of a plan as they come out at first, before the whole is held against its limits."""
    if plan.is_single:
        return designed(requirement, plan, is_stopped).stages
    if is_stopped():
        raise DesignError("stopped", "plan")
    asked = prototype_requirement(requirement)
    return _turned((*_all_but_last(asked, plan), _last_stage(asked, plan, SPARE_DB)), plan)


@lru_cache(maxsize=32)
def _kept(requirement: Requirement, plan: Plan) -> Design:
    return _make(requirement, plan)


def designed(requirement: Requirement, plan: Plan, is_stopped: Callable[[], bool]) -> Design:
    """All stages, held against every limit; kept."""
    if is_stopped():
        raise DesignError("stopped", "plan")
    return _kept(requirement, plan)


def _make(requirement: Requirement, plan: Plan) -> Design:
    started = time.perf_counter()
    asked = prototype_requirement(requirement)
    if plan.allpass and requirement.phase == "linear":
        what = "linear phase is asked, which half-bands of two allpasses don't give"
        raise DesignError(what, "--plan", "take 2 for iir2, or let the phase be any")
    if plan.allpass and plan.is_cic and len(plan.factors) - 1 in plan.allpass:
        what = f"in {plan.words} no taps make good for the droop of the sums"
        raise DesignError(what, "--plan", "let taps work at the lowest rate")
    if plan.is_single:
        found = single_stage(_cheapest(asked, plan, plan.factors[0]), requirement)
        return replace(found, seconds=time.perf_counter() - started)
    rate = requirement.rate
    assert rate is not None
    downward = _chain(asked, plan)
    stages = _turned(downward, plan)
    words = plan.words
    count = f"{len(stages)} stages, each with its share of the passband's room, the last made to fit the others"
    if plan.is_polynomial:
        each = max(stages, key=lambda stage: len(stage.branches))
        powers, samples = len(each.branches), len(each.branches[0])
        count = "" if len(stages) == 1 else f"{len(stages)} stages, "
        count += f"the taps of {each.words} are polynomials of degree {powers - 1} over {samples} samples, {powers * samples} coefficients for {each.up * samples} taps"
    if plan.allpass:
        poles = sum(len(stage.even) + len(stage.odd) for stage in stages)
        count = f"{len(stages)} stage{'s' if len(stages) > 1 else ''}, of which iir2 are half-bands of two allpasses, {poles} poles in all; the phase isn't linear"
    notes = (f"{words}: {count}",)
    return Design(
        "equiripple", prototype_of(stages), requirement.sample_rate_hz, requirement, notes,
        time.perf_counter() - started, stages=stages,
    )  # fmt: skip


def _turned(downward: tuple[RateStage, ...], plan: Plan) -> tuple[RateStage, ...]:
    """Stages in signal order, that at the highest rate with the other factor."""
    if plan.is_polynomial:
        # From here on its taps follow from its branches and from where outputs lie.
        first = replace(downward[0], kind="farrow", taps=(), up=1, down=plan.factors[0])
        downward = (first, *downward[1:])
    if plan.is_upward:
        upward = [
            replace(one, up=one.down, down=1, taps=tuple(one.down * tap for tap in one.taps)) for one in downward[::-1]
        ]
        upward[-1] = replace(upward[-1], down=plan.other)
        return tuple(upward)
    first = downward[0]
    if plan.other > 1:
        first = replace(first, up=plan.other, taps=tuple(plan.other * tap for tap in first.taps))
    return (first, *downward[1:])


def _chain(asked: Requirement, plan: Plan) -> tuple[RateStage, ...]:
    """Stages from the highest rate down; the last one is tightened until the whole keeps every limit. Where that isn't enough, because the
    others lift what one of them lets through, these block deeper by as much."""
    failure: DesignError | None = None
    for is_deep in (False, True):
        spare = SPARE_DB
        try:
            for _ in range(ROUNDS):
                made = (*_all_but_last(asked, plan, is_deep), _last_stage(asked, plan, spare, is_deep))
                worst = min(line.margin for line in gain_lines(prototype_of(made), asked))
                if worst >= 0:
                    return made
                spare += 1.5 * -worst
        except DesignError as error:
            failure = failure or error
        if len(plan.factors) == 1:
            break
    raise failure or DesignError(f"{plan.words} misses a limit by {-worst:.3g} dB", "--plan", "take fewer stages")


@lru_cache(maxsize=32)
def _all_but_last(asked: Requirement, plan: Plan, is_deep: bool = False) -> tuple[RateStage, ...]:
    pieces, shares = blocked(asked), shares_of(asked, plan)
    pass_hz = max(band.stop_hz for band in asked.passbands)
    stages: list[RateStage] = []
    rate = asked.sample_rate_hz
    # All of them stay within the room; without one of them they may stand above it by as much as that one lies below 1.
    lifted = sum(shares)
    for index, factor in enumerate(plan.factors[:-1]):
        own = duties(pieces, rate, factor)
        if index == 0 and plan.is_polynomial:
            stages.append(_kernel(_inner_limits(asked, own, rate, shares[index], lifted + shares[index]), plan))
        elif own and index in plan.allpass:
            # Others may stand above 1 by all of the passband's room where this one's stretch folds to.
            stages.append(_half_band(own, rate, pass_hz, sum(shares)))
        elif index == 0 and plan.is_cic:
            order = cic_order(own, rate, factor, pass_hz)
            if order == 0:
                what = f"no {MOST_CIC_ORDER} sums over {factor} samples block what must be blocked"
                raise DesignError(what, "--plan", "take a smaller factor for the cic")
            stages.append(RateStage("cic", 1, factor, (), order, 1))
        else:
            stages.append(_inner(asked, plan, own, rate, factor, (shares[index], shares[index] + lifted * is_deep)))
        rate /= factor
    return tuple(stages)


@lru_cache(maxsize=32)
def _last_stage(asked: Requirement, plan: Plan, spare: float, is_deep: bool = False) -> RateStage:
    """The stage at the lowest rate, for what the others really left, with so many dB to spare."""
    before = _all_but_last(asked, plan, is_deep)
    rate = asked.sample_rate_hz / prod(plan.factors[:-1])
    if len(plan.factors) - 1 in plan.allpass:
        own = tuple(piece for piece in blocked(asked) if piece[0] < rate / 2)
        return _half_band(own, rate, max(band.stop_hz for band in asked.passbands), spare + sum(shares_of(asked, plan)))
    wanted = _last(asked, blocked(asked), rate, list(before), spare)
    if plan.is_polynomial and not before:
        return _kernel(wanted, plan)
    found = _cheapest(wanted, plan, plan.factors[-1])
    assert isinstance(found.filter, Fir)
    return RateStage("taps", 1, plan.factors[-1], found.filter.taps)


def _kernel(wanted: Requirement, plan: Plan) -> RateStage:
    """Taps that follow polynomials, with as few multiplies as keep all of it."""
    if not wanted.stopbands:
        what = "nothing is to be blocked, so that there is nothing a polynomial is to be made for"
        raise DesignError(what, "--plan", "limit aliases or images, or block a band")
    branches = shortest_kernel(wanted, plan.phases)
    taps = taps_of(branches, places(plan.phases)) / plan.phases
    return RateStage("taps", 1, plan.factors[0], tuple(taps.tolist()), branches=branches)


def _half_band(own: tuple[Piece, ...], rate: float, pass_hz: float, spare: float) -> RateStage:
    """Two allpasses with as few poles as block all of it."""
    if not own:
        what = "nothing is to be blocked, so that a half-band has nothing to be made for"
        raise DesignError(what, "--plan", "limit aliases or images, or block a band")
    edge, level = half_band_duty(own, rate, pass_hz)
    even, odd = allpass_half_band(edge, level - spare)
    return RateStage("allpass", 1, 2, even=even, odd=odd)


def shares_of(asked: Requirement, plan: Plan) -> list[float]:
    """Of the passband's half width in dB, by stage: what a stage's length costs grows with the logarithm of its share, so that
    the sum of costs is least where shares stand as the costs of a unit do (Lagrange).
    """
    pieces, pass_hz = blocked(asked), max(band.stop_hz for band in asked.passbands)
    weights, rate = [], asked.sample_rate_hz
    for index, factor in enumerate(plan.factors):
        is_last = index == len(plan.factors) - 1
        own = pieces if is_last else duties(pieces, rate, factor)
        gap = min((p[0] - pass_hz for p in own if p[0] > pass_hz), default=rate / 4)
        is_free = (index == 0 and plan.is_cic) or index in plan.allpass
        weights.append(0.0 if is_free else rate / max(gap, 1e-9 * rate) * rate / factor)
        rate /= factor
    room = 20 * np.log10(1 + min_ripple(asked))
    return [float(room * weight / (sum(weights) or 1.0)) for weight in weights]


def _inner(
    asked: Requirement, plan: Plan, own: tuple[Piece, ...], rate: float, factor: int, share_and_others_db: tuple[float, float]
) -> RateStage:  # fmt: skip
    if not own:
        return RateStage("taps", 1, factor, (1.0,))
    found = _cheapest(_inner_limits(asked, own, rate, *share_and_others_db), plan, factor)
    assert isinstance(found.filter, Fir)
    return RateStage("taps", 1, factor, found.filter.taps)


def _inner_limits(
    asked: Requirement, own: tuple[Piece, ...], rate: float, share_db: float, others_db: float
) -> Requirement:  # fmt: skip
    """What a stage must keep that others come behind: its share of the passband's room, and what it must block, deeper by how far the others
    may stand above 1."""
    bands = [
        Band(band.name, band.start_hz, band.stop_hz, Limit.level(share_db, band.start_hz, band.stop_hz),
             Limit.level(-share_db, band.start_hz, band.stop_hz))
        for band in asked.passbands
    ]  # fmt: skip
    bands += [_stop(start, stop, level - others_db) for start, stop, level in _apart(own)]
    return Requirement("stage", rate, tuple(sorted(bands, key=lambda band: band.start_hz)), "linear")


def _last(
    asked: Requirement, pieces: tuple[Piece, ...], rate: float, before: list[RateStage], spare: float
) -> Requirement:
    """What the last stage must keep, so that all of them together keep what is asked."""
    others = prototype_of(before)
    bands = []
    for band in asked.passbands:
        assert band.lower is not None
        hz = np.linspace(band.start_hz, band.stop_hz, POINTS)
        gain = 20 * np.log10(
            np.maximum(np.abs(frequency_response(others, 2 * np.pi * hz / asked.sample_rate_hz)), 1e-30)
        )
        lower, upper = band.lower.at(hz, "most") - gain + spare, band.upper.at(hz, "least") - gain - spare
        if np.any(lower >= upper):
            raise DesignError("the stages before use up the passband's room", "--plan", "take fewer stages")
        bands.append(Band(band.name, band.start_hz, band.stop_hz, _points(hz, upper), _points(hz, lower)))
    low = [(start, min(stop, rate / 2), level) for start, stop, level in pieces if start < rate / 2]
    bands += [_stop(start, stop, level - spare) for start, stop, level in _apart(low)]
    return Requirement("stage", rate, tuple(sorted(bands, key=lambda band: band.start_hz)), "linear")


def _points(hz: np.ndarray, db: np.ndarray) -> Limit:
    return Limit(tuple((float(f), float(level)) for f, level in zip(hz, db)), False)


def _stop(start: float, stop: float, level: float) -> Band:
    return Band("stop", start, stop, Limit.level(level, start, stop))


def _apart(pieces: Iterable[Piece]) -> list[Piece]:
    """Stretches that touch made one, at the lower level: bands may only touch where limits agree."""
    found: list[Piece] = []
    for start, stop, level in sorted(pieces):
        if found and start <= found[-1][1] * (1 + 1e-9):
            found[-1] = (found[-1][0], max(found[-1][1], stop), min(found[-1][2], level))
        else:
            found.append((start, stop, level))
    if len(found) > 30:
        return [(found[0][0], found[-1][1], min(level for _, _, level in found))]
    return found


def _cheapest(asked: Requirement, plan: Plan, factor: int) -> Design:
    """Equiripple; or taps with zeros at every second place, or every one that is a multiple of the factor from the middle, where a stage
    may have them (Mintzer 1982) and they cost clearly less: they are longer."""
    from combe.designing.methods import design, design_task
    from combe.ledger import meets

    is_long = estimated_taps(asked)[0] > LONG
    best = nearly_shortest(asked) if is_long else design(asked, "equiripple")
    others: list[Callable[[], Design]] = [lambda: design(asked, "half-band")]
    if 2 < factor <= MOST_BANDS and plan.other == 1 and estimated_taps(asked)[0] < LONGEST_BANDS:
        choice = DesignChoice("nyquist", settings=(("bands", float(factor)),))
        others.append(lambda: design_task(Task(asked, asked.sample_rate_hz, choice)))
    for make in others:
        try:
            other = make()
        except CombeError:
            continue
        if _stage_operations(other, plan, factor) < WORTH_IT * _stage_operations(best, plan, factor) and meets(
            gain_lines(other.filter, asked)
        ):
            best = other
    return best


def _stage_operations(found: Design, plan: Plan, factor: int) -> float:
    """Of a stage by itself, in multiplies and adds."""
    assert isinstance(found.filter, Fir)
    up, down = (factor, plan.other) if plan.is_upward else (plan.other, factor)
    multiplies, adds, _ = RateStage("taps", up, down, found.filter.taps).cost()
    return multiplies + adds
