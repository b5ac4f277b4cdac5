"""Figures of signals: tones by one joint fit, delay by correlation, density by averaged periodograms."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Array = NDArray[np.float64]
WORST_CONDITION = 1e6
"""Beyond it tones lie too close, for the length there is, to be told apart."""
CLEAR = 0.95
"""A second peak of the correlation above this share of the first leaves the delay unknown."""
FINER = 16


class Tones(Struct, frozen=True, eq=False):
    """Amplitude and phase of each tone (of A·sin(ωn + φ)), the constant, and how well posed the fit was."""

    amplitudes: Array
    phases: Array
    constant: float
    condition: float

    @property
    def is_sure(self) -> bool:
        """Whether the tones could be told apart."""
        return self.condition < WORST_CONDITION


def fit_tones(values: Array, omegas: Array, first: int = 0) -> Tones:
    """All tones and a constant at once, by least squares; ``first`` is the place of the first value in the signal."""
    n = np.arange(first, first + len(values), dtype=np.float64)
    columns = [np.ones(len(values))]
    for omega in omegas:
        angle = (n * (omega / (2 * np.pi))) % 1.0 * (2 * np.pi)
        columns += [np.sin(angle), np.cos(angle)]
    matrix = np.column_stack(columns)
    found, _, _, singular = np.linalg.lstsq(matrix, values, rcond=None)
    sines, cosines = found[1::2], found[2::2]
    condition = float(singular[0] / singular[-1]) if singular[-1] > 0 else np.inf
    return Tones(np.hypot(sines, cosines), np.arctan2(cosines, sines), float(found[0]), condition)


def delay_by_correlation(given: Array, heard: Array, most: int) -> float | None:
    """By how many samples a signal comes later, of either sign, between 0 and ``most``; None where it can't be told.

    The correlation is drawn between its samples by a transform sixteen times as long, its peak by a parabola.
    """
    count = min(len(given), len(heard))
    most = min(most, count // 2)
    one, other = given[:count] - np.mean(given[:count]), heard[:count] - np.mean(heard[:count])
    if not np.any(one) or not np.any(other):
        return None
    size = 1 << int(np.ceil(np.log2(2 * count)))
    spectrum = np.fft.rfft(other, size) * np.conj(np.fft.rfft(one, size))
    lags = np.fft.irfft(spectrum, size)
    around = np.concatenate([lags[-8:], lags[: most + 9]])
    fine = np.abs(_between(around))
    places = np.arange(len(fine)) / FINER - 8
    inside = (places >= -1) & (places <= most + 1)
    fine, places = fine[inside], places[inside]
    peaks = np.flatnonzero((fine[1:-1] >= fine[:-2]) & (fine[1:-1] > fine[2:])) + 1
    if not len(peaks):
        return None
    order = peaks[np.argsort(-fine[peaks])]
    if len(order) > 1 and fine[order[1]] > CLEAR * fine[order[0]]:
        return None
    at = int(order[0])
    left, middle, right = fine[at - 1], fine[at], fine[at + 1]
    bend = left - 2 * middle + right
    return float(places[at] + (0.5 * (left - right) / bend if bend else 0.0) / FINER)


def _between(values: Array) -> Array:
    """Values and what a band-limited curve has between them."""
    ramp = len(values)
    padded = np.concatenate([values, np.linspace(values[-1], values[0], ramp)])
    spectrum = np.fft.rfft(padded)
    longer = np.zeros(len(padded) * FINER // 2 + 1, dtype=np.complex128)
    longer[: len(spectrum)] = spectrum * FINER
    return np.asarray(np.fft.irfft(longer, len(padded) * FINER)[: len(values) * FINER])


def density(values: Array, rate: float, size: int = 0) -> tuple[Array, Array]:
    """Frequencies and one-sided power per Hz: averaged periodograms of halves that overlap (Welch 1967), Hann window.

    Its sum over frequency times their distance is the mean square (Parseval, on average over the window).
    """
    size = size or min(4096, 1 << max(int(np.log2(max(len(values), 2))) - 3, 4))
    size = min(size, len(values))
    window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(size) / size) if size > 1 else np.ones(1)
    starts = range(0, max(len(values) - size, 0) + 1, max(size // 2, 1))
    power = np.mean([np.abs(np.fft.rfft(values[at : at + size] * window)) ** 2 for at in starts], axis=0)
    power /= rate * float(np.sum(window**2))
    power[1 : -1 if size % 2 == 0 else None] *= 2
    return np.asarray(np.fft.rfftfreq(size, 1 / rate), dtype=np.float64), np.asarray(power)
