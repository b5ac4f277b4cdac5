"""The stages of a plan, each designed with its share of the passband's room, the last making all good."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from functools import lru_cache
from math import prod

import numpy as np

from combe.designing.designed import Design
from combe.designing.equiripple.method import nearly_shortest
from combe.designing.equiripple.too_long import too_long
from combe.designing.estimates import estimated_taps, kaiser_equiripple_taps
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
from combe.ledger import gain_lines, meets
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
LONG = 300
"""Taps of a stage from which on the last few aren't searched for: a phase has a whole number of them anyway."""
WORTH_IT = 0.95
"""Of the operations: a stage with such zeros is longer, in memory and delay."""
MODEL, SPENT = 350, 1 / 60
"""Taps of the model a long stage is drawn from, about; the share of its length that drawing may add."""
LONGEST = 20_000
"""Taps of a stage, which is what a file holds."""


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
    return _turned((*_all_but_last(asked, plan), _last_stage(asked, plan)), plan)


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
    worst = 0.0
    for is_deep in (False, True):
        spares, before = (SPARE_DB, SPARE_DB), -np.inf
        try:
            for _ in range(ROUNDS):
                made = (*_all_but_last(asked, plan, is_deep), _last_stage(asked, plan, spares, is_deep))
                passed, stopped = _worst_margins(made, asked)
                worst = min(passed, stopped)
                if worst >= 0:
                    return made
                if passed >= 0 and stopped <= before and not is_deep:
                    break
                before = stopped
                spares = spares[0] + 1.5 * max(-passed, 0.0), spares[1] + 1.5 * max(-stopped, 0.0)
        except DesignError as error:
            failure = failure or error
        if len(plan.factors) == 1:
            break
    raise failure or DesignError(f"{plan.words} misses a limit by {-worst:.3g} dB", "--plan", "take fewer stages")


def _worst_margins(made: tuple[RateStage, ...], asked: Requirement) -> tuple[float, float]:
    """Of the passbands, and of what is blocked."""
    passed = {band.name for band in asked.passbands}
    margins = {True: np.inf, False: np.inf}
    for line in gain_lines(prototype_of(made), asked):
        margins[line.band in passed] = min(margins[line.band in passed], line.margin)
    return margins[True], margins[False]


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
def _last_stage(
    asked: Requirement, plan: Plan, spares: tuple[float, float] = (SPARE_DB, SPARE_DB), is_deep: bool = False
) -> RateStage:
    """The stage at the lowest rate, for what the others really left, with so many dB to spare where it passes and where it blocks."""
    before = _all_but_last(asked, plan, is_deep)
    rate = asked.sample_rate_hz / prod(plan.factors[:-1])
    if len(plan.factors) - 1 in plan.allpass:
        own = tuple(piece for piece in blocked(asked) if piece[0] < rate / 2)
        return _half_band(
            own, rate, max(band.stop_hz for band in asked.passbands), spares[1] + sum(shares_of(asked, plan))
        )
    wanted = _last(asked, blocked(asked), rate, list(before), spares)
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
    asked: Requirement, pieces: tuple[Piece, ...], rate: float, before: list[RateStage], spares: tuple[float, float]
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
        lower, upper = band.lower.at(hz, "most") - gain + spares[0], band.upper.at(hz, "least") - gain - spares[0]
        if np.any(lower >= upper):
            raise DesignError("the stages before use up the passband's room", "--plan", "take fewer stages")
        bands.append(Band(band.name, band.start_hz, band.stop_hz, _points(hz, upper), _points(hz, lower)))
    low = [(start, min(stop, rate / 2), level) for start, stop, level in pieces if start < rate / 2]
    bands += [_stop(start, stop, level - spares[1]) for start, stop, level in _apart(low)]
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
    from combe.designing.methods import design

    best = _long(asked) if estimated_taps(asked)[0] > LONG else design(asked, "equiripple")
    if plan.is_product:
        return best
    most = WORTH_IT * _stage_operations(best, plan, factor)
    others: list[Callable[[], Design]] = [lambda: design(asked, "half-band")]
    if 2 < factor <= MOST_BANDS and plan.other == 1 and estimated_taps(asked)[0] < LONGEST_BANDS:
        others.append(lambda: _with_zeros(asked, plan, factor, len(best.filter.taps), most))  # type: ignore[union-attr]
    for make in others:
        try:
            other = make()
        except CombeError:
            continue
        if _stage_operations(other, plan, factor) < most and meets(gain_lines(other.filter, asked)):
            best = other
            most = WORTH_IT * _stage_operations(best, plan, factor)
    return best


