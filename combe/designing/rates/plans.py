"""Which factors in a row: every ordered factorization, priced before any is designed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cache, lru_cache
from math import ceil, inf, log10, prod

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.estimates import kaiser_equiripple_taps
from combe.designing.rates.half_bands import allpass_half_band
from combe.errors import DesignError
from combe.requirement import Requirement

MOST_STAGES, MOST_MIXED = 6, 4
"""Stages in a row; of a ratio of two factors."""
MOST_CIC_ORDER, MOST_POLYNOMIAL, HIGHEST_POWERS = 10, 130, 10
Piece = tuple[float, float, float]
"""A stretch that must be blocked: from, to, level in dB."""
POLYNOMIAL = "farrow"
"""How a plan names a stage whose taps follow polynomials, before its ratio."""


class Plan(Struct, frozen=True):
    """Factors from the highest rate down, each with whether it is done by sums in a row (0 or their order, found later).

    A ratio of two factors goes one way in stages; the stage at the highest rate takes the ``other`` factor with it.
    """

    factors: tuple[int, ...]
    is_cic: bool = False
    """Whether the first, at the highest rate, is."""
    is_upward: bool = False
    other: int = 1
    allpass: tuple[int, ...] = ()
    """The places of factors of two that are half-bands of two allpasses."""
    is_polynomial: bool = False
    """Whether the taps of the first follow polynomials of the place between two samples."""
    is_product: bool = False
    """Whether the stages are multiplied out into one, in which no zero of theirs is left."""

    @property
    def is_single(self) -> bool:
        """Whether it is one stage of taps."""
        return len(self.factors) == 1 and not (self.is_cic or self.allpass or self.is_polynomial)

    @property
    def phases(self) -> int:
        """How often the stage at the highest rate goes up: its places between two samples."""
        return self.factors[0] if self.is_upward else self.other

    @property
    def words(self) -> str:
        """As it is asked for, in signal order."""
        if self.is_single:
            return "single"
        parts = [f"{self._kind(k)}{factor}" for k, factor in enumerate(self.factors)]
        if self.other > 1:
            ratio = f"{self.factors[0]}/{self.other}" if self.is_upward else f"{self.other}/{self.factors[0]}"
            parts[0] = self._kind(0) + ratio
        return "x".join(parts[::-1] if self.is_upward else parts)

    def _kind(self, place: int) -> str:
        if place == 0 and self.is_polynomial:
            return POLYNOMIAL
        return "cic" if self.is_cic and place == 0 else "iir" if place in self.allpass else ""


def single(up: int, down: int) -> Plan:
    """One stage for all of it."""
    return Plan((up,), False, True, down) if up > 1 else Plan((down,))


def plan_from(text: str, up: int, down: int) -> Plan:
    """A plan as it is typed: ``single``, ``2x2x2``, ``cic8x2``, ``iir2x2``, ``2x80/147``, factors in signal order.

    Raises
    ------
    DesignError
        If it can't be read, or its factors don't make the ratio.
    """
    if text == "single":
        return single(up, down)
    if POLYNOMIAL in text:
        return _polynomial_from(text, up, down)
    if up > 1 and down > 1:
        return _mixed_from(text, up, down)
    factor, is_upward = max(up, down), up > 1
    words = text.split("x")
    numbers = []
    for word in words:
        digits = word[3:] if word[:3] in ("cic", "iir") else word
        if not (digits.isascii() and digits.isdigit() and 1 <= int(digits) <= factor):
            raise DesignError(f'"{text}" is not a plan', "--plan", "single, or factors such as 2x2x2, cic8x2 or iir2x2")
        if word.startswith("iir") and int(digits) != 2:
            raise DesignError(f"{word} can't be built", "--plan", "half-bands of two allpasses go by two: iir2")
        numbers.append(int(digits))
    if prod(numbers) != factor:
        raise DesignError(f"{text} makes {prod(numbers)}, not {factor}", "--plan", f"factors whose product is {factor}")
    if is_upward:
        words, numbers = words[::-1], numbers[::-1]
    cics = [index for index, word in enumerate(words) if word.startswith("cic")]
    if cics not in ([], [0]) or (cics and len(words) == 1) or (not cics and 1 in numbers):
        where = "last, behind taps" if is_upward else "first, in front of taps"
        raise DesignError(f"{text} can't be built", "--plan", f"a cic stands {where} that make its droop good")
    halves = tuple(index for index, word in enumerate(words) if word.startswith("iir"))
    return Plan(tuple(numbers), bool(cics), is_upward, 1, halves)


def _polynomial_from(text: str, up: int, down: int) -> Plan:
    """``farrow160/147``, ``2xfarrow80/147``, ``farrow441/625x4``: the same as without the word, which stands before the ratio."""
    known = list(polynomial_plans(up, down))
    if not known:
        what = "a rate that only goes down has one place between two samples, for which no polynomial is needed"
        raise DesignError(what, "--plan", "take taps, or sums in a row such as cic8x2")
    found = next((plan for plan in known if plan.words == text), None)
    if found is None:
        examples = " or ".join(plan.words for plan in sorted(known, key=lambda plan: len(plan.factors))[:2])
        raise DesignError(f'"{text}" is not a plan of this ratio', "--plan", f"{examples}; factors of {up}/{down}")
    return found


def polynomial_plans(up: int, down: int) -> Iterator[Plan]:
    """All plans whose stage at the highest rate has taps that follow polynomials: of a rate that goes up, or up and down."""
    if up == 1:
        return
    for plan in every_plan(up, down):
        if not plan.is_cic and (plan.is_upward or plan.other > 1):
            yield Plan(plan.factors, False, plan.is_upward, plan.other, (), True)


def _mixed_from(text: str, up: int, down: int) -> Plan:
    """``2x80/147``: up in stages, the last of which goes down as well; ``147/80x2``: down in stages, the first going up."""
    words = text.split("x")
    digits = [word.split("/") for word in words]
    is_number = all(part.isascii() and part.isdigit() and 0 < int(part) < 10**6 for each in digits for part in each)
    mixed = [k for k, each in enumerate(digits) if len(each) == 2]
    staged = [plan for plan in every_plan(up, down) if len(plan.factors) > 1]
    example = min(staged, key=lambda plan: len(plan.factors)).words if staged else ""
    how = f"single, or stages such as {example}" if example else "single is the only one"
    if not is_number or mixed not in ([0], [len(words) - 1]) or any(len(each) > 2 for each in digits):
        raise DesignError(f'"{text}" is not a plan', "--plan", how)
    numbers = [[int(part) for part in each] for each in digits]
    is_upward = mixed == [len(words) - 1] and (len(words) > 1 or up >= down)
    ratio = numbers.pop() if is_upward else numbers.pop(0)
    rest = [each[0] for each in numbers]
    factors = (ratio[0], *rest[::-1]) if is_upward else (ratio[1], *rest)
    other = ratio[1] if is_upward else ratio[0]
    if (prod(factors), other) != ((up, down) if is_upward else (down, up)) or 1 in factors:
        raise DesignError(f"{text} doesn't make {up}/{down}", "--plan", how)
    return Plan(factors, False, is_upward, other)


@cache
def factorizations(number: int, most: int = MOST_STAGES) -> tuple[tuple[int, ...], ...]:
    """Every way to write a number as a product of factors of 2 or more, order counting, of at most so many."""
    if number == 1:
        return ((),)
    if most == 0:
        return ()
    found = []
    for factor in range(2, number + 1):
        if number % factor == 0:
            found += [(factor, *rest) for rest in factorizations(number // factor, most - 1)]
    return tuple(found)


def every_plan(up: int, down: int) -> Iterator[Plan]:
    """All factorizations; and those of what is left behind a first stage of sums, where the rate goes one way."""
    if up > 1 and down > 1:
        for factor, other, is_upward in ((up, down, True), (down, up, False)):
            for factors in factorizations(factor, MOST_MIXED):
                if is_upward or len(factors) > 1:
                    yield Plan(factors, False, is_upward, other)
        return
    factor, is_upward = max(up, down), up > 1
    for factors in factorizations(factor):
        yield Plan(factors, False, is_upward)
    for first in range(2, factor + 1):
        if factor % first == 0 and first < factor:
            for rest in factorizations(factor // first, MOST_STAGES - 1):
                yield Plan((first, *rest), True, is_upward)
    if factor > 1:
        yield Plan((factor, 1), True, is_upward)


def allpass_plans(up: int, down: int) -> Iterator[Plan]:
    """All plans of a rate that goes one way with every factor of two a half-band of two allpasses, and the same with taps at the
    lowest rate, as behind sums in a row."""
    if up > 1 and down > 1:
        return
    for plan in every_plan(up, down):
        last = len(plan.factors) - 1
        twos = tuple(k for k, factor in enumerate(plan.factors) if factor == 2 and (k > 0 or not plan.is_cic))
        inner = tuple(k for k in twos if k < last)
        for places in {inner} if plan.is_cic else {twos, inner}:
            if places:
                yield Plan(plan.factors, plan.is_cic, up > 1, 1, places)


def blocked(requirement: Requirement) -> tuple[Piece, ...]:
    """The stretches a prototype blocks, each at its lowest level."""
    found = []
    for band in requirement.stopbands:
        for start, stop, first, last in band.upper.pieces():
            found.append((start, stop, min(first, last)))
    return tuple(found)


@lru_cache(maxsize=512)
def duties(pieces: tuple[Piece, ...], rate: float, factor: int) -> tuple[Piece, ...]:
    """What a stage that works at ``rate`` and divides it by ``factor`` must block itself: all above half of its output's rate
    that later stages don't meet, folded, in a stretch they block as deeply.
    """
    spacing = rate / factor
    low, high = spacing / 2, rate / 2
    edges = np.array(sorted({edge for start, stop, _ in pieces for edge in (start, stop)}))
    multiples = spacing * np.arange(1, factor // 2 + 2)
    folded = edges[edges <= low]
    cuts = np.concatenate([
        edges, multiples, multiples - low, (multiples[:, None] - folded).ravel(), (multiples[:, None] + folded).ravel(),
        [low, high],
    ])  # fmt: skip
    cuts = np.unique(cuts[(cuts >= low) & (cuts <= high)])
    starts, stops = cuts[:-1], cuts[1:]
    wide = stops - starts > 1e-12 * rate
    starts, stops = starts[wide], stops[wide]
    middles = (starts + stops) / 2
    asked = _levels(pieces, middles)
    later = _levels(pieces, np.abs(middles - spacing * np.round(middles / spacing)))
    found: list[Piece] = []
    for k in np.flatnonzero((asked < 0) & (later > asked)).tolist():
        start, stop, level = float(starts[k]), float(stops[k]), float(asked[k])
        if found and found[-1][1] >= start - 1e-12 * rate and found[-1][2] == level:
            found[-1] = (found[-1][0], stop, level)
        else:
            found.append((start, stop, level))
    return tuple(found)


def _levels(pieces: tuple[Piece, ...], hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """What is asked at frequencies: the lowest level there, infinite where nothing is."""
    found = np.full(len(hz), np.inf)
    for start, stop, level in pieces:
        inside = (hz >= start) & (hz <= stop)
        found[inside] = np.minimum(found[inside], level)
    return found


def priced(plan: Plan, requirement: Requirement) -> float:
    """Operations per sample at the highest rate, estimated: multiplies and adds of folded taps, adds of sums."""
    return sum(stage_prices(plan, requirement))


def stage_prices(plan: Plan, requirement: Requirement, ripples: Sequence[float] = ()) -> list[float]:
    """The same stage by stage, each with its ripple where that is known; infinite where it can't be had."""
    pieces = blocked(requirement)
    pass_hz = max(band.stop_hz for band in requirement.passbands)
    each_ripple = ripples or [min_ripple(requirement) / len(plan.factors)] * len(plan.factors)
    found, rate, share = [], requirement.sample_rate_hz, 1.0
    for index, factor in enumerate(plan.factors):
        is_last = index == len(plan.factors) - 1
        own = tuple(p for p in pieces if p[0] < rate / 2) if is_last else duties(pieces, rate, factor)
        price, ripple = 0.0, max(each_ripple[index], 1e-9)
        if not own and is_last:
            price = inf
        elif own and index in plan.allpass:
            price = share * _allpass_operations(own, rate, pass_hz, plan.is_upward) / 2
        elif own and index == 0 and plan.is_polynomial:
            price = _polynomial_operations(own, rate, pass_hz, ripple, plan) / (
                plan.other if plan.is_upward else factor
            )
        elif index == 0 and plan.is_cic:
            order = cic_order(own, rate, factor, pass_hz)
            price = order * (1 + 1 / factor) if order else inf
        elif own:
            edge = min((abs(p[0] - pass_hz) for p in own if p[0] > pass_hz), default=rate / 4)
            level = min(p[2] for p in own)
            taps = kaiser_equiripple_taps(ripple, 10 ** (level / 20), max(edge, 1e-9 * rate) / rate)
            taps = min(taps, _half_band_taps(own, rate, pass_hz, min(ripple, 10 ** (level / 20))))
            if not is_last:
                taps = min(taps, _taps_by_zeros(own, rate, factor))
            # Symmetric taps share their multiplies where a stage only goes down.
            each = 1.5 if not plan.is_upward and (index or plan.other == 1) else 2.0
            price = each * taps * share / factor / (1 if index else plan.other)
        found.append(price)
        rate /= factor
        share /= factor
    return found


