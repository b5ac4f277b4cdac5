"""Margins that are proved: no frequency of a band, on no grid or between, comes closer to its limit than the ledger says.

Integer coefficients make |H|² a ratio of integer polynomials in s = sin²(ω/2). That a limit is kept, less a stated bound,
is the positivity of an integer polynomial on an interval, decided by its Bernstein coefficients in exact integers: all
positive proves it, otherwise the interval is halved (Lane & Riesenfeld 1981, "Bounds on a polynomial"). A FIR, whose
polynomial may have thousands of terms, is bounded cell by cell instead: value and two derivatives from one FFT, the
rest by Σ k³|hₖ|, the rounding of the FFT counted in.
"""

from __future__ import annotations

from fractions import Fraction
from math import comb, lcm

import numpy as np
from numpy.typing import NDArray

from combe.analysis.exact import exact_filter
from combe.analysis.transfer import Transfer, integers_of, stage_transfer
from combe.filters import Fir
from combe.ledger import Line
from combe.realization.stages import Realization
from combe.requirement import Limit, Requirement
from combe.requirement.rates import landings
from combe.values import replace

Array = NDArray[np.float64]
Polynomial = list[int]
WITHIN_DB = 0.0005
LARGEST_DEGREE, MOST_CELLS, DEEPEST = 100, 6000, 90
FINEST_GRID, FIRST_GRID = 1 << 20, 64
SHARES = (0.0005, 0.005, 0.05)
"""Bounds tried for a FIR in turn, in dB: the first that its grid can prove is the one told."""


def certified_lines(realization: Realization, requirement: Requirement, lines: tuple[Line, ...]) -> tuple[Line, ...]:
    """The ledger's gain lines, each with ``within_db`` where its margin is proved to that bound."""
    source = exact_filter(realization)
    away = {landing.name: landing for landing in landings(requirement)}
    prover = _FirProver(source) if isinstance(source, Fir) else _RatioProver(_whole(realization))
    found = []
    for line in lines:
        if line.unit == "db" and 0 <= line.band_index < len(requirement.bands):
            band = requirement.bands[line.band_index]
            limit, side = (band.upper, 1) if line.limit == "max_db" else (band.lower, -1)
            if limit is not None:
                line = replace(line, within_db=prover.proved(limit, side, line.margin, requirement.sample_rate_hz))
        elif line.unit == "db" and line.band in away:
            landing = away[line.band]
            pieces = [Limit.level(landing.level_db, start, stop) for start, stop in landing.pieces]
            shares = [prover.proved(piece, 1, line.margin, requirement.sample_rate_hz) for piece in pieces]
            known = [share for share in shares if share is not None]
            line = replace(line, within_db=max(known) if len(known) == len(shares) else None)
        found.append(line)
    return tuple(found)


def _whole(realization: Realization) -> Transfer:
    found = Transfer((Fraction(1),))
    for stage, source in zip(realization.stages, realization.formats()):
        found = found.times(stage_transfer(stage, source))
    return found


class _RatioProver:
    """|N|² and |D|² of a recursive filter as integer polynomials in sin²(ω/2)."""

    def __init__(self, whole: Transfer) -> None:
        self.is_possible = len(whole.numerator) + len(whole.denominator) <= 2 * LARGEST_DEGREE
        if self.is_possible:
            top, bottom = integers_of(whole.numerator), integers_of(whole.denominator)
            # Both were made whole by powers of two of their own: that ratio belongs to the gain.
            scale = _scale(whole.numerator) / _scale(whole.denominator)
            self.square_scale = scale * scale
            degree = max(len(top), len(bottom)) - 1
            self.P = _power_in_s(top, degree)
            self.Q = _power_in_s(bottom, degree)

    def proved(self, limit: Limit, side: int, margin: float, rate: float) -> float | None:
        """WITHIN_DB if proved, None where it can't be."""
        if not self.is_possible or not np.isfinite(margin):
            return None
        cells = MOST_CELLS
        for start, stop, start_db, stop_db in limit.pieces():
            s = [Fraction(float(np.sin(np.pi * hz / rate) ** 2)) for hz in (start, stop)]
            low, high = (
                max(s[0] * (1 - Fraction(1, 1 << 50)), Fraction(0)),
                min(s[1] * (1 + Fraction(1, 1 << 50)), Fraction(1)),
            )
            allowed = _Allowed((start, stop, start_db, stop_db), rate, side, margin - WITHIN_DB, self.square_scale)
            cells = _positive(_bernstein(self.P, low, high), _bernstein(self.Q, low, high), (low, high), allowed, cells)
            if cells < 0:
                return None
        return WITHIN_DB


