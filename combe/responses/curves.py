"""Points to draw: as many as the eye needs, with every true extreme and null among them."""

from __future__ import annotations

import threading
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from combe.filters import Filter, Fir
from combe.remembered import remembered
from combe.responses.evaluate import frequency_response, gain_db, uniform_response
from combe.responses.extremes import gain_peak, scanned_levels, turning_points
from combe.responses.measures import level_crossings, overshoot_percent, settling_samples
from combe.responses.phase import group_delay, unwrapped_phase
from combe.responses.time import impulse_response, step_response

Array = NDArray[np.float64]
LEAST_POINTS = 1025
_ready = threading.Event()


def make_ready() -> None:
    """Load, or compile, the loop that curves of linear-phase taps are made by where a hand waits for them."""
    from combe.responses.compiled_curves import lobed

    lobed(_turn(9, LEAST_POINTS)[0], np.zeros(LEAST_POINTS))  # arrays of the kind that come later
    _ready.set()


@lru_cache(maxsize=48)
def magnitude_curve(source: Filter) -> tuple[Array, Array]:
    """Angular frequencies over the whole axis and the gain there in dB."""
    if isinstance(source, Fir) and source.symmetry:
        return _lobed(source)
    size = len(source.taps) if isinstance(source, Fir) else 512
    count = 1 + int(2 ** np.ceil(np.log2(max(LEAST_POINTS - 1, 8 * size))))
    omega, level = scanned_levels(source) if isinstance(source, Fir) else (np.zeros(0), np.zeros(0))
    if len(omega) < count:
        omega = np.linspace(0, np.pi, count)
        level = gain_db(uniform_response(source, count))
    exact = turning_points(source, 0.0, np.pi, 1)
    return _with_points(omega, level, exact, gain_db(frequency_response(source, exact)))


def _with_points(omega: Array, level: Array, more: Array, heights: Array) -> tuple[Array, Array]:
    every = np.concatenate([omega, more])
    order = np.argsort(every, kind="stable")
    return every[order], np.concatenate([level, heights])[order]


def _lobed(source: Fir) -> tuple[Array, Array]:
    """The gain of symmetric or antisymmetric taps from one transform, with the tops and zeros between its points."""
    count = 1 + (1 << int(np.ceil(np.log2(max(LEAST_POINTS - 1, 16 * len(source.taps))))))
    omega, turn = _turn(len(source.taps), count)
    turned = uniform_response(source, count) * turn
    amplitude = np.ascontiguousarray(turned.real if source.symmetry == 1 else turned.imag)
    if _ready.is_set():
        from combe.responses.compiled_curves import lobed

        places, heights = lobed(omega, amplitude)
        return places, gain_db(heights)
    places = lobes(omega, amplitude)
    return _with_points(omega, gain_db(amplitude), places, gain_db(_between(amplitude, places / omega[1])))


def _between(values: Array, places: Array) -> Array:
    """Values between those at 0, 1, 2, …: on the cubic through the four next to each place (Lagrange 1795)."""
    first = np.clip(places.astype(np.intp), 1, len(values) - 3)
    t = places - first
    a, b, c, d = (values[first + k] for k in (-1, 0, 1, 2))
    far, near = t * (t - 1) / 6, (t + 1) * (t - 2) / 2
    return np.asarray((t + 1) * far * d - (t - 2) * far * a + near * ((t - 1) * b - t * c))


@remembered(16 << 20)
def _turn(taps: int, count: int) -> tuple[Array, NDArray[np.complex128]]:
    """Even angular frequencies, and what takes the delay of linear phase away there: the same for every filter under the
    hand."""
    omega = np.linspace(0, np.pi, count)
    return omega, np.exp(0.5j * (taps - 1) * omega)


def lobes(omega: Array, amplitude: Array) -> Array:
    """Tops and zeros of the amplitude of symmetric or antisymmetric taps, as near as drawing needs: a top within 1e-4 dB
    of its height, a zero where nothing of it is left to see.

    The amplitude is a smooth real function, sampled 16 times a tap: parabolas through three of its values have its tops,
    a secant bent by the second difference its zeros. Under the hand no frame has time for more.
    """
    a = amplitude
    rises = np.diff(a)
    top = np.flatnonzero(rises[:-1] * rises[1:] < 0) + 1
    bend = a[top - 1] - 2 * a[top] + a[top + 1]
    tops = omega[top] + omega[1] * (a[top - 1] - a[top + 1]) / (2 * bend)
    zero = np.flatnonzero(a[1:-2] * a[2:-1] < 0) + 1
    part = a[zero] / (a[zero] - a[zero + 1])
    bend = (a[zero - 1] - a[zero] - a[zero + 1] + a[zero + 2]) / 4
    part += bend * part * (1 - part) / (a[zero + 1] - a[zero])
    return np.concatenate([tops, omega[zero] + omega[1] * np.minimum(np.maximum(part, 0.0), 1.0)])