def _polynomial_operations(own: tuple[Piece, ...], rate: float, pass_hz: float, ripple: float, plan: Plan) -> float:
    """For each output: samples by Kaiser's estimate; about a power for every 18 dB, or fewer where the passband is so narrow that each
    power alone takes more off its copies."""
    edge = min((abs(p[0] - pass_hz) for p in own if p[0] > pass_hz), default=rate / 4)
    level = min(p[2] for p in own)
    samples = kaiser_equiripple_taps(ripple, 10 ** (level / 20), max(edge, 1e-9 * rate) / rate) / plan.phases
    # The first copy, relative to what it is a copy of: what a straight line leaves of it is the square of this.
    copy = pass_hz / max(rate / plan.phases - pass_hz, pass_hz)
    powers = max(min(round(-level / 18) + 1, ceil(level / (20 * log10(copy)) - 0.2) if copy < 1 else HIGHEST_POWERS), 2)
    samples = max(samples, powers + 1.0)
    # Longer ones can't be searched.
    return inf if powers * samples / 2 > MOST_POLYNOMIAL else powers * samples + samples + 2 * powers


@lru_cache(maxsize=512)
def _taps_by_zeros(own: tuple[Piece, ...], rate: float, factor: int) -> float:
    """Taps of a stage that blocks narrow stretches around the multiples of its output's rate: so many zeros in each, spread as
    Chebyshev's polynomials are, which gains 6 dB for each but the first."""
    per_zero = _sum_gains_db(own, rate, factor)
    need = max(((level - 6) / (gain - 6) for (_, _, level), gain in zip(own, per_zero)), default=0.0)
    return inf if any(gain > -0.5 for gain in per_zero) else ceil(max(need, 1.0)) * (factor - 1) + 1


