"""True extremes of the gain over a continuous band: stationary points and edges, never a grid point."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.filters import Filter, Fir, Rational, rational_of
from combe.remembered import remembered
from combe.requirement import Limit
from combe.responses.evaluate import (
    frequency_response,
    gain_db,
    log_slope,
    rational_log_slope,
    response_and_derivatives,
    uniform_derivative,
    uniform_response,
)

Array = NDArray[np.float64]
POINTS_PER_TAP, LONG_SCAN = 16, 1 << 18
REFINED_TERMS, NOISE = 6_000_000, 1e-14
ROUNDING = 1e-11
"""A stationary point so close to an end of a band, as a share of the sample rate, is the end: at 0 every gain is stationary."""
DB_PER_NEPER = 20 / np.log(10)


class Extreme(Struct, frozen=True):
    """Where a filter comes closest to a limit, or goes furthest beyond it."""

    hz: float
    gain_db: float
    limit_db: float

    def margin_db(self, side: int) -> float:
        """Distance on the good side of the limit; ``side`` is 1 for an upper limit, -1 for a lower one."""
        return side * (self.limit_db - self.gain_db)


def worst_point(source: Filter, sample_rate_hz: float, limit: Limit, side: int) -> Extreme:
    """The point of a band where the gain stands worst against ``limit``.

    Parameters
    ----------
    source
        Any filter.
    limit
        Piecewise straight in dB over Hz; its points span the band.
    side
        1 where the limit must not be exceeded, -1 where it must be reached.

    Notes
    -----
    Within each straight piece, gain minus limit has its extremes at the ends or where its derivative changes
    sign. The derivative is exact; it is scanned at 16 points per tap (clustered around the roots of a recursive
    filter), and each sign change is closed in on to rounding error.
    """
    return worst_points(source, sample_rate_hz, ((limit, side),))[0]


@lru_cache(maxsize=256)
def worst_points(source: Filter, sample_rate_hz: float, asked: tuple[tuple[Limit, int], ...]) -> tuple[Extreme, ...]:
    """``worst_point`` of several limits with their sides, all closed in on at once."""
    if not asked:
        return ()
    grid = _grid(source)
    turn = 2 * np.pi / sample_rate_hz
    pieces = [(index, piece, side) for index, (limit, side) in enumerate(asked) for piece in limit.pieces()]
    ends = _Scan.at(grid.source, turn * np.array([piece[:2] for _, piece, _ in pieces]).ravel())
    stretches = []
    for place, (_, (start_hz, stop_hz, start_db, stop_db), side) in enumerate(pieces):
        slope = (stop_db - start_db) / (stop_hz - start_hz) / turn
        stretches.append(
            _stretch(grid.within(ends.part(slice(2 * place, 2 * place + 2))), slope, side, only_worst=True)
        )
    places = _closed_in(grid.source, stretches, 40)
    cuts = np.cumsum([len(omega) for omega in places])[:-1]
    gains = np.split(gain_db(frequency_response(grid.source, np.concatenate(places))), cuts)
    worst: dict[int, Extreme] = {}
    for (index, (start_hz, stop_hz, start_db, stop_db), side), omega, gain in zip(pieces, places, gains):
        hz = omega / turn
        hz[0], hz[-1] = start_hz, stop_hz
        line = start_db + (stop_db - start_db) * ((hz - start_hz) / (stop_hz - start_hz))
        here = int(np.argmin(side * (line - gain)))
        near = (end for end in (start_hz, stop_hz) if abs(hz[here] - end) < ROUNDING * sample_rate_hz)
        found = Extreme(next(near, float(hz[here])), float(gain[here]), float(line[here]))
        if index not in worst or found.margin_db(side) < worst[index].margin_db(side):
            worst[index] = found
    return tuple(worst[index] for index in range(len(asked)))


def stays_below(source: Filter, start: float, stop: float, level_db: float) -> bool:
    """Whether the scan alone makes certain that the gain stays below a level between two angular frequencies.

    |H|² of n + 1 taps lies between 0 and M, its second derivative below n²·M/2 (Bernstein 1912), so that between
    points a step h apart it rises above both by n²·h²·M/16 at most. False where that isn't enough to tell.
    """
    if not isinstance(source, Fir):
        return False
    with np.errstate(over="ignore", invalid="ignore"):
        square = np.abs(uniform_response(source, 1 + _enough(POINTS_PER_TAP * len(source.taps)))) ** 2
    step = np.pi / (len(square) - 1)
    inside = square[max(int(start / step), 0) : int(np.ceil(stop / step)) + 1]
    rise = (source.order * step) ** 2 / 16
    most = float(np.max(inside)) + rise * float(np.max(square)) / (1 - rise)
    return most < 10 ** (level_db / 10)


def gain_peak(source: Filter, start: float = 0.0, stop: float = np.pi) -> tuple[float, float]:
    """The largest gain between two angular frequencies, as (omega, gain in dB)."""
    found = worst_point(source, 2 * np.pi, Limit.level(0.0, start, stop), 1)
    return found.hz, found.gain_db


def turning_points(source: Filter, start: float, stop: float, steps: int = 40) -> Array:
    """Both ends and all angular frequencies between them where |H| has a maximum or a minimum.

    ``steps`` bounds the refinement: a few are plenty for drawing.
    """
    grid = _grid(source)
    own = grid.within(_Scan.at(grid.source, np.array([start, stop])))
    both = [_stretch(own, 0.0, side) for side in (1, -1)]
    return np.unique(np.concatenate(_closed_in(grid.source, both, steps)))


class _Scan(Struct, frozen=True, eq=False):
    """Frequencies with |H|² and its slope there; of a recursive filter with 1 and the slope of ln|H|², which has the
    same signs and keeps its range."""

    source: Fir | Rational
    omega: Array
    square: Array
    square_slope: Array
    largest: float = 0.0
    """|H|² at its largest over the whole axis, of the axis and what is cut out of it."""

    @classmethod
    def at(cls, source: Fir | Rational, omega: Array) -> _Scan:
        """At any frequencies."""
        if isinstance(source, Fir):
            value, derivative, _ = response_and_derivatives(source, omega)
            return cls(source, omega, np.abs(value) ** 2, 2 * (derivative * np.conj(value)).real)
        return cls(source, omega, np.ones_like(omega), 2 * log_slope(source, omega).real)

    def part(self, which: slice) -> _Scan:
        """Some of the frequencies."""
        return _Scan(self.source, self.omega[which], self.square[which], self.square_slope[which], self.largest)

    def within(self, ends: _Scan) -> _Scan:
        """What lies between two ends, and the ends themselves."""
        first = np.searchsorted(self.omega, ends.omega[0], "right")
        inside = self.part(slice(first, max(first, np.searchsorted(self.omega, ends.omega[1], "left"))))
        keys = ("omega", "square", "square_slope")
        omega, square, slope = (
            np.concatenate([getattr(ends, key)[:1], getattr(inside, key), getattr(ends, key)[1:]]) for key in keys
        )
        return _Scan(self.source, omega, square, slope, self.largest)

    def relative_slope(self, slope_db: float | Array) -> Array:
        """d(gain − limit)/dω in dB per radian; of a FIR times |H|², which is smooth at its zeros too."""
        return np.asarray(DB_PER_NEPER / 2 * self.square_slope - slope_db * self.square)


@remembered(24 << 20)
def _grid(source: Filter) -> _Scan:
    """The whole axis at enough points that no ripple hides between them."""
    if isinstance(source, Fir):
        count = 1 + _enough(POINTS_PER_TAP * len(source.taps))
        value, derivative = uniform_response(source, count), uniform_derivative(source, count)
        omega = np.linspace(0, np.pi, count)
        with np.errstate(over="ignore", invalid="ignore"):
            square = np.abs(value) ** 2
            return _Scan(source, omega, square, 2 * np.real(derivative * np.conj(value)), float(np.max(square)))
    rational = rational_of(source)
    omega = _clustered(rational)
    return _Scan(rational, omega, np.ones_like(omega), 2 * rational_log_slope(rational, omega).real)


def _enough(points: int) -> int:
    """So many or more that a transform is quick: a power of two, or of long filters, where that may be nearly twice as many, a product of
    small primes."""
    if points < LONG_SCAN:
        return int(2 ** np.ceil(np.log2(max(256, points))))
    # Worked out here: loading a library of transforms for this takes longer than the transform.
    odd = [3**k * 5**m for k in range(20) for m in range(14) if 3**k * 5**m < 2 * points]
    return int(min(part << (-(-points // part) - 1).bit_length() for part in odd))


def scanned_levels(source: Fir) -> tuple[Array, Array]:
    """Evenly spaced angular frequencies, 16 or more a tap, and the gain there in dB."""
    grid = _grid(source)
    with np.errstate(divide="ignore", invalid="ignore"):
        return grid.omega, np.maximum(np.nan_to_num(10 * np.log10(grid.square), nan=-400.0), -400.0)


def _clustered(source: Rational) -> Array:
    """Frequencies gathered around every root in proportion to its distance from the unit circle."""
    roots = np.unique(np.concatenate([source.zeros, source.poles]))
    steps = np.concatenate([[0.0], np.geomspace(0.05, 400, 40)])
    parts = [np.linspace(0, np.pi, 1025)]
    for root in roots[roots.imag >= 0]:
        reach = max(abs(1 - abs(root)), 1e-9)
        parts += [np.angle(root) + reach * steps, np.angle(root) - reach * steps]
    omega = np.concatenate(parts)
    return np.unique(omega[(omega >= 0) & (omega <= np.pi)])


class _Stretch(Struct, frozen=True, eq=False):
    """A piece of a limit: its ``ends`` (known places between them too), and between ``low`` and ``high`` stationary
    points of gain minus limit that can be worst on ``side``, with the slopes there."""

    ends: Array
    low: Array
    high: Array
    slope_low: Array
    slope_high: Array
    slope_db: float
    side: int


def _stretch(scan: _Scan, slope_db: float, side: int, only_worst: bool = False) -> _Stretch:
    """The ends of a scanned band and the brackets of its stationary points.

    With ``only_worst`` those of a FIR that the scan shows to be far from the worst are left out.
    """
    omega = scan.omega
    ends = omega[[0, -1]]
    slope = side * scan.relative_slope(slope_db)
    slope = np.where(np.isfinite(slope), slope, 0.0)
    if isinstance(scan.source, Fir):
        # Slopes within rounding are flat: a smooth passband must not break up into a thousand extremes. Rounding errs by
        # the size of the largest gain, in H and n times that in its slope, so that |H|² errs less where it is small.
        noise = NOISE * len(scan.source.taps) * np.sqrt(scan.largest * scan.square)
        slope = np.where(np.abs(slope) <= noise, 0.0, slope)
    rising, falling = slope[:-1] >= 0, slope[1:] < 0
    brackets = np.flatnonzero(rising & falling)
    if side < 0 and isinstance(scan.source, Rational):
        # At a zero on the circle itself the slope has no sign to change: its angle is known anyway.
        angles = np.angle(scan.source.zeros)
        ends = np.sort(np.concatenate([ends, angles[(angles > omega[0]) & (angles < omega[-1])]]))
    if only_worst and len(brackets):
        brackets = _near_worst(scan, brackets, slope_db, side)
    if len(brackets):
        brackets = _most_promising(scan, brackets, side)
    after = brackets + 1
    return _Stretch(ends, omega[brackets], omega[after], side * slope[brackets], side * slope[after], slope_db, side)


def _closed_in(source: Fir | Rational, stretches: list[_Stretch], steps: int) -> list[Array]:
    """The ends and the stationary points of each stretch, in order."""
    counts = [len(one.low) for one in stretches]
    low, high, slope_low, slope_high = (
        np.concatenate([getattr(one, key) for one in stretches]) for key in ("low", "high", "slope_low", "slope_high")
    )
    slopes = np.repeat([one.slope_db for one in stretches], counts)
    sides = np.repeat([one.side for one in stretches], counts)
    roots = low
    if len(low):
        brackets = (low, high, slope_low, slope_high, slopes, sides, steps)
        roots = _newton(source, *brackets) if isinstance(source, Fir) else _illinois(source, *brackets)
    found = []
    for one, own in zip(stretches, np.split(roots, np.cumsum(counts)[:-1])):
        between = np.sort(np.concatenate([one.ends[1:-1], own]))
        found.append(np.concatenate([one.ends[:1], between, one.ends[-1:]]))
    return found


def _near_worst(scan: _Scan, brackets: NDArray[np.intp], slope_db: float, side: int) -> NDArray[np.intp]:
    """Brackets whose level on the scan comes near the worst of all; a dip may hide a zero, so that more of them stay."""
    near, omega = 3.0 if side > 0 else 60.0, scan.omega
    if isinstance(scan.source, Rational):
        middle = np.concatenate([(omega[brackets] + omega[brackets + 1]) / 2, omega[:1], omega[-1:]])
        level = gain_db(frequency_response(scan.source, middle))
        relative = side * (level - slope_db * (middle - omega[0]))
        return np.asarray(brackets[relative[:-2] >= np.max(relative) - 2 * near])
    relative = side * (10 * np.log10(np.maximum(scan.square, 1e-300)) - slope_db * (omega - omega[0]))
    at = np.maximum(relative[brackets], relative[brackets + 1])
    return np.asarray(brackets[at >= np.max(relative) - near])


def _most_promising(scan: _Scan, brackets: NDArray[np.intp], side: int) -> NDArray[np.intp]:
    """For very long filters, refine only the brackets that can hold the worst point."""
    most = max(64, REFINED_TERMS // max(1, _size(scan.source)))
    if len(brackets) <= most:
        return brackets
    level = scan.square[brackets]
    level = np.maximum(level, scan.square[brackets + 1]) if side > 0 else level
    order = np.argsort(-side * level)
    return np.sort(brackets[order[:most]])


def _size(source: Fir | Rational) -> int:
    return len(source.taps) if isinstance(source, Fir) else len(source.zeros) + len(source.poles)


def _false_position(low: Array, high: Array, f_low: Array, f_high: Array) -> Array:
    """Where the straight line between two values crosses zero, or the middle where that's of no use."""
    with np.errstate(divide="ignore", invalid="ignore"):
        found = low - f_low * (high - low) / (f_high - f_low)
    poor = ~np.isfinite(found) | (found <= low) | (found >= high)
    return np.asarray(np.where(poor, (low + high) / 2, found))


