"""True extremes of the gain over a continuous band: stationary points and edges, never a grid point."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.filters import Filter, Fir, Rational, rational_of
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
POINTS_PER_TAP = 16
REFINED_TERMS = 6_000_000
DB_PER_NEPER = 20 / np.log(10)


class Extreme(Struct, frozen=True):
    """Where a filter comes closest to a limit, or goes furthest beyond it."""

    hz: float
    gain_db: float
    limit_db: float

    def margin_db(self, side: int) -> float:
        """Distance on the good side of the limit; ``side`` is 1 for an upper limit, -1 for a lower one."""
        return side * (self.limit_db - self.gain_db)


@lru_cache(maxsize=256)
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
    grid = _grid(source)
    worst: Extreme | None = None
    for start_hz, stop_hz, start_db, stop_db in limit.pieces():
        turn = 2 * np.pi / sample_rate_hz
        slope = (stop_db - start_db) / (stop_hz - start_hz) / turn
        omega = _candidates(grid, start_hz * turn, stop_hz * turn, slope, side, only_worst=True)
        hz = omega / turn
        hz[0], hz[-1] = start_hz, stop_hz
        line = start_db + (stop_db - start_db) * ((hz - start_hz) / (stop_hz - start_hz))
        gain = gain_db(frequency_response(grid.source, omega))
        index = int(np.argmin(side * (line - gain)))
        found = Extreme(float(hz[index]), float(gain[index]), float(line[index]))
        if worst is None or found.margin_db(side) < worst.margin_db(side):
            worst = found
    assert worst is not None
    return worst


def gain_peak(source: Filter, start: float = 0.0, stop: float = np.pi) -> tuple[float, float]:
    """The largest gain between two angular frequencies, as (omega, gain in dB)."""
    found = worst_point(source, 2 * np.pi, Limit.level(0.0, start, stop), 1)
    return found.hz, found.gain_db


def turning_points(source: Filter, start: float, stop: float, steps: int = 40) -> Array:
    """Both ends and all angular frequencies between them where |H| has a maximum or a minimum.

    ``steps`` bounds the refinement: a few are plenty for drawing.
    """
    grid = _grid(source)
    both = [_candidates(grid, start, stop, 0.0, side, steps) for side in (1, -1)]
    return np.unique(np.concatenate(both))


class _Grid(Struct, frozen=True, eq=False):
    """A scan of the axis: the slope of |H|² at enough points that no ripple hides between them."""

    source: Fir | Rational
    omega: Array
    square: Array
    square_slope: Array


@lru_cache(maxsize=32)
def _grid(source: Filter) -> _Grid:
    if isinstance(source, Fir):
        count = 1 + int(2 ** np.ceil(np.log2(max(256, POINTS_PER_TAP * len(source.taps)))))
        value, derivative = uniform_response(source, count), uniform_derivative(source, count)
        omega = np.linspace(0, np.pi, count)
        with np.errstate(over="ignore", invalid="ignore"):
            return _Grid(source, omega, np.abs(value) ** 2, 2 * np.real(derivative * np.conj(value)))
    rational = rational_of(source)
    omega = _clustered(rational)
    # Only signs matter below: ln|H|² has the stationary points of |H|² and keeps its range.
    return _Grid(rational, omega, np.ones_like(omega), 2 * rational_log_slope(rational, omega).real)


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


def _candidates(
    grid: _Grid, start: float, stop: float, slope_db: float, side: int, steps: int = 40, only_worst: bool = False
) -> Array:
    """Band edges and refined stationary points of gain minus limit that can be worst on ``side``.

    With ``only_worst`` those of a FIR that the scan shows to be far from the worst are left out.
    """
    inside = (grid.omega > start) & (grid.omega < stop)
    ends = np.array([start, stop])
    omega = np.concatenate([ends[:1], grid.omega[inside], ends[1:]])
    edge_slopes = _relative_slope(grid.source, ends, slope_db)
    middle = DB_PER_NEPER / 2 * grid.square_slope[inside] - slope_db * grid.square[inside]
    slope = side * np.concatenate([edge_slopes[:1], middle, edge_slopes[1:]])
    slope = np.where(np.isfinite(slope), slope, 0.0)
    if isinstance(grid.source, Fir):
        # Slopes within rounding are flat: a smooth passband must not break up into a thousand extremes.
        noise = 1e-15 * len(grid.source.taps) * float(np.max(grid.square))
        slope = np.where(np.abs(slope) <= noise, 0.0, slope)
    rising, falling = slope[:-1] >= 0, slope[1:] < 0
    brackets = np.flatnonzero(rising & falling)
    if side < 0 and isinstance(grid.source, Rational):
        # At a zero on the circle itself the slope has no sign to change: its angle is known anyway.
        angles = np.angle(grid.source.zeros)
        ends = np.sort(np.concatenate([ends, angles[(angles > start) & (angles < stop)]]))
    if only_worst and len(brackets):
        brackets = _near_worst(grid, omega, brackets, slope_db, side)
    if len(brackets) == 0:
        return ends
    brackets = _most_promising(grid, omega, brackets, side)
    roots = _close_in(grid.source, omega[brackets], omega[brackets + 1], slope_db, side, steps)
    return np.concatenate([ends[:1], np.sort(np.concatenate([ends[1:-1], roots])), ends[-1:]])


def _near_worst(grid: _Grid, omega: Array, brackets: NDArray[np.intp], slope_db: float, side: int) -> NDArray[np.intp]:
    """Brackets whose level on the scan comes near the worst of all; a dip may hide a zero, so that more of them stay."""
    near = 3.0 if side > 0 else 60.0
    if isinstance(grid.source, Rational):
        middle = np.concatenate([(omega[brackets] + omega[brackets + 1]) / 2, omega[:1], omega[-1:]])
        level = gain_db(frequency_response(grid.source, middle))
        relative = side * (level - slope_db * (middle - omega[0]))
        return np.asarray(brackets[relative[:-2] >= np.max(relative) - 2 * near])
    level = np.interp(omega, grid.omega, grid.square)
    # Beyond a band's edge the gain may be large: between grid points only the edge's own level will do.
    level[[0, -1]] = np.abs(frequency_response(grid.source, omega[[0, -1]])) ** 2
    with np.errstate(divide="ignore"):
        relative = side * (10 * np.log10(np.maximum(level, 1e-300)) - slope_db * (omega - omega[0]))
    at = np.maximum(relative[brackets], relative[brackets + 1])
    return np.asarray(brackets[at >= np.max(relative) - near])


def _most_promising(grid: _Grid, omega: Array, brackets: NDArray[np.intp], side: int) -> NDArray[np.intp]:
    """For very long filters, refine only the brackets that can hold the worst point."""
    most = max(64, REFINED_TERMS // max(1, _size(grid.source)))
    if len(brackets) <= most:
        return brackets
    level = np.interp(omega[brackets], grid.omega, grid.square)
    level = np.maximum(level, np.interp(omega[brackets + 1], grid.omega, grid.square)) if side > 0 else level
    order = np.argsort(-side * level)
    return np.sort(brackets[order[:most]])


def _size(source: Fir | Rational) -> int:
    return len(source.taps) if isinstance(source, Fir) else len(source.zeros) + len(source.poles)


def _relative_slope(source: Fir | Rational, omega: Array, slope_db: float) -> Array:
    """d(gain − limit)/dω in dB per radian, exactly; of a FIR times |H|², which is smooth at its zeros too."""
    if isinstance(source, Fir):
        value, derivative, _ = response_and_derivatives(source, omega)
        return np.asarray(DB_PER_NEPER * (derivative * np.conj(value)).real - slope_db * np.abs(value) ** 2)
    return np.asarray(DB_PER_NEPER * log_slope(source, omega).real - slope_db)


def _close_in(source: Fir | Rational, low: Array, high: Array, slope_db: float, side: int, steps: int) -> Array:
    """The zero of the relative slope in each bracket, all brackets at once; times ``side`` the slope falls there.

    A stationary value changes with the square of the error in place, so that a place good to 1e-10 gives a level
    far below rounding. Newton's steps where the curvature is known, else false position in the Illinois variant.
    """
    if isinstance(source, Fir):
        return _newton(source, low, high, slope_db, side, min(steps, 12))
    return _illinois(source, low, high, slope_db, side, steps)


def _newton(source: Fir, low: Array, high: Array, slope_db: float, side: int, steps: int) -> Array:
    middle = (low + high) / 2
    for _ in range(steps):
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
        moved = float(np.max(np.abs(better - middle)))
        middle = better
        if moved < 1e-10:
            break
    return middle


def _illinois(source: Rational, low: Array, high: Array, slope_db: float, side: int, steps: int) -> Array:
    f_low, f_high = (np.nan_to_num(_relative_slope(source, x, slope_db)) for x in (low, high))
    last = np.zeros(len(low))
    middle = previous = (low + high) / 2
    for step in range(steps):
        with np.errstate(divide="ignore", invalid="ignore"):
            middle = low - f_low * (high - low) / (f_high - f_low)
        poor = ~np.isfinite(middle) | (middle <= low) | (middle >= high)
        middle = np.where(poor, (low + high) / 2, middle)
        value = np.nan_to_num(_relative_slope(source, middle, slope_db))
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