class _Allowed:
    """The squared gain allowed over a cell of s, as a fraction of |N|²/|D|² in integers."""

    def __init__(
        self, piece: tuple[float, float, float, float], rate: float, side: int, margin: float, scale: Fraction
    ) -> None:
        self.piece, self.rate, self.side, self.margin, self.scale = piece, rate, side, margin, scale
        self.is_level = piece[2] == piece[3]
        self.fixed = self._at(piece[2]) if self.is_level else None

    def over(self, low: Fraction, high: Fraction) -> Fraction:
        """The strictest over a cell."""
        if self.fixed is not None:
            return self.fixed
        start, stop, first, last = self.piece
        hz = [2 * self.rate * float(np.arcsin(np.sqrt(min(float(s), 1.0)))) / (2 * np.pi) for s in (low, high)]
        db = [first + (last - first) * (min(max(f, start), stop) - start) / (stop - start) for f in hz]
        return self._at(min(db) if self.side > 0 else max(db))

    def _at(self, limit_db: float) -> Fraction:
        """Rounded towards the strict side."""
        gain = 10 ** ((limit_db - self.side * self.margin) / 10) * (1 - self.side * 1e-14)
        return Fraction(gain) * self.scale


def _positive(P: Polynomial, Q: Polynomial, cell: tuple[Fraction, Fraction], allowed: _Allowed, budget: int) -> int:
    """Whether T·Q − P (or P − T·Q) is positive all over; what is left of the budget, negative where it isn't proved."""
    waiting = [(P, Q, *cell, 0)]
    while waiting:
        p, q, low, high, depth = waiting.pop()
        budget -= 1
        T = allowed.over(low, high)
        a, b = T.numerator, T.denominator
        values = [allowed.side * (a * y - b * x) for x, y in zip(p, q)]
        if min(values) > 0:
            continue
        if allowed.is_level and (values[0] < 0 or values[-1] < 0):
            return -1
        if budget < 0 or depth > DEEPEST:
            return -1
        (p1, p2), (q1, q2) = _halved(p), _halved(q)
        middle = (low + high) / 2
        waiting += [(p1, q1, low, middle, depth + 1), (p2, q2, middle, high, depth + 1)]
    return budget


def _halved(values: Polynomial) -> tuple[Polynomial, Polynomial]:
    """Bernstein coefficients of both halves (de Casteljau), all times 2ⁿ to stay whole."""
    degree = len(values) - 1
    row, left, right = list(values), [], []
    for level in range(degree + 1):
        left.append(row[0] << (degree - level))
        right.append(row[-1] << (degree - level))
        row = [x + y for x, y in zip(row, row[1:])]
    return left, right[::-1]


def _scale(polynomial: tuple[Fraction, ...]) -> Fraction:
    """What ``integers_of`` multiplies a polynomial by."""
    return Fraction(max((value.denominator for value in polynomial), default=1))


def _power_in_s(values: Polynomial, degree: int) -> Polynomial:
    """|Σ values[k]·z^(−k)|² as a polynomial in s = sin²(ω/2), constant term first, of the given degree."""
    count = len(values)
    lags = [sum(values[i] * values[i + k] for i in range(count - k)) for k in range(count)]
    found = [0] * (degree + 1)
    before, now = [1], [1, -2]  # cos kω in powers of s
    for k, lag in enumerate(lags):
        for power, value in enumerate(before):
            found[power] += (lag if k == 0 else 2 * lag) * value
        after = [0] * (len(now) + 1)
        for power, value in enumerate(now):
            after[power] += 2 * value
            after[power + 1] -= 4 * value
        for power, value in enumerate(before):
            after[power] -= value
        before, now = now, after
    return found


