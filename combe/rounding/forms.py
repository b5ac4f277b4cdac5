"""A second-order section in every form, coefficients already integers, binary points of the values still open."""

from __future__ import annotations

from collections.abc import Callable
from math import sqrt

import numpy as np
from msgspec import Struct

from combe.errors import FractionError, PoleError
from combe.realization.formats import Format
from combe.realization.network import NamedTerm
from combe.realization.term import INPUT, ONE, Term
from combe.rounding.finest import finest_integers

Row = tuple[float, float, float, float, float]


class Sum(Struct, frozen=True):
    """A node without formats. The last of a draft is what is handed on."""

    name: str
    terms: tuple[NamedTerm, ...]


Draft = list[Sum]


class Rounder(Struct, frozen=True):
    """Coefficients of one width; ``fraction`` fixes their binary point, else the finest that fits is taken."""

    bits: int
    fraction: int | None = None

    def integers(self, *values: float) -> tuple[Format, tuple[int, ...]]:
        """Nearest integers that share a binary point."""
        if self.fraction is None:
            return finest_integers(values, self.bits)
        entry = Format(True, self.bits, self.fraction)
        found = tuple(round(value * 2.0**self.fraction) for value in values)
        for value, raw in zip(values, found):
            if not entry.holds(raw):
                what = f"the coefficient {value:.6g} doesn't fit {entry}"
                raise FractionError(what, "coefficient_fraction", "take fewer fraction bits or more coefficient bits")
        return entry, found


def section_draft(form: str, row: Row, rounder: Rounder) -> Draft:
    """One section in a form.

    Raises
    ------
    FormatError
        ``PoleError`` if rounding moves a pole out of the unit circle.
    """
    return BUILDERS[form](row, rounder)


def _inside(a1: float, a2: float, row: Row, rounder: Rounder) -> None:
    if not (abs(a2) < 1 and abs(a1) < 1 + a2):
        radius = float(np.max(np.abs(np.roots([1.0, row[3], row[4]])), initial=0.0))
        what = f"at {rounder.bits} bits the pole at {radius:.6g} moves onto or outside the unit circle"
        raise PoleError(what, "coefficient_bits", "take more coefficient bits")


def _terms(signal: str, first: int, entry: Format, values: tuple[int, ...]) -> tuple[NamedTerm, ...]:
    return tuple(Term(signal, first + k, value, entry) for k, value in enumerate(values) if value)


def unit_term(signal: str, delay: int = 0) -> NamedTerm:
    """The signal itself, so many samples ago."""
    return Term(signal, delay, 1, ONE)


def _both(row: Row, rounder: Rounder) -> tuple[Format, tuple[int, ...], Format, tuple[int, ...]]:
    """Formats and integers of b and of −a. It is a that is rounded; where −a needs a bit more it has it."""
    forward, b = rounder.integers(*row[:3])
    backward, a = rounder.integers(*row[3:])
    _inside(a[0] * backward.step, a[1] * backward.step, row, rounder)
    turned = tuple(-value for value in a)
    if not all(backward.holds(value) for value in turned):
        backward = Format(True, backward.bits + 1, backward.fraction)
    return forward, b, backward, turned


def _direct_1(row: Row, rounder: Rounder) -> Draft:
    forward, b, backward, a = _both(row, rounder)
    return [Sum("y", _terms(INPUT, 0, forward, b) + _terms("y", 1, backward, a))]


def _direct_2(row: Row, rounder: Rounder) -> Draft:
    forward, b, backward, a = _both(row, rounder)
    return [Sum("w", (unit_term(INPUT), *_terms("w", 1, backward, a))), Sum("y", _terms("w", 0, forward, b))]


def _transposed_1(row: Row, rounder: Rounder) -> Draft:
    """Poles first: v feeds two words on the way back and two on the way out."""
    forward, b, backward, a = _both(row, rounder)
    return [
        Sum("v", (unit_term(INPUT), unit_term("p", 1))),
        Sum("p", (Term("v", 0, a[0], backward), unit_term("q", 1))),
        Sum("q", (Term("v", 0, a[1], backward),)),
        Sum("y", (Term("v", 0, b[0], forward), unit_term("r", 1))),
        Sum("r", (Term("v", 0, b[1], forward), unit_term("s", 1))),
        Sum("s", (Term("v", 0, b[2], forward),)),
    ]


def _transposed_2(row: Row, rounder: Rounder) -> Draft:
    forward, b, backward, a = _both(row, rounder)
    return [
        Sum("y", (Term(INPUT, 0, b[0], forward), unit_term("p", 1))),
        Sum("p", (Term(INPUT, 0, b[1], forward), Term("y", 0, a[0], backward), unit_term("q", 1))),
        Sum("q", (Term(INPUT, 0, b[2], forward), Term("y", 0, a[1], backward))),
    ]