def _with_zeros(asked: Requirement, plan: Plan, factor: int, least: int, most: float) -> Design:
    """The shortest with zeros at every multiple of the factor from the middle, of those lengths that cost less than ``most``: none is shorter
    than the shortest of all, ``least``, and where the longest doesn't do, no other does."""
    from combe.designing.fir.nyquist import MAXIMUM_TAPS
    from combe.designing.methods import design_task

    def made(half: int) -> Design:
        choice = DesignChoice("nyquist", 2 * half, settings=(("bands", float(factor)),))
        return design_task(Task(asked, asked.sample_rate_hz, choice))

    def pattern(half: int) -> Design:
        side = [0.0 if k % factor == 0 else float(k) for k in range(half, 0, -1)]
        return Design("nyquist", Fir((*side, 0.5, *side[::-1])), asked.sample_rate_hz, asked)

    halves = [half for half in range(least // 2, (MAXIMUM_TAPS + 1) // 2) if half % factor]
    halves = [half for half in halves if _stage_operations(pattern(half), plan, factor) < most]
    if not halves:
        raise DesignError("its zeros don't pay", "bands")
    low, high, best = 0, len(halves) - 1, made(halves[-1])
    if not meets(gain_lines(best.filter, asked)):
        raise DesignError("its fixed zeros leave too little freedom for these limits", "bands")
    while low < high:
        middle = (low + high) // 2
        found = made(halves[middle])
        if meets(gain_lines(found.filter, asked)):
            best, high = found, middle
        else:
            low = middle + 1
    return best


def _long(asked: Requirement) -> Design:
    """A stage of very many taps: a model stretched, and few taps that fill its gaps (Neuvo, Dong and Mitra 1984), multiplied out. It is
    hardly longer than the shortest there is, and found in a fifth of the time; where the band is too wide for that, taps as they are."""
    guess = estimated_taps(asked)[0]
    if guess > LONGEST:
        raise too_long(asked, guess, LONGEST)
    stretch = _stretch(asked, guess)
    if stretch > 1:
        try:
            found = prototype_of(_chain(asked, Plan((stretch, 1), is_product=True)))
            words = f"{len(found.taps)} taps drawn from a model stretched {stretch} times, which may be longer by a few in a hundred than the shortest"
            return Design("equiripple", found, asked.sample_rate_hz, asked, (words,))
        except CombeError:
            pass
    return nearly_shortest(asked)


def _stretch(asked: Requirement, guess: float) -> int:
    """How often a model is stretched: so that it is short, and what fills its gaps is too; 1 where there is no room between its images."""
    pieces, pass_hz = blocked(asked), max(band.stop_hz for band in asked.passbands)
    above = [piece[0] for piece in pieces if piece[0] >= pass_hz]
    if not above:
        return 1
    rate, level, found = asked.sample_rate_hz, min(piece[2] for piece in pieces), 1
    for stretch in range(2, max(round(guess / MODEL), 2) + 1):
        room = 1 / stretch - (min(above) + pass_hz) / rate
        if room <= 0:
            break
        filling = kaiser_equiripple_taps(min_ripple(asked) / 10, 10 ** (level / 20), room)
        if filling <= SPENT * guess:
            found = stretch
    return found


def _stage_operations(found: Design, plan: Plan, factor: int) -> float:
    """Of a stage by itself, in multiplies and adds."""
    assert isinstance(found.filter, Fir)
    up, down = (factor, plan.other) if plan.is_upward else (plan.other, factor)
    multiplies, adds, _ = RateStage("taps", up, down, found.filter.taps).cost()
    return multiplies + adds