def _half_band_taps(own: tuple[Piece, ...], rate: float, pass_hz: float, ripple: float) -> float:
    """Taps that aren't zero of a half-band filter that does the same: its transition lies around a quarter of the rate, and its
    ripples are the same in both bands; infinite where there is none."""
    start = min((p[0] for p in own if p[0] > pass_hz), default=rate / 2)
    edge = max(pass_hz, rate / 2 - start)
    if edge >= rate / 4:
        return inf
    return kaiser_equiripple_taps(ripple, ripple, (rate / 2 - 2 * edge) / rate) / 2 + 1


def half_band_duty(own: Sequence[Piece], rate: float, pass_hz: float) -> tuple[float, float]:
    """The edge, in cycles per sample, up to which a half-band must pass so that it keeps a passband and blocks all these; and the level."""
    start = min((piece[0] for piece in own if piece[0] > pass_hz), default=rate / 2)
    return max(pass_hz, rate / 2 - start) / rate, min(piece[2] for piece in own)


def _allpass_operations(own: tuple[Piece, ...], rate: float, pass_hz: float, is_upward: bool) -> float:
    """Of a half-band of two allpasses for each sample at the lower rate; infinite where there is none."""
    try:
        even, odd = allpass_half_band(*half_band_duty(own, rate, pass_hz))
    except DesignError:
        return inf
    return 3.0 * (len(even) + len(odd)) + (not is_upward)


