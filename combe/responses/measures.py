"""Figures of merit of any filter, with or without a requirement."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.filters import Filter, Fir, rational_of
from combe.requirement import Limit
from combe.responses.evaluate import frequency_response, gain_db, uniform_response
from combe.responses.extremes import gain_peak, turning_points, worst_point
from combe.responses.time import impulse_response, step_response

Array = NDArray[np.float64]
LONG, MOST_CROSSINGS = 2000, 200
"""Taps beyond which a filter without symmetry is looked at on a grid."""
HALF_POWER_DB = float(10 * np.log10(0.5))
SETTLED_SHARE = 0.01
MONOTONE_DB = 60.0
"""Where a gain falls without lobes its stopband is where it has fallen so far."""


def measures(source: Filter, sample_rate_hz: float) -> dict[str, Any]:
    """What can be said of a filter alone. Frequencies in Hz, levels in dB, floored at -400.

    ``edges_3db_hz`` are all frequencies where the gain crosses half the power of its peak.
    ``noise_bandwidth_hz`` is the width of the ideal filter with the same peak gain that passes as much white noise.
    ``settling_samples`` counts samples until the step response stays within 1 % of its last value, or, where that
    is nearly zero, within 1 % of its largest value.
    ``bands`` are the passbands and stopbands found.
    """
    turn = sample_rate_hz / (2 * np.pi)
    stable = isinstance(source, Fir) or rational_of(source).is_stable
    omega, peak = gain_peak(source)
    crossings = level_crossings(source, peak + HALF_POWER_DB)
    found: dict[str, Any] = {
        "dc_gain_db": float(gain_db(frequency_response(source, np.zeros(1)))[0]),
        "peak_gain_db": peak,
        "peak_hz": omega * turn,
        "edges_3db_hz": [float(w * turn) for w in crossings],
        "edges_6db_hz": [float(w * turn) for w in level_crossings(source, peak + 2 * HALF_POWER_DB)],
        "stable": stable,
    }
    if stable:
        energy = float(np.sum(impulse_response(source) ** 2))
        found["noise_bandwidth_hz"] = energy / 10 ** (peak / 10) * sample_rate_hz / 2
        found["settling_samples"] = settling_samples(source)
        step = step_response(source)
        found["overshoot_percent"] = overshoot_percent(step)
    # Where noise crosses half the power hundreds of times there are no bands to speak of.
    found["bands"] = found_bands(source, peak, crossings, turn) if len(crossings) <= MOST_CROSSINGS else []
    return found


def level_crossings(source: Filter, level_db: float) -> Array:
    """Angular frequencies where the gain crosses a level: bracketed between turning points, then bisected."""
    if isinstance(source, Fir) and len(source.taps) > LONG and not source.symmetry:
        return _crossings_on_grid(source, level_db)
    points = turning_points(source, 0.0, np.pi)
    sign = _gain(source, points) > level_db
    at = np.flatnonzero(sign[1:] != sign[:-1])
    low, high = points[at].copy(), points[at + 1].copy()
    for _ in range(60):
        middle = (low + high) / 2
        same = (_gain(source, middle) > level_db) == sign[at]
        low, high = np.where(same, middle, low), np.where(same, high, middle)
    return (low + high) / 2


def _crossings_on_grid(source: Fir, level_db: float) -> Array:
    """Crossings of thousands of taps without symmetry, drawn straight between the points of a fine transform."""
    size = 1 << (int(np.ceil(np.log2(len(source.taps)))) + 6)
    level = gain_db(np.fft.rfft(source.array, size)) - level_db
    at = np.flatnonzero(np.sign(level[1:]) != np.sign(level[:-1]))
    share = level[at] / (level[at] - level[at + 1])
    return np.asarray((at + share) * (2 * np.pi / size))


def _extremes_on_grid(source: Fir) -> tuple[Array, Array]:
    """Ends and stationary points of the gain on a fine transform."""
    size = 1 << (int(np.ceil(np.log2(len(source.taps)))) + 5)
    level = gain_db(np.fft.rfft(source.array, size))
    turns = np.flatnonzero((level[1:-1] - level[:-2]) * (level[2:] - level[1:-1]) <= 0) + 1
    at = np.concatenate([[0], turns, [len(level) - 1]])
    return np.asarray(at * (2 * np.pi / size)), np.asarray(level[at])


def settling_samples(source: Filter) -> int:
    """Samples until the step response stays within 1 % of where it ends."""
    step = step_response(source)
    if not isinstance(source, Fir):
        final = float(np.real(frequency_response(source, np.zeros(1))[0]))
    else:
        final = float(step[-1])
    scale = abs(final) if abs(final) > 0.02 * np.max(np.abs(step)) else float(np.max(np.abs(step)))
    outside = np.flatnonzero(np.abs(step - final) > SETTLED_SHARE * scale)
    return int(outside[-1]) + 1 if len(outside) else 0


def overshoot_percent(step: Array) -> float | None:
    """How far the step response rises above its last value; None where that is nearly zero."""
    final = float(step[-1])
    if abs(final) <= 0.02 * float(np.max(np.abs(step))):
        return None
    return float(max(np.max(step / final) - 1, 0.0) * 100)


def found_bands(source: Filter, peak: float, crossings: Array, turn: float) -> list[dict[str, Any]]:
    """Passbands (above half power) with their ripple, stopbands with their attenuation.

    The ripple of a passband is counted between the outermost maxima of the gain inside it, an end of the axis
    counting as one. A stopband lies between two passbands, from where the gain first falls to the height of the
    highest lobe beyond the first minimum.
    """
    edges = np.concatenate([[0.0], crossings, [np.pi]])
    bands: list[dict[str, Any]] = []
    if isinstance(source, Fir) and len(source.taps) > LONG and not source.symmetry:
        points, gains = _extremes_on_grid(source)
    else:
        points = turning_points(source, 0.0, np.pi)
        gains = _gain(source, points)
    for low, high in zip(edges[:-1].tolist(), edges[1:].tolist()):
        inside = (points > low) & (points < high)
        span, heights = points[inside], gains[inside]
        if high - low < 1e-12:
            continue
        if _gain(source, np.array([(low + high) / 2]))[0] > peak + HALF_POWER_DB:
            bands.append(_passband(source, low, high, span, heights, turn))
        else:
            stop = _stopband(source, low, high, span, heights, peak, turn)
            if stop is not None:
                bands.append(stop)
    return bands


def _passband(source: Filter, low: float, high: float, span: Array, heights: Array, turn: float) -> dict[str, Any]:
    maxima = _maxima(source, low, high, span, heights)
    ripple = 0.0
    if len(maxima) > 1:
        first, last = float(maxima[0]), float(maxima[-1])
        flat = Limit.level(0.0, first, last)
        top = worst_point(source, 2 * np.pi, flat, 1).gain_db
        ripple = top - worst_point(source, 2 * np.pi, flat, -1).gain_db
    return {"kind": "passband", "start_hz": low * turn, "stop_hz": high * turn, "ripple_db": ripple}


def _stopband(
    source: Filter, low: float, high: float, span: Array, heights: Array, peak: float, turn: float
) -> dict[str, Any] | None:
    minima = [k for k in range(len(span)) if _is_lower(heights, k)]
    left = low == 0.0
    right = high == np.pi
    if len(minima) == 1 and not (left or right):
        return None
    if not minima:
        if (left or right) and peak - _far_level(source, left) > MONOTONE_DB:
            return _monotone(source, low, high, peak, turn, left)
        level = max([float(g) for edge, g in zip((0.0, np.pi), _gain(source, np.array([0.0, np.pi]))) if
                     (edge == 0.0 and left) or (edge == np.pi and right)], default=0.0)  # fmt: skip
        return None if not (left or right) else {
            "kind": "stopband", "start_hz": low * turn, "stop_hz": high * turn, "attenuation_db": peak - level,
        }  # fmt: skip
    first = low if left else float(span[minima[0]])
    last = high if right else float(span[minima[-1]])
    top = (
        worst_point(source, 2 * np.pi, Limit.level(0.0, first, last), 1).gain_db
        if last > first
        else float(heights[minima[0]])
    )
    crossings = level_crossings(source, top + 1e-9)
    start = low if left else float(max((w for w in crossings if low <= w <= first), default=first))
    stop = high if right else float(min((w for w in crossings if last <= w <= high), default=last))
    return {"kind": "stopband", "start_hz": start * turn, "stop_hz": stop * turn, "attenuation_db": peak - top}


def _far_level(source: Filter, left: bool) -> float:
    return float(_gain(source, np.array([0.0 if left else np.pi]))[0])


def _monotone(source: Filter, low: float, high: float, peak: float, turn: float, left: bool) -> dict[str, Any]:
    """A gain that only falls towards the end of the axis: the stretch where it is ``MONOTONE_DB`` down."""
    crossings = [float(w) for w in level_crossings(source, peak - MONOTONE_DB) if low <= w <= high]
    start, stop = (low, crossings[0]) if left else (crossings[-1], high)
    return {"kind": "stopband", "start_hz": start * turn, "stop_hz": stop * turn, "attenuation_db": MONOTONE_DB}


def _maxima(source: Filter, low: float, high: float, span: Array, heights: Array) -> Array:
    found = [float(span[k]) for k in range(len(span)) if not _is_lower(heights, k) and _is_peak(heights, k)]
    ends = ([0.0] if low == 0.0 else []) + found + ([np.pi] if high == np.pi else [])
    return np.array(sorted(set(ends)))


def _is_lower(heights: Array, k: int) -> bool:
    before = heights[k - 1] if k else np.inf
    after = heights[k + 1] if k + 1 < len(heights) else np.inf
    return bool(heights[k] < before and heights[k] < after)


def _is_peak(heights: Array, k: int) -> bool:
    before = heights[k - 1] if k else -np.inf
    after = heights[k + 1] if k + 1 < len(heights) else -np.inf
    return bool(heights[k] >= before and heights[k] >= after)


def _gain(source: Filter, omega: Array) -> Array:
    return gain_db(frequency_response(source, omega))


def response_table(source: Filter, sample_rate_hz: float, points: int) -> dict[str, list[float]]:
    """Magnitude, unwrapped phase and group delay at even frequencies from 0 to half the sample rate."""
    from combe.responses.phase import group_delay, unwrapped_phase

    omega = np.linspace(0, np.pi, points)
    return {
        "hz": (omega / np.pi * sample_rate_hz / 2).tolist(),
        "db": gain_db(uniform_response(source, points)).tolist(),
        "phase_rad": unwrapped_phase(source, omega).tolist(),
        "delay_samples": group_delay(source, omega).tolist(),
    }
