"""Elliptic filters in a row, one for each run of stopbands: what keeps a brief of many bands at once in closed form.

A highpass blocks what lies below the first passband, a lowpass what lies above the last (or a bandpass both), a bandstop
each run between two passbands. The ripple they may have together is shared out by trying all shares in eighths.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from itertools import groupby

from msgspec import Struct

from combe.designing.classic.families import FAMILIES
from combe.designing.classic.method import first_that_keeps, verified
from combe.designing.classic.plan import plan_of, shape_of
from combe.designing.classic.search import best_fit, filter_of, keeps
from combe.designing.designed import Design
from combe.designing.task import Stop, Task
from combe.errors import DesignError, Stopped
from combe.filters import Cascade
from combe.ledger import gain_lines
from combe.requirement import Band, Limit, Requirement
from combe.values import replace

ELLIPTIC = next(family for family in FAMILIES if family.name == "elliptic")
EIGHTHS, MOST_FACTORS, TRIED = 8, 6, 12


class Factor(Struct, frozen=True):
    """One filter of the row: what it keeps, and what it blocks; ``is_first`` where it also sets the middle of the gain."""

    shape: str
    keeps: tuple[tuple[float, float], ...]
    blocks: tuple[Band, ...]
    is_first: bool


class Row(Struct, frozen=True):
    """Factors with the ripple each may have (in eighths, or finer) and the order of its prototype."""

    factors: tuple[Factor, ...]
    shares: tuple[float, ...]
    orders: tuple[int, ...]

    @property
    def order(self) -> int:
        """The order of the whole."""
        return sum(_doubled(f.shape) * order for f, order in zip(self.factors, self.orders))

    @property
    def words(self) -> str:
        """What stands in the row."""
        parts = [f"a {f.shape} of order {_doubled(f.shape) * order}" for f, order in zip(self.factors, self.orders)]
        return " times ".join(parts)


def make(task: Task) -> Design:
    """The product of least order that keeps every limit.

    Raises
    ------
    DesignError
        If one elliptic filter does it by itself, the passbands aren't kept at one gain, or no product holds.
    """
    started = time.perf_counter()
    if shape_of(task.asked):
        raise DesignError("one elliptic filter does it by itself", "bands", "take elliptic")
    found, row = Products(task.asked, task.is_stopped).best()
    seconds = time.perf_counter() - started
    return Design("elliptic-product", found, task.sample_rate_hz, task.requirement, (row.words,), seconds)


class Products:
    """Products of elliptics for one requirement."""

    def __init__(self, requirement: Requirement, is_stopped: Stop = lambda: False) -> None:
        self.requirement, self.is_stopped = requirement, is_stopped
        high = min(db for band in requirement.passbands for _, db in band.upper.points)
        low = max((db for band in requirement.passbands if band.lower for _, db in band.lower.points), default=-300.0)
        if not requirement.stopbands:
            raise DesignError("no band is blocked, so there is nothing for a classic filter to do", "bands")
        if low >= high:
            what = f"no one gain lies inside all passband limits: they rise to {low:g} dB and fall to {high:g} dB"
            raise DesignError(what, "bands", "equiripple, least-squares and optimized-iir follow such limits")
        self.middle_db, self.room_db = (high + low) / 2, (high - low) / 2
        self._orders: dict[tuple[Factor, float], int | None] = {}

    def best(self) -> tuple[Cascade, Row]:
        """The product of least order, verified on the finished sections."""
        for row in sorted(self.rows(), key=lambda row: row.order)[:TRIED]:
            found = self.filter(row)
            if found is not None:
                return found, row
        raise DesignError("no product of elliptic filters keeps these limits", "bands", "widen a transition")

    def rows(self) -> Iterator[Row]:
        """Every way to share out the ripple, with the orders it takes."""
        for factors in groupings(self.requirement):
            if not 1 <= len(factors) <= MOST_FACTORS:
                raise DesignError(f"{len(factors)} filters in a row are too many", "bands", "take a FIR method")
            parts = max(EIGHTHS, 2 * len(factors)) if len(factors) > 1 else 1
            for split in _splits(parts, len(factors)):
                shares = tuple(part / parts for part in split)
                orders = [self.order(factor, share) for factor, share in zip(factors, shares)]
                if all(orders):
                    yield Row(factors, shares, tuple(order for order in orders if order))

    def order(self, factor: Factor, share: float) -> int | None:
        """The least prototype order of a factor with a share of the ripple; None where there is none."""
        key = factor, share
        if key not in self._orders:
            if self.is_stopped():
                raise Stopped
            try:
                plan = plan_of(self.part(factor, share))
                self._orders[key] = first_that_keeps(
                    ELLIPTIC, plan, lambda order, is_quick: keeps(ELLIPTIC, plan, order, "shared", is_quick)
                )
            except DesignError:
                self._orders[key] = None
        return self._orders[key]

    def part(self, factor: Factor, share: float) -> Requirement:
        """What one factor has to keep: its share of the ripple, the stopbands lowered by what the others may rise."""
        room = share * self.room_db
        middle = self.middle_db if factor.is_first else 0.0
        others = (self.room_db - room) + (0.0 if factor.is_first else self.middle_db)
        keeps = [
            Band("keep", start, stop, Limit.level(middle + room, start, stop), Limit.level(middle - room, start, stop))
            for start, stop in factor.keeps
        ]
        blocks = [replace(band, upper=band.upper.moved(-others)) for band in factor.blocks]
        bands = sorted((*keeps, *blocks), key=lambda band: band.start_hz)
        return Requirement("part", self.requirement.sample_rate_hz, tuple(bands))

    def filter(self, row: Row) -> Cascade | None:
        """The finished product; None if it doesn't keep its limits after all."""
        parts = []
        for factor, share, order in zip(row.factors, row.shares, row.orders):
            asked = self.part(factor, share)
            plan = plan_of(asked)
            part = verified(ELLIPTIC, plan, best_fit(ELLIPTIC, plan, order), asked)
            if part is None:
                return None
            parts.append(part)
        found = _joined(parts)
        return found if all(line.margin >= 0 for line in gain_lines(found, self.requirement)) else None

    def near(self, order: int) -> Cascade | None:
        """A product of at most an order, whether or not it keeps its limits: where an optimization may start."""
        rows = sorted(self.rows(), key=lambda row: row.order)
        if not rows:
            return None
        row = rows[0]
        orders = list(row.orders)
        while Row(row.factors, row.shares, tuple(orders)).order > order and max(orders) > 1:
            # The factor that uses its tolerances least at one order less gives way.
            costs = [
                (best_fit(ELLIPTIC, plan_of(self.part(factor, share)), orders[k] - 1).share, k)
                for k, (factor, share) in enumerate(zip(row.factors, row.shares)) if orders[k] > 1
            ]  # fmt: skip
            orders[min(costs)[1]] -= 1
        parts = []
        for factor, share, each in zip(row.factors, row.shares, orders):
            plan = plan_of(self.part(factor, share))
            parts.append(filter_of(ELLIPTIC, plan, best_fit(ELLIPTIC, plan, each)))
        return _joined(parts)