def min_ripple(requirement: Requirement) -> float:
    """The smallest half width of a passband's limits, linear."""
    room = min(band.upper.first_db - band.lower.first_db for band in requirement.passbands if band.lower is not None)
    return max(float(10 ** (max(room, 1e-6) / 40) - 1), 1e-9)


@lru_cache(maxsize=512)
def _sum_gains_db(pieces: tuple[Piece, ...], rate: float, factor: int) -> list[float]:
    """Of a mean of ``factor`` samples: the worst gain in each stretch, in dB."""
    if not pieces:
        return []
    spacing = rate / factor
    starts, stops = np.array([piece[0] for piece in pieces]), np.array([piece[1] for piece in pieces])
    worst = np.maximum(_mean_gain_db(starts, rate, factor), _mean_gain_db(stops, rate, factor))
    # The worst of a stretch: its ends, or the top of a lobe inside it.
    middles = (np.arange(1, factor // 2 + 1) + 0.5) * spacing
    first, last = np.searchsorted(middles, starts, "right"), np.searchsorted(middles, stops, "left")
    for place in np.flatnonzero(last > first).tolist():
        offsets = np.array([0.0, -0.1, -0.05, 0.05, 0.1])
        spots = (middles[first[place] : last[place], None] + offsets * spacing).ravel()
        inside = spots[(spots > starts[place]) & (spots < stops[place])]
        worst[place] = max(worst[place], float(np.max(_mean_gain_db(inside, rate, factor))))
    return [float(value) for value in worst]


def _mean_gain_db(hz: NDArray[np.float64], rate: float, factor: int) -> NDArray[np.float64]:
    x = np.pi * hz / rate
    below = np.where(np.abs(np.sin(x)) > 1e-15, factor * np.sin(x), 1.0)
    value = np.where(np.abs(np.sin(x)) > 1e-15, np.abs(np.sin(factor * x) / below), 1.0)
    return np.asarray(20 * np.log10(np.maximum(value, 1e-20)))


@lru_cache(maxsize=256)
def cic_order(pieces: tuple[Piece, ...], rate: float, factor: int, pass_hz: float) -> int:
    """The least order of sums over ``factor`` samples that block all these; 0 where none does, or the droop is too deep."""
    order = 1
    for (_, _, level), worst in zip(pieces, _sum_gains_db(pieces, rate, factor)):
        if worst > -0.5:
            return 0
        order = max(order, int(-(level // worst) if level % worst == 0 else level // worst + 1))
    return (
        order if order <= MOST_CIC_ORDER and order * float(_mean_gain_db(np.array(pass_hz), rate, factor)) > -20 else 0
    )
