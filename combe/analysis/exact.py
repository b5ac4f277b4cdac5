"""The filter integer coefficients stand for, as a value that can be measured."""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from combe.analysis.rates import prototype_of_program
from combe.analysis.transfer import Polynomial, Transfer, integers_of, product, stage_transfer
from combe.filters import Cascade, Filter, Fir, Rational, rational_of, sections_of
from combe.filters.precise import precise_roots
from combe.filters.simultaneous import roots_of
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, Stage, TapSum

Row = tuple[float, float, float, float, float]


def exact_filter(realization: Realization) -> Filter:
    """The filter a realization's integer coefficients stand for, worked out once; its prototype where the rate changes."""
    if "exact" not in realization.carried and realization.changes_rate:
        realization.carried["exact"] = prototype_of_program(realization)
    if "exact" not in realization.carried:
        realization.carried["exact"] = _exact(realization.stages, realization.formats())
    found: Filter = realization.carried["exact"]
    return found


def _exact(stages: tuple[Stage, ...], formats: list[Format]) -> Filter:
    """Taps, sections in a row, or roots where a stage is of higher order; roundings between stages are left out."""
    taps: list[int] = [1]
    scale = 0
    fir: Polynomial = (Fraction(1),)
    rows: list[Row] = []
    higher: list[Rational] = []
    for stage, source in zip(stages, formats):
        if isinstance(stage, TapSum):
            taps = _product(taps, stage.coefficients)
            scale += stage.coefficient.fraction
            continue
        if isinstance(stage, Requantize):
            continue
        found = stage_transfer(stage, source)
        if not found.denominators:
            fir = product(fir, found.numerator)
        elif len(found.numerator) <= 3 and len(found.denominator) <= 3:
            rows.append(_row(found))
        else:
            higher.append(_rational(found))
    if fir == (Fraction(1),):
        base = Fir(tuple(_scaled(value, scale) for value in taps))
    else:
        step = Fraction(2) ** -scale
        base = Fir(tuple(_float(value) for value in product(tuple(value * step for value in taps), fir)))
    if higher:
        return _in_roots(base, rows, higher)
    return _joined(base, tuple(rows)) if rows else base


def _scaled(raw: int, shift: int) -> float:
    """raw·2^(−shift), rounded once."""
    return raw / (1 << shift) if shift >= 0 else float(raw * (1 << -shift))


def _float(value: Fraction) -> float:
    return value.numerator / value.denominator


def _row(found: Transfer) -> Row:
    b = [_float(value) for value in (*found.numerator, Fraction(0), Fraction(0))[:3]]
    a = [_float(value) for value in (*found.denominator, Fraction(0), Fraction(0))[1:3]]
    return b[0], b[1], b[2], a[0], a[1]


def _rational(found: Transfer) -> Rational:
    """Roots of the exact polynomials, every digit of a double right."""
    numerator = list(found.numerator)
    delay = 0
    while numerator and not numerator[0]:
        numerator.pop(0)
        delay += 1
    if not numerator:
        return Rational(0.0, 0, np.zeros(0, complex), np.zeros(0, complex))
    zeros = precise_roots(integers_of(tuple(numerator)))
    poles = [precise_roots(integers_of(part)) for part in found.denominators]
    return Rational(_float(numerator[0]), delay, zeros, np.concatenate(poles))


def _in_roots(base: Fir, rows: list[Row], higher: list[Rational]) -> Cascade:
    """Everything in a row as sections again, poles paired anew."""
    parts = list(higher)
    if rows:
        parts.append(rational_of(Cascade(tuple(rows))))
    gain, delay = 1.0, 0
    taps = np.trim_zeros(base.array, "b")
    lead = int(np.flatnonzero(taps)[0]) if np.any(taps) else 0
    zeros = [roots_of(taps[lead:])]
    gain *= float(taps[lead]) if len(taps) else 0.0
    delay += lead
    for part in parts:
        gain, delay = gain * part.gain, delay + part.delay
        zeros.append(part.zeros)
    poles = np.concatenate([part.poles for part in parts])
    return sections_of(Rational(gain, delay, np.concatenate(zeros), poles))


def _joined(fir: Fir, sections: tuple[tuple[float, float, float, float, float], ...]) -> Filter:
    """Taps and sections in a row as one filter; taps beyond a section's reach as their roots."""
    if len(fir.taps) <= 3:
        b0, b1, b2 = (*fir.taps, 0.0, 0.0)[:3]
        own = () if fir.taps == (1.0,) else ((b0, b1, b2, 0.0, 0.0),)
        return Cascade((*own, *sections))
    recursive = rational_of(Cascade(sections))
    taps = np.trim_zeros(fir.array)
    lead = int(np.flatnonzero(fir.array)[0])
    zeros = np.concatenate([recursive.zeros, roots_of(taps)])
    gain = recursive.gain * float(taps[0])
    return sections_of(Rational(gain, recursive.delay + lead, zeros, recursive.poles))


def _product(left: list[int], right: tuple[int, ...]) -> list[int]:
    if left == [1]:
        return list(right)
    result = [0] * (len(left) + len(right) - 1)
    for i, a in enumerate(left):
        for j, b in enumerate(right):
            result[i + j] += a * b
    return result