def groupings(requirement: Requirement) -> Iterator[tuple[Factor, ...]]:
    """Which filters stand in the row: the outer stopbands with a filter each, or with one bandpass for both."""
    runs = [(kind, list(run)) for kind, run in groupby(requirement.bands, lambda band: band.is_passband)]
    keeps = [(run[0].start_hz, run[-1].stop_hz) for kind, run in runs if kind]
    if not keeps:
        raise DesignError("no band is kept, so there is nothing to pass", "bands")
    inner = []
    for at, (kind, run) in enumerate(runs):
        if not kind and 0 < at < len(runs) - 1:
            left, right = runs[at - 1][1], runs[at + 1][1]
            around = ((left[0].start_hz, left[-1].stop_hz), (right[0].start_hz, right[-1].stop_hz))
            inner.append(Factor("bandstop", around, tuple(run), False))
    below = tuple(runs[0][1]) if not runs[0][0] else ()
    above = tuple(runs[-1][1]) if not runs[-1][0] else ()
    outer = []
    if below:
        outer.append(Factor("highpass", ((keeps[0][0], requirement.nyquist_hz),), below, False))
    if above:
        outer.append(Factor("lowpass", ((0.0, keeps[-1][1]),), above, False))
    yield _with_first((*outer, *inner))
    if below and above:
        one = Factor("bandpass", ((keeps[0][0], keeps[-1][1]),), (*below, *above), False)
        yield _with_first((one, *inner))


def _with_first(factors: tuple[Factor, ...]) -> tuple[Factor, ...]:
    return (replace(factors[0], is_first=True), *factors[1:]) if factors else factors


def _splits(parts: int, count: int) -> Iterator[tuple[int, ...]]:
    """Every way to share so many parts among so many, none left without."""
    if count == 1:
        yield (parts,)
        return
    for first in range(1, parts - count + 2):
        for rest in _splits(parts - first, count - 1):
            yield (first, *rest)


def _joined(parts: list[Cascade]) -> Cascade:
    gain = 1.0
    for part in parts:
        gain *= part.gain
    return Cascade(tuple(section for part in parts for section in part.sections), gain)


def _doubled(shape: str) -> int:
    return 2 if shape in ("bandpass", "bandstop") else 1
