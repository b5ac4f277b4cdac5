"""Figures of signals: tones by one joint fit, delay by correlation, density by averaged periodograms."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Array = NDArray[np.float64]
WORST_CONDITION = 1e6
"""Beyond it tones lie too close, for the length there is, to be told apart."""
CLEAR = 0.95
"""A second peak of the correlation above this share of the first leaves the delay unknown."""
FINER = 16
BESIDE = 16
"""Lines to either side of a tone that tell how much noise there is."""


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
    found, _, _, singular = np.linalg.lstsq(_columns(omegas, first, len(values)), values, rcond=None)
    return _tones(found, float(singular[0] / singular[-1]) if singular[-1] > 0 else np.inf)


class ToneSums:
    """The sums a joint fit of tones needs, of a signal that comes piece by piece (the normal equations)."""

    SMALL = 1 << 13

    def __init__(self, omegas: Array) -> None:
        size = 2 * len(omegas) + 1
        self.omegas = omegas
        self.products = np.zeros((size, size))
        self.heard = np.zeros(size)
        self.count = 0

    @property
    def is_enough(self) -> bool:
        """Whether there is more than just enough to fit."""
        return self.count > len(self.heard)

    def take(self, values: Array, first: int) -> None:
        """The next values, the first of which has the place ``first`` in the signal."""
        for at in range(0, len(values), self.SMALL):
            piece = values[at : at + self.SMALL]
            columns = _columns(self.omegas, first + at, len(piece))
            self.products += columns.T @ columns
            self.heard += columns.T @ piece
        self.count += len(values)

    def solved(self) -> Tones:
        """The tones that fit best."""
        found, _, _, singular = np.linalg.lstsq(self.products, self.heard, rcond=None)
        return _tones(found, float(np.sqrt(singular[0] / singular[-1])) if singular[-1] > 0 else np.inf)


def tone_errors(error: Array, omegas: Array) -> Array:
    """How far noise throws off the amplitude a fit finds for each tone: its standard deviation.

    A fit over N values takes of noise what lies within 1/N of the tone; its power there is told by the lines beside, those
    next to the tone left out. Amplitudes then have the variance 2·S/N for a power of S a value (Rife & Boorstyn 1974, "Single-tone
    parameter estimation from discrete-time observations").
    """
    count = len(error)
    power = np.abs(np.fft.rfft(error)) ** 2 / max(count, 1)
    found = np.zeros(len(omegas))
    for k, omega in enumerate(omegas):
        at = round(float(omega) / (2 * np.pi) * count)
        beside = [n for n in (*range(at - BESIDE, at - 1), *range(at + 2, at + BESIDE + 1)) if 0 < n < len(power)]
        found[k] = np.sqrt(2 * np.mean(power[beside]) / count) if beside else np.nan
    return found


def _columns(omegas: Array, first: int, count: int) -> Array:
    """A constant, and sine and cosine of each tone."""
    n = np.arange(first, first + count, dtype=np.float64)
    columns = [np.ones(count)]
    for omega in omegas:
        angle = (n * (omega / (2 * np.pi))) % 1.0 * (2 * np.pi)
        columns += [np.sin(angle), np.cos(angle)]
    return np.column_stack(columns)


def _tones(found: NDArray[np.floating[Any]], condition: float) -> Tones:
    sines, cosines = found[1::2], found[2::2]
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
    around = np.concatenate([lags[-8:], lags[: most + 9]]) / _overlapping(one, other, 8, most + 9)
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


def _overlapping(one: Array, other: Array, before: int, after: int) -> Array:
    """By what a correlation is divided at lags from -before to after - 1: the energy of what overlaps there. Without it a
    slow signal is drawn towards no delay, where most of it overlaps."""
    count = len(one)
    energy = [np.concatenate([[0.0], np.cumsum(values**2)]) for values in (one, other)]
    found = np.empty(before + after)
    for k, lag in enumerate(range(-before, after)):
        size = max(count - abs(lag), 0)
        first, second = (0, lag) if lag >= 0 else (-lag, 0)
        product = (energy[0][first + size] - energy[0][first]) * (energy[1][second + size] - energy[1][second])
        found[k] = np.sqrt(max(product, 0.0))
    return np.asarray(np.where(found > 1e-9 * max(float(np.max(found)), 1e-300), found, np.inf))


def _between(values: Array) -> Array:
    """Values and what a band-limited curve has between them."""
    ramp = len(values)
    padded = np.concatenate([values, np.linspace(values[-1], values[0], ramp)])
    spectrum = np.fft.rfft(padded)
    longer = np.zeros(len(padded) * FINER // 2 + 1, dtype=np.complex128)
    longer[: len(spectrum)] = spectrum * FINER
    return np.asarray(np.fft.irfft(longer, len(padded) * FINER)[: len(values) * FINER])


class Periodograms:
    """Power per Hz of a signal that comes piece by piece: averaged periodograms of stretches that overlap by half (Welch
    1967), Hann window, one-sided."""

    def __init__(self, size: int, rate: float) -> None:
        self.size, self.rate = size, rate
        self.window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(size) / size) if size > 1 else np.ones(1)
        self.power = np.zeros(size // 2 + 1)
        self.stretches = 0
        self.rest = np.zeros(0)

    def take(self, values: Array) -> None:
        """The next values."""
        every = np.concatenate([self.rest, values])
        step = max(self.size // 2, 1)
        at = 0
        while at + self.size <= len(every):
            self.power += np.abs(np.fft.rfft(every[at : at + self.size] * self.window)) ** 2
            self.stretches += 1
            at += step
        self.rest = every[at:]

    def found(self) -> tuple[Array, Array]:
        """Frequencies in Hz, and power per Hz."""
        power = self.power / (max(self.stretches, 1) * self.rate * float(np.sum(self.window**2)))
        power[1 : -1 if self.size % 2 == 0 else None] *= 2
        return np.asarray(np.fft.rfftfreq(self.size, 1 / self.rate), dtype=np.float64), power


def usual_size(count: int) -> int:
    """The stretch for a signal of so many samples: a power of two up to 4096, at least eight of them where that can be."""
    return min(4096, 1 << max(int(np.log2(max(count, 2))) - 3, 4))


def density(values: Array, rate: float, size: int = 0) -> tuple[Array, Array]:
    """Frequencies and one-sided power per Hz of a whole signal.

    Its sum over frequency times their distance is the mean square (Parseval, on average over the window).
    """
    found = Periodograms(min(size or usual_size(len(values)), len(values)), rate)
    found.take(values)
    return found.found()