def magnitude_window(source: Filter, start: float, stop: float, count: int) -> tuple[Array, Array]:
    """The gain over a stretch of the axis: about ``count`` points and every extreme.

    Where the whole axis has many more points than are wanted, each small step keeps its highest and its lowest;
    where it has fewer, the stretch is evaluated anew.
    """
    omega, level = magnitude_curve(source)
    inside = (omega >= start) & (omega <= stop)
    number = np.count_nonzero(inside)
    if number > 4 * count:
        return _thinned(omega[inside], level[inside], count)
    if number >= count:
        return omega[inside], level[inside]
    exact = omega[inside]
    every = np.unique(np.concatenate([np.linspace(start, stop, count), exact]))
    every = every[(every >= 0) & (every <= np.pi)]
    return every, gain_db(frequency_response(source, every))


def _thinned(omega: Array, level: Array, count: int) -> tuple[Array, Array]:
    """The highest and the lowest point of each of ``count`` steps."""
    starts = np.linspace(0, len(omega), count + 1).astype(int)[:-1]
    step = np.repeat(np.arange(count), np.diff(np.append(starts, len(omega))))
    keep = np.zeros(len(omega), dtype=bool)
    keep[[0, -1]] = True
    for pick in (np.maximum, np.minimum):
        best = pick.reduceat(level, starts)
        match = np.flatnonzero(level == best[step])
        keep[match[np.unique(step[match], return_index=True)[1]]] = True
    return omega[keep], level[keep]


@lru_cache(maxsize=32)
def phase_curve(source: Filter) -> tuple[Array, Array, Array]:
    """Angular frequencies, the unwrapped phase, and what's left of it without its linear part, in radians."""
    size = len(source.taps) if isinstance(source, Fir) else 512
    omega = np.linspace(0, np.pi, max(LEAST_POINTS, 8 * size + 1))
    phase = unwrapped_phase(source, omega)
    delay = (
        source.order / 2
        if isinstance(source, Fir) and source.symmetry
        else float(np.median(group_delay(source, omega)))
    )
    return omega, phase, phase + delay * omega


@lru_cache(maxsize=32)
def delay_curve(source: Filter) -> tuple[Array, Array]:
    """Angular frequencies and the group delay in samples."""
    size = len(source.taps) if isinstance(source, Fir) else 512
    omega = np.linspace(0, np.pi, max(LEAST_POINTS, 8 * size + 1))
    return omega, group_delay(source, omega)


@lru_cache(maxsize=32)
def phase_delay_curve(source: Filter) -> tuple[Array, Array]:
    """Angular frequencies above 0 and the phase delay −φ/ω in samples, constant offsets of π left out at 0."""
    omega, phase, _ = phase_curve(source)
    start = np.pi * np.round(phase[0] / np.pi) if len(phase) else 0.0
    with np.errstate(divide="ignore", invalid="ignore"):
        delay = -(phase - start) / omega
    return omega[1:], delay[1:]


@lru_cache(maxsize=32)
def amplitude_curve(source: Filter) -> tuple[Array, Array]:
    """The zero-phase amplitude of symmetric or antisymmetric taps: real, and negative where the phase has turned.

    Of any other filter the gain.
    """
    size = len(source.taps) if isinstance(source, Fir) else 512
    omega = np.linspace(0, np.pi, max(LEAST_POINTS, 8 * size + 1))
    response = frequency_response(source, omega)
    if isinstance(source, Fir) and source.symmetry:
        turned = response * np.exp(1j * omega * source.order / 2)
        return omega, np.asarray(turned.real if source.symmetry == 1 else turned.imag)
    return omega, np.abs(response)


@lru_cache(maxsize=32)
def energy_curve(source: Filter) -> tuple[Array, Array]:
    """The share of the energy of the impulse response that lies above each frequency, in dB (Parseval).

    Integrated over the squared magnitude by the trapezoidal rule on points crowded around every extreme.
    """
    omega, level = magnitude_curve(source)
    power = 10 ** (level / 10)
    steps = np.diff(omega) * (power[1:] + power[:-1]) / 2
    above = np.concatenate([np.cumsum(steps[::-1])[::-1], [0.0]])
    with np.errstate(divide="ignore"):
        return omega, np.maximum(10 * np.log10(np.maximum(above / max(above[0], 1e-300), 1e-30)), -300.0)


def notable_points(source: Filter, kind: str) -> Array:
    """Angular frequencies where the gain crosses ``half power`` or ``quarter power`` of its peak, or has an
    ``extreme``."""
    if kind == "extreme":
        return turning_points(source, 0.0, np.pi)[1:-1]
    peak = gain_peak(source)[1]
    share = {"half power": 0.5, "quarter power": 0.25}[kind]
    return level_crossings(source, peak + float(10 * np.log10(share)))


@lru_cache(maxsize=16)
def difference_curve(source: Filter, reference: Filter) -> tuple[Array, Array]:
    """Angular frequencies of both filters' curves, and how many dB the first lies above the second there."""
    omega = np.union1d(magnitude_curve(source)[0], magnitude_curve(reference)[0])
    mine, other = (gain_db(frequency_response(each, omega)) for each in (source, reference))
    return omega, mine - other


@lru_cache(maxsize=16)
def time_curve(source: Filter, is_step: bool) -> Array:
    """The answer to an impulse or to a step, to its end."""
    return step_response(source) if is_step else impulse_response(source)


@lru_cache(maxsize=48)
def step_figures(source: Filter) -> tuple[int, float | None]:
    """Samples until the step response stays within 1 % of where it ends, and its overshoot in percent."""
    return settling_samples(source), overshoot_percent(time_curve(source, True))