def _coupled(row: Row, rounder: Rounder) -> Draft:
    """Poles σ ± jω as a rotation (Rader & Gold 1967); real poles one after the other. The way out is computed for the
    rounded poles, so that only its own rounding moves the zeros."""
    b0, b1, b2, a1, a2 = row
    half, square = -a1 / 2, a1 * a1 / 4 - a2
    if square < 0:
        entry, (s, w, _) = rounder.integers(half, sqrt(-square), -sqrt(-square))
        sigma, omega = s * entry.step, w * entry.step
        if not w:
            raise PoleError(f"at {rounder.bits} bits a pole pair falls onto the real axis", "coefficient_bits",
                              "take more coefficient bits")  # fmt: skip
        _inside(-2 * sigma, sigma**2 + omega**2, row, rounder)
        r1, r2 = b1 + 2 * b0 * sigma, b2 - b0 * (sigma**2 + omega**2)
        out, (d, c1, c2) = rounder.integers(b0, r1, (r2 + r1 * sigma) / omega)
        u: tuple[NamedTerm, ...] = (unit_term(INPUT), Term("u", 1, s, entry), Term("v", 1, -w, entry))
        v = (Term("u", 1, w, entry), Term("v", 1, s, entry))
    else:
        far = half + (sqrt(square) if half >= 0 else -sqrt(square))
        near = a2 / far if far else 0.0
        entry, (p1, p2) = rounder.integers(near, far)
        first, second = p1 * entry.step, p2 * entry.step
        _inside(-first - second, first * second, row, rounder)
        r1, r2 = b1 + b0 * (first + second), b2 - b0 * first * second
        out, (d, c1, c2) = rounder.integers(b0, r1, r2 + r1 * second)
        u = (unit_term(INPUT), Term("u", 1, p1, entry))
        v = (unit_term("u", 1), Term("v", 1, p2, entry))
    y: tuple[NamedTerm, ...] = (Term(INPUT, 0, d, out), Term("u", 1, c1, out), Term("v", 1, c2, out))
    return [Sum("u", u), Sum("v", v), Sum("y", y)]


def _lattice(row: Row, rounder: Rounder) -> Draft:
    """Two-multiplier lattice with a ladder of taps (Gray & Markel 1973), the ladder computed for the rounded lattice."""
    b0, b1, b2, a1, a2 = row
    entry, (k1, k2) = _reflections(a1, a2, row, rounder)
    first, second = k1 * entry.step, k2 * entry.step
    top = b2
    middle = b1 - top * first * (1 + second)
    out, (v0, v1, v2) = rounder.integers(b0 - top * second - middle * first, middle, top)
    draft = allpass_sums("", INPUT, entry, (k1, k2))
    taps = (Term("f0", 0, v0, out), Term("g1", 0, v1, out), Term("g2", 0, v2, out))
    return [*draft, Sum("y", taps)]


def _reflections(a1: float, a2: float, row: Row, rounder: Rounder) -> tuple[Format, tuple[int, int]]:
    wanted = a1 / (1 + a2), a2
    entry, (k1, k2, _, _) = rounder.integers(*wanted, -wanted[0], -wanted[1])
    if abs(k1 * entry.step) >= 1 or abs(k2 * entry.step) >= 1:
        _inside(2.0, 1.0, row, rounder)
    return entry, (k1, k2)


def allpass_sums(mark: str, source: str, entry: Format, k: tuple[int, ...]) -> Draft:
    """A lattice of one or two reflections; ``g1`` or ``g2`` gives the allpass of that order."""
    f0, f1, g1, g2 = (f"{name}{mark}" for name in ("f0", "f1", "g1", "g2"))
    if len(k) == 1:
        return [
            Sum(f0, (unit_term(source), Term(f0, 1, -k[0], entry))),
            Sum(g1, (Term(f0, 0, k[0], entry), unit_term(f0, 1))),
        ]
    return [
        Sum(f1, (unit_term(source), Term(g1, 1, -k[1], entry))),
        Sum(f0, (unit_term(f1), Term(f0, 1, -k[0], entry))),
        Sum(g2, (Term(f1, 0, k[1], entry), unit_term(g1, 1))),
        Sum(g1, (Term(f0, 0, k[0], entry), unit_term(f0, 1))),
    ]


BUILDERS: dict[str, Callable[[Row, Rounder], Draft]] = {
    "direct-1": _direct_1, "direct-2": _direct_2, "transposed-1": _transposed_1, "transposed-2": _transposed_2,
    "coupled": _coupled, "lattice": _lattice,
}  # fmt: skip
