"""IIR by direct optimization: any mask, any number of bands, stable by construction.

The unknowns are the gain and the coefficients of second-order numerators and denominators; the largest excess over the
limits, in dB and scaled by their room, is brought down by sequential linear programs, with each denominator held inside
a stability triangle. It starts from the reduction of a minimum-phase FIR that keeps the mask, or from an elliptic
filter where the mask is one of the four basic shapes. Steiglitz (1970) and Deczky (1972) for the idea.
"""

from __future__ import annotations

import time

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing import equiripple
from combe.designing.caps import transition_pieces
from combe.designing.classic.families import FAMILIES
from combe.designing.classic.method import make as make_classic
from combe.designing.classic.plan import shape_of
from combe.designing.designed import Design
from combe.designing.equiripple.problem import pieces_of
from combe.designing.fir.minimum_phase import spectral_factor, squared_requirement
from combe.designing.recursive.balanced import Balanced, balanced
from combe.designing.recursive.product import Products
from combe.designing.recursive.slp import joined, least_maximum, triangle
from combe.designing.settings import RADIUS
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError, DesignError, Stopped
from combe.filters import Cascade, Fir, Rational, rational_of, sections_of
from combe.ledger import cost_of, gain_lines, worst_line
from combe.requirement import Requirement
from combe.requirement.quantities import level_text
from combe.values import replace

Array = NDArray[np.float64]
MOST_ORDER = 40
STOP_SCALE_DB = 10.0
POINTS_PER_ORDER = 14


def make(task: Task) -> Design:
    """The optimized filter of least (even) or given order."""
    started = time.perf_counter()
    notes: tuple[str, ...]
    requirement = task.asked
    search = _Search(task)
    if task.choice.order is not None:
        if not 2 <= task.choice.order <= MOST_ORDER or task.choice.order % 2:
            raise DesignError(f"order {task.choice.order} is out of reach", "order",
                              f"use an even order from 2 to {MOST_ORDER}")  # fmt: skip
        found, _order, notes = search.filter(task.choice.order)[0], task.choice.order, ()
    else:
        found, _order, notes = search.least()
    seconds = time.perf_counter() - started
    return Design("optimized-iir", found, task.sample_rate_hz, requirement, notes, seconds)