def _newton(
    source: Fir, low: Array, high: Array, f_low: Array, f_high: Array, slope_db: Array, side: Array, steps: int
) -> Array:
    """The zero of the relative slope in each bracket, all at once, where the curvature is known.

    A stationary value changes with the square of the error in place, and Newton's error with the square of the last
    step: after one of 1e-6 of the band nothing is left that could be seen.
    """
    found = _false_position(low, high, f_low, f_high)
    open_ones = np.arange(len(found))
    for _ in range(min(steps, 12)):
        middle = found[open_ones]
        value, first, second = response_and_derivatives(source, middle)
        square_slope = (first * np.conj(value)).real
        slope = DB_PER_NEPER * square_slope - slope_db * np.abs(value) ** 2
        change = DB_PER_NEPER * (np.abs(first) ** 2 + (second * np.conj(value)).real) - 2 * slope_db * square_slope
        left = side * slope >= 0
        low, high = np.where(left, middle, low), np.where(left, high, middle)
        with np.errstate(divide="ignore", invalid="ignore"):
            better = middle - slope / change
        room = 1e-3 * (high - low)
        poor = ~np.isfinite(better) | (better < low - room) | (better > high + room)
        better = np.where(poor, (low + high) / 2, np.clip(better, low, high))
        found[open_ones] = better
        open_here = np.abs(better - middle) >= np.where(poor, 1e-10, min(1e-3 / len(source.taps), 1e-6))
        if not np.any(open_here):
            break
        # Each place has its own number of steps, and each step sums over all taps.
        open_ones = open_ones[open_here]
        low, high, slope_db, side = low[open_here], high[open_here], slope_db[open_here], side[open_here]
    return found


def _illinois(
    source: Rational, low: Array, high: Array, f_low: Array, f_high: Array, slope_db: Array, side: Array, steps: int
) -> Array:
    """The same by false position in the Illinois variant."""
    last = np.zeros(len(low))
    middle = previous = (low + high) / 2
    for step in range(steps):
        middle = _false_position(low, high, f_low, f_high)
        value = np.nan_to_num(_Scan.at(source, middle).relative_slope(slope_db))
        left = side * value >= 0
        halved_high = np.where(left & (last == 1), f_high / 2, f_high)
        halved_low = np.where(~left & (last == -1), f_low / 2, f_low)
        low, f_low = np.where(left, middle, low), np.where(left, value, halved_low)
        high, f_high = np.where(left, high, middle), np.where(left, halved_high, value)
        last = np.where(left, 1.0, -1.0)
        if step >= 3 and np.all(np.abs(middle - previous) < 1e-12):
            break
        previous = middle
    return middle
