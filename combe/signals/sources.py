"""Parts of a signal as sources that give their samples piece by piece; what comes out doesn't depend on the pieces."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from combe.signals.modulation import Modulated, modulated, symbols
from combe.signals.roost import roost_values
from combe.signals.spec import Part, Signal
from combe.signals.spread import pink_noise, register_bits
from combe.signals.survey import night_values

Array = NDArray[np.float64]
PIECE = 1 << 16
"""Sums over a whole signal are taken in pieces of this length, so that they are the same however it is asked for."""
WHOLE_KINDS = ("pink", "modulated", "symbols")
"""Parts that are made in one piece: their spectrum, or a receiver, wants all of it."""


class Source(Protocol):
    """Gives the next samples of a part, in raw steps."""

    def take(self, count: int, /) -> Array:
        """So many of them."""
        ...


class ByPlace:
    """A part whose samples follow from their place in the signal alone."""

    def __init__(self, values: Callable[[Array], Array]) -> None:
        self.values, self.first = values, 0

    def take(self, count: int) -> Array:
        """The next ``count``."""
        n = np.arange(self.first, self.first + count, dtype=np.float64)
        self.first += count
        return self.values(n)


class White:
    """Gaussian noise from a generator whose stream is frozen."""

    def __init__(self, seed: int, place: int) -> None:
        self.random = generator(seed, place)

    def take(self, count: int) -> Array:
        """The next ``count``."""
        return np.asarray(self.random.standard_normal(count))


class Scaled:
    """Another source times a factor."""

    def __init__(self, source: Source, factor: float) -> None:
        self.source, self.factor = source, factor

    def take(self, count: int) -> Array:
        """The next ``count``."""
        return self.source.take(count) * self.factor


class InMemory:
    """A part that was made in one piece; silence after its end."""

    def __init__(self, values: Array) -> None:
        self.values, self.first = values, 0

    def take(self, count: int) -> Array:
        """The next ``count``."""
        found = self.values[self.first : self.first + count]
        self.first += count
        return np.pad(found, (0, count - len(found))) if len(found) < count else found


def generator(seed: int, place: int) -> np.random.RandomState:
    """Random numbers that follow from a seed and a part's place in the list."""
    return np.random.RandomState([seed, place])


def source_of(part: Part, signal: Signal, place: int, count: int, full: float) -> tuple[Source, Modulated | None]:
    """The source of a part that isn't recorded, and what a receiver knows of it where it is modulated."""
    peak = full * 10 ** ((part.dbfs if part.dbfs is not None else 0.0) / 20)
    if part.kind == "modulated":
        sent = modulated(part, count, signal.sample_rate_hz, generator(signal.seed, place))
        return InMemory(_at_level(sent.values, peak)), sent
    if part.kind == "symbols":
        sent = symbols(part, count, generator(signal.seed, place))
        return InMemory(_at_level(sent.values, peak)), sent
    if part.kind == "pink":
        return InMemory(_at_level(pink_noise(generator(signal.seed, place), count), peak)), None
    if part.kind == "survey":
        return _survey(part, signal.sample_rate_hz, peak), None
    if part.kind == "white":
        loud = _rms(White(signal.seed, place), count)
        return Scaled(White(signal.seed, place), peak / np.sqrt(2) / loud if loud else 1.0), None
    if part.kind in ("square", "maximum-length"):
        values = _square(part, signal.sample_rate_hz) if part.kind == "square" else _sequence(part.bits or 2, count)
        # Always plus or minus one, so that its rms is one.
        return Scaled(ByPlace(values), peak / np.sqrt(2)), None
    return ByPlace(_by_place(part, signal.sample_rate_hz, count, peak)), None


def _survey(part: Part, rate: float, peak: float) -> Source:
    """A recording that comes with Combe, over and over; its level is that of its full scale."""
    if part.name == "roost":
        return Scaled(ByPlace(lambda n: roost_values(n, rate)), peak)
    night = night_values(rate)
    return Scaled(ByPlace(lambda n: night[n.astype(np.int64) % len(night)]), peak)


def _by_place(part: Part, rate: float, count: int, peak: float) -> Callable[[Array], Array]:
    phase = np.deg2rad(part.phase_deg or 0.0)
    at = part.at or 0
    if part.kind == "impulse":
        return lambda n: np.where(n == at, peak, 0.0)
    if part.kind == "step":
        return lambda n: np.where(n >= at, peak, 0.0)
    if part.kind == "sine":
        # The turns as a fraction of one, so that the millionth period is as exact as the first.
        return lambda n: np.asarray(peak * np.sin(2 * np.pi * ((n * (part.hz or 0.0) / rate) % 1.0) + phase))
    return lambda n: np.asarray(peak * np.sin(_chirp_phase(part, n / rate, count / rate) + phase))


def _square(part: Part, rate: float) -> Callable[[Array], Array]:
    turn = (part.phase_deg or 0.0) / 360
    return lambda n: np.where((n * (part.hz or 0.0) / rate + turn) % 1.0 < 0.5, 1.0, -1.0)


def _sequence(bits: int, count: int) -> Callable[[Array], Array]:
    period = 1 - 2 * register_bits(bits, min(count, (1 << bits) - 1))
    return lambda n: period[n.astype(np.int64) % len(period)].astype(np.float64)


def _rms(source: Source, count: int) -> float:
    total = 0.0
    for first in range(0, count, PIECE):
        values = source.take(min(PIECE, count - first))
        total += float(np.sum(values**2))
    return float(np.sqrt(total / count))


def _at_level(values: Array, peak: float) -> Array:
    """Scaled so that √2 times the rms over the whole signal is the level asked."""
    rms = float(np.sqrt(np.mean(values**2)))
    return np.asarray(values * (peak / np.sqrt(2) / rms)) if rms else values


def _chirp_phase(part: Part, time: Array, length: float) -> Array:
    start, stop = part.start_hz or 0.0, part.stop_hz or 0.0
    if part.law == "logarithmic" and start != stop:
        growth = np.log(stop / start) / length
        return np.asarray(2 * np.pi * start * np.expm1(growth * time) / growth)
    return np.asarray(2 * np.pi * (start * time + (stop - start) * time**2 / (2 * length)))