class _Search:
    """Optimized filters of several orders for one requirement."""

    def __init__(self, task: Task) -> None:
        self.task, self.requirement = task, task.asked
        radius = RADIUS.checked(task.choice.setting(RADIUS.name))
        assert radius is not None
        self.radius = radius
        self.source: Balanced | None = None
        self.products: Products | None = None
        self.known: dict[int, tuple[Cascade, float]] = {}

    def least(self) -> tuple[Cascade, int, tuple[str, ...]]:
        """The least even order that keeps every limit: upward from a guess, then downward while it holds."""
        product = self._product()
        if product is not None:
            return self._below(product)
        order = self._guess()
        while not self._keeps(order):
            order += 2 if order < 12 else 4
            if order > min(MOST_ORDER, self._guess() + 12):
                found, _ = self.filter(order - 2 if order > 4 else order)
                worst = worst_line(gain_lines(found, self.requirement))
                assert worst is not None
                what = f"at order {found.order} the best found misses by {level_text(max(-worst.margin, 0), 2)}"
                raise DesignError(what, "bands", "relax a limit, or take a FIR method")
        while order > 2 and self._keeps(order - 2):
            order -= 2
        found, _ = self.filter(order)
        notes: tuple[str, ...] = ()
        if order > 2:
            lower = worst_line(gain_lines(self.filter(order - 2)[0], self.requirement))
            if lower is not None and lower.margin < 0:
                notes = (f"the best of order {order - 2} found misses by {level_text(-lower.margin, 2)}",)
        return found, order, notes

    def _product(self) -> Cascade | None:
        """The best product of elliptics where several of them are needed and keep the limits."""
        if shape_of(self.requirement):
            return None
        try:
            self.products = Products(self.requirement, self.task.is_stopped)
            return self.products.best()[0]
        except DesignError:
            return None

    def _below(self, product: Cascade) -> tuple[Cascade, int, tuple[str, ...]]:
        """Orders below a product that keeps the limits, as long as they keep them too: never more than it takes."""
        best, order = product, product.order
        lower = order - 2 + order % 2
        while 2 <= lower <= MOST_ORDER and not self.task.is_stopped():
            found, _ = self.filter(lower)
            if any(line.margin < 0 for line in gain_lines(found, self.requirement)):
                break
            if cost_of(found).multiplies <= cost_of(best).multiplies:
                best, order = found, found.order
            lower -= 2
        notes = (
            () if best is not product else ("a product of elliptic filters, which no lower order found improves on",)
        )
        return best, order, notes

    def _guess(self) -> int:
        """The elliptic order for the basic shapes, else what a reduction suggests."""
        if shape_of(self.requirement):
            try:
                near = make_classic(FAMILIES[3], replace(self.task, choice=DesignChoice("elliptic")))
                return max(2, min(near.order - near.order % 2, MOST_ORDER))
            except CombeError:
                pass
        sigma = self._reduction().singular
        if len(sigma) == 0:
            return 2
        return int(np.clip(2 * (np.count_nonzero(sigma > 0.08 * sigma[0]) // 2), 2, MOST_ORDER - 8))

    def _keeps(self, order: int) -> bool:
        if self.task.is_stopped():
            raise Stopped
        found, _ = self.filter(order)
        return all(line.margin >= 0 for line in gain_lines(found, self.requirement))

    def filter(self, order: int) -> tuple[Cascade, float]:
        """The best filter found of an order."""
        if order not in self.known:
            best: tuple[Cascade, float] | None = None
            for start in self._starts(order):
                found = _optimized(self.requirement, start, order, self.radius, self.task)
                if best is None or found[1] < best[1]:
                    best = found
                if best[1] < 0:
                    break
            if best is None:
                raise DesignError("no start for the optimization could be found", "bands", "take a FIR method")
            self.known[order] = best
        return self.known[order]

    def _starts(self, order: int) -> list[Rational]:
        found = []
        if shape_of(self.requirement):
            try:
                choice = DesignChoice("elliptic", order=order)
                classic = make_classic(FAMILIES[3], replace(self.task, choice=choice)).filter
                assert isinstance(classic, Cascade)
                found.append(rational_of(classic))
            except CombeError:
                pass
        elif self.products is not None:
            product = self.products.near(order)
            if product is not None and product.order <= order:
                found.append(rational_of(product))
        try:
            reduction = self._reduction()
            found.append(reduction.reduced(min(order, len(reduction.singular))))
        except (CombeError, np.linalg.LinAlgError):
            if not found:
                raise
        return found

    def _reduction(self) -> Balanced:
        """The balanced realization of a minimum-phase FIR that keeps the mask, or of a linear-phase one."""
        if self.source is None:
            asked = _shallow(self.requirement)
            try:
                squared = equiripple.roughly_shortest(squared_requirement(asked), self.task.is_stopped)
                if squared.order % 2:
                    squared = equiripple.design(squared_requirement(asked), squared.order + 1, 1, self.task.is_stopped)
                assert isinstance(squared.filter, Fir)
                self.source = balanced(spectral_factor(squared.filter).array)
            except DesignError:
                linear = equiripple.roughly_shortest(asked, self.task.is_stopped).filter
                assert isinstance(linear, Fir)
                self.source = balanced(linear.array)
        return self.source


def _shallow(requirement: Requirement) -> Requirement:
    """The requirement with no stopband deeper than a start needs, and any phase."""
    from combe.requirement import Band, Limit

    bands = []
    for band in requirement.bands:
        upper = band.upper
        if not band.is_passband:
            upper = Limit(tuple((hz, max(db, -70.0)) for hz, db in upper.points), upper.flat)
        bands.append(Band(band.name, band.start_hz, band.stop_hz, upper, band.lower))
    return replace(requirement, bands=tuple(bands), phase="any")


class _Mask(Struct, frozen=True, eq=False):
    """Limits on a grid: e^(−jω), limits in dB (−inf or inf where there is none), and the scale of an excess."""

    z: NDArray[np.complex128]
    upper: Array
    lower: Array
    scale: Array


def _mask(requirement: Requirement, order: int, extra: Array) -> _Mask:
    omega, upper, lower, scale = [], [], [], []
    for piece in (*pieces_of(requirement), *transition_pieces(requirement)):
        count = max(24, int(POINTS_PER_ORDER * (order + 2) * np.sqrt((piece.stop - piece.start) / np.pi)))
        inner = extra[(extra > piece.start) & (extra < piece.stop)]
        spread = (1 - np.cos(np.linspace(0, np.pi, count))) / 2
        here = np.concatenate([piece.start + (piece.stop - piece.start) * spread, inner])
        share = (here - piece.start) / (piece.stop - piece.start)
        high = piece.upper_db[0] + share * (piece.upper_db[1] - piece.upper_db[0])
        if piece.lower_db is None:
            low, room = np.full(len(here), -np.inf), np.full(len(here), STOP_SCALE_DB)
        else:
            low = piece.lower_db[0] + share * (piece.lower_db[1] - piece.lower_db[0])
            room = (high - low) / 2
        omega.append(here)
        upper.append(high)
        lower.append(low)
        scale.append(room)
    return _Mask(np.exp(-1j * np.concatenate(omega)), *(np.concatenate(part) for part in (upper, lower, scale)))


def _optimized(
    requirement: Requirement, start: Rational, order: int, radius: float, task: Task
) -> tuple[Cascade, float]:
    """The filter after optimization, and its largest excess (negative where every limit is kept)."""
    x = _unknowns(start, order, radius)
    pairs = order // 2
    linear = joined(triangle(pairs, 1.0, len(x), 1), triangle(pairs, radius, len(x), 1 + 2 * pairs))
    box = np.concatenate([[1.0], np.full(4 * pairs, 0.05)])
    extra = np.angle(np.concatenate([start.poles, start.zeros]))
    best, excess = x, np.inf
    for _ in range(2):
        mask = _mask(requirement, order, np.concatenate([extra + d for d in (-0.01, -0.001, 0.0, 0.001, 0.01)]))
        target = -0.02
        best, excess = least_maximum(
            lambda y, mask=mask: _excess(y, mask), lambda y, rows, mask=mask: _slopes(y, mask, rows),  # type: ignore[misc]
            best, linear, box, 50, target, task.is_stopped, task.choice.order is None,
        )  # fmt: skip
        found = sections_of(_rational(best, pairs))
        lines = gain_lines(found, requirement)
        worst = min(line.margin for line in lines)
        if worst >= 0 or excess > 0.02:
            break
        extra = np.array([2 * np.pi * (line.at_hz or 0.0) / requirement.sample_rate_hz for line in lines])
        box = box * 0.1
    return found, (-1e-9 if worst >= 0 else max(excess, 1e-9))


def _unknowns(start: Rational, order: int, radius: float) -> Array:
    """Gain in dB, then (b1, b2) and (a1, a2) of every section; roots brought inside the unit circle."""
    zeros = np.where(np.abs(start.zeros) > 1, 1 / np.conj(start.zeros), start.zeros)
    outside = start.zeros[np.abs(start.zeros) > 1]
    gain = abs(start.gain) * float(np.prod(np.abs(outside)))
    limit = radius * (1 - 1e-6)
    size = np.abs(start.poles)
    poles = np.where(size > limit, start.poles / np.maximum(size, 1e-300) * limit, start.poles)
    found = sections_of(Rational(1.0, 0, zeros, poles))
    rows = [list(section) for section in found.sections]
    while len(rows) < order // 2:
        rows.append([1.0, 0.0, 0.0, 0.0, 0.0])
    numerators = [value for b0, b1, b2, _, _ in rows[: order // 2] for value in (b1 / b0, b2 / b0)]
    denominators = [value for _, _, _, a1, a2 in rows[: order // 2] for value in (a1, a2)]
    return np.array([20 * np.log10(max(gain, 1e-300)), *numerators, *denominators])


def _rational(x: Array, pairs: int) -> Rational:
    sections = tuple(
        (1.0, float(x[1 + 2 * k]), float(x[2 + 2 * k]), float(x[1 + 2 * (pairs + k)]), float(x[2 + 2 * (pairs + k)]))
        for k in range(pairs)
    )
    return rational_of(Cascade(sections, 10 ** (float(x[0]) / 20)))


def _excess(x: Array, mask: _Mask) -> Array:
    """Excess over the upper limits, then over the lower ones, in units of their scale."""
    level = _level(x, mask.z)
    above = (level - mask.upper) / mask.scale
    kept = np.isfinite(mask.lower)
    below = (mask.lower[kept] - level[kept]) / mask.scale[kept]
    return np.concatenate([above, below])


def _level(x: Array, z: NDArray[np.complex128]) -> Array:
    pairs = (len(x) - 1) // 4
    top, bottom = (_polynomials(x[first : first + 2 * pairs], z) for first in (1, 1 + 2 * pairs))
    with np.errstate(divide="ignore"):
        return np.asarray(x[0] + 20 * np.sum(np.log10(np.maximum(np.abs(top), 1e-150)), axis=1)
                          - 20 * np.sum(np.log10(np.maximum(np.abs(bottom), 1e-150)), axis=1))  # fmt: skip


def _polynomials(c: Array, z: NDArray[np.complex128]) -> NDArray[np.complex128]:
    return np.asarray(1 + np.outer(z, c[::2]) + np.outer(z * z, c[1::2]))


def _slopes(x: Array, mask: _Mask, rows: NDArray[np.intp]) -> Array:
    """d(excess)/dx for the rows asked for."""
    pairs = (len(x) - 1) // 4
    kept = np.flatnonzero(np.isfinite(mask.lower))
    above = rows < len(mask.z)
    at = np.where(above, np.minimum(rows, len(mask.z) - 1), 0)
    at[~above] = kept[rows[~above] - len(mask.z)]
    z = mask.z[at]
    slopes = np.empty((len(rows), len(x)))
    slopes[:, 0] = 1.0
    per_neper = 20 / np.log(10)
    for first, sign in ((1, 1.0), (1 + 2 * pairs, -1.0)):
        below = _polynomials(x[first : first + 2 * pairs], z)
        inverse = 1 / np.where(below == 0, 1e-12, below)
        slopes[:, first : first + 2 * pairs : 2] = sign * per_neper * np.real(z[:, None] * inverse)
        slopes[:, first + 1 : first + 2 * pairs : 2] = sign * per_neper * np.real((z * z)[:, None] * inverse)
    slopes = np.clip(np.nan_to_num(slopes), -1e6, 1e6)
    return np.asarray(slopes * np.where(above, 1.0, -1.0)[:, None] / mask.scale[at][:, None])