def _bernstein(values: Polynomial, low: Fraction, high: Fraction) -> Polynomial:
    """Bernstein coefficients on an interval, times a positive number that depends on degree and interval alone."""
    degree = len(values) - 1
    common = lcm(low.denominator, high.denominator)
    start, width = int(low * common), int((high - low) * common)
    # Taylor shift of Σ v_k (start + width·t)^k common^(degree − k), by Horner.
    shifted = [0]
    for k in range(degree, -1, -1):
        grown = [0] * (len(shifted) + 1)
        for power, value in enumerate(shifted):
            grown[power] += value * start
            grown[power + 1] += value * width
        grown[0] += values[k] * common ** (degree - k)
        shifted = grown[: degree + 1] if len(grown) > degree + 1 else grown
    shifted = (shifted + [0] * (degree + 1))[: degree + 1]
    whole = 1
    for k in range(degree + 1):
        whole = lcm(whole, comb(degree, k))
    return [sum(comb(i, k) * (whole // comb(degree, k)) * shifted[k] for k in range(i + 1)) for i in range(degree + 1)]


class _FirProver:
    """A real trigonometric sum F with |F| = |H| (its middle taken out) or F = |H|² where taps have no symmetry."""

    def __init__(self, source: Fir) -> None:
        self.taps = source.array
        self.symmetry = source.symmetry
        self.count = len(source.taps)
        self._known: dict[int, tuple[list[Array], float]] = {}

    def proved(self, limit: Limit, side: int, margin: float, rate: float) -> float | None:
        """The smallest of SHARES that is proved."""
        if not np.isfinite(margin):
            return None
        first = 1 << (FIRST_GRID * max(self.count, 8) - 1).bit_length()
        grids = [first * 4**k for k in range(3) if k == 0 or first * 4**k <= FINEST_GRID]
        for within in SHARES:
            if any(self._holds(limit, side, margin - within, rate, points) for points in grids):
                return within
        return None

    def _holds(self, limit: Limit, side: int, margin: float, rate: float, points: int) -> bool:
        parts, rest = self._cells(points)
        half, turn = np.pi / (2 * points), 2 * np.pi / rate
        for start, stop, start_db, stop_db in limit.pieces():
            # Cells stand around the points of the grid; the outermost are cut where the piece ends.
            first = max(int(np.floor(start * turn / (2 * half) + 0.5)), 0)
            last = min(int(np.ceil(stop * turn / (2 * half) - 0.5)), points)
            grid = np.arange(first, last + 1) * 2 * half
            low = np.clip(start * turn - grid, -half, half)
            high = np.clip(stop * turn - grid, -half, half)
            least, most = self._sizes([part[first : last + 1] for part in parts], low, high, rest)
            ends = [start_db + (stop_db - start_db) * ((grid + t) / turn - start) / (stop - start) for t in (low, high)]
            if side > 0 and np.any(20 * np.log10(np.maximum(most, 1e-300)) > np.minimum(*ends) - margin):
                return False
            if side < 0 and np.any(20 * np.log10(np.maximum(least, 1e-300)) < np.maximum(*ends) + margin):
                return False
        return True

    def _sizes(self, parts: list[Array], start: Array, stop: Array, rest: float) -> tuple[Array, Array]:
        """Least and largest |H| over cells that reach from ``start`` to ``stop`` around their points."""
        low, high = _quadratic(parts[0], parts[1], parts[2], start, stop)
        low, high = low - rest, high + rest
        if not self.symmetry:
            return np.sqrt(np.maximum(low, 0)), np.sqrt(np.maximum(high, 0))
        least = np.where((low <= 0) & (high >= 0), 0.0, np.minimum(np.abs(low), np.abs(high)))
        return least, np.maximum(np.abs(low), np.abs(high))

    def _cells(self, points: int) -> tuple[list[Array], float]:
        """F and two derivatives on a grid from 0 to π, and what no cell of half-width π/(2·points) departs from them by."""
        if points not in self._known:
            self._known[points] = self._computed(points)
        return self._known[points]

    def _computed(self, points: int) -> tuple[list[Array], float]:
        half = np.pi / (2 * points)
        weights = self.taps if self.symmetry else np.convolve(self.taps, self.taps[::-1])
        middle = (len(weights) - 1) / 2
        offset = np.arange(len(weights)) - middle
        turn = np.exp(1j * np.pi * np.arange(points + 1) / points * middle)
        parts = []
        for power in range(3):
            spectrum = np.fft.fft(weights * (-1j * offset) ** power, 2 * points)[: points + 1] * turn
            parts.append(np.asarray(spectrum.imag if self.symmetry == -1 else spectrum.real))
        total, far = float(np.sum(np.abs(weights))), max(middle, 1.0)
        # Each derivative's FFT and turn are off by some 1e-15·log₂ of its own absolute sum; so are the grid's angles.
        error = 1e-15 * total * (np.log2(2 * points) * (1 + far * half) ** 2 + 2 * np.pi * far)
        rest = float(np.sum(np.abs(weights) * np.abs(offset) ** 3)) * half**3 / 6
        return parts, rest + float(error)


def _quadratic(value: Array, slope: Array, bend: Array, start: Array, stop: Array) -> tuple[Array, Array]:
    """Least and largest of value + slope·t + bend·t²/2 for t from start to stop."""
    ends = np.array([value + slope * t + bend * t**2 / 2 for t in (start, stop)])
    safe = np.where(bend != 0, bend, 1.0)
    t = np.where(bend != 0, -slope / safe, np.inf)
    vertex = np.where((t >= start) & (t <= stop), value - slope**2 / (2 * safe), ends[0])
    every = np.concatenate([ends, vertex[None]])
    return np.min(every, axis=0), np.max(every, axis=0)
