"""A modulated carrier and its receiver: symbols as root-raised-cosine pulses, and how far they arrive from where they were."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.signals.spec import Part

Array = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
SPAN, SHORTER, ENOUGH = 48, (48, 24, 12), 64
"""Symbols to either side over which a pulse is not taken as zero; a receiver takes fewer where too few symbols are left
in the middle of a short signal."""
USUAL_ROLLOFF = 0.25
NEAR = 1e-3
"""So near to a place where the pulse's formula divides by nothing it is worked out with care."""
LEAST_SYMBOLS, TIMED_SYMBOLS, MOST_SYMBOLS = 8, 200, 4000
"""At least so many, so many to find the timing by, and so many for the figure itself."""


class Modulated(Struct, frozen=True, eq=False):
    """What was sent: the symbols, when they stand, and the signal they make."""

    symbols: ComplexArray
    first: int
    samples_per_symbol: float
    carrier: float
    rolloff: float
    values: Array

    def times(self) -> Array:
        """When each symbol stands, in samples."""
        return np.asarray((np.arange(len(self.symbols)) + self.first) * self.samples_per_symbol)


def constellation(points: int) -> ComplexArray:
    """A grid of so many points (a power of two) of mean power 1: as square as it can be."""
    bits = points.bit_length() - 1
    wide, high = 1 << ((bits + 1) // 2), 1 << (bits // 2)
    grid = (2 * np.arange(wide) - wide + 1)[None, :] + 1j * (2 * np.arange(high) - high + 1)[:, None]
    flat = grid.ravel()
    return np.asarray(flat / np.sqrt(np.mean(np.abs(flat) ** 2)))


def pulse(time: Array, rolloff: float) -> Array:
    """The root-raised-cosine pulse at times in symbols, of energy 1 a symbol (Proakis, chapter 9); zero beyond its span."""
    t = np.asarray(time, dtype=np.float64)
    with np.errstate(divide="ignore", invalid="ignore"):
        bottom = np.pi * t * (1 - (4 * rolloff * t) ** 2)
        found = (np.sin(np.pi * t * (1 - rolloff)) + 4 * rolloff * t * np.cos(np.pi * t * (1 + rolloff))) / bottom
    found = np.where(np.abs(t) < 1e-9, 1 - rolloff + 4 * rolloff / np.pi, found)
    if rolloff:
        quarter = np.pi / (4 * rolloff)
        corner = rolloff / np.sqrt(2) * ((1 + 2 / np.pi) * np.sin(quarter) + (1 - 2 / np.pi) * np.cos(quarter))
        found = np.where(np.abs(np.abs(4 * rolloff * t) - 1) < 1e-7, corner, found)
    return np.asarray(np.where(np.abs(t) <= SPAN, found, 0.0))


def _pulses(starts: Array, steps: Array, rolloff: float) -> Array:
    """``pulse`` at each start plus each step, a row for each start: sines of sums are sums of products, so that only the
    starts and the steps themselves need a sine."""
    slow, fast = np.pi * (1 - rolloff), np.pi * (1 + rolloff)
    rows = np.column_stack([np.sin(slow * starts), np.cos(slow * starts)])
    top = rows @ np.vstack([np.cos(slow * steps), np.sin(slow * steps)])
    t = starts[:, None] + steps[None, :]
    u = 4 * rolloff * t
    rows = np.column_stack([np.cos(fast * starts), -np.sin(fast * starts)])
    top += u * (rows @ np.vstack([np.cos(fast * steps), np.sin(fast * steps)]))
    with np.errstate(divide="ignore", invalid="ignore"):
        top /= np.pi * t * (1 - u * u)
    # Where the quotient is of nearly nothing by nearly nothing, as it is elsewhere.
    near = (np.abs(t) < NEAR) | (np.abs(np.abs(u) - 1) < NEAR)
    top[near] = pulse(t[near], rolloff)
    top[np.abs(t) > SPAN] = 0.0
    return np.asarray(top)


def modulated(part: Part, count: int, rate: float, random: np.random.RandomState) -> Modulated:
    """A carrier with random symbols over the whole signal, its level still to be set."""
    length = rate / (part.symbol_rate_hz or 1.0)
    rolloff = USUAL_ROLLOFF if part.rolloff is None else part.rolloff
    first = -SPAN
    total = int(np.ceil(count / length)) + 2 * SPAN
    points = constellation(part.points or 4)
    symbols = points[random.randint(0, len(points), total)]
    carrier = 2 * np.pi * (part.carrier_hz or 0.0) / rate
    base = np.zeros(count, dtype=np.complex128)
    reach = int(np.ceil(SPAN * length)) + 1
    for k, symbol in enumerate(symbols):
        at = (k + first) * length
        low, high = max(int(at) - reach, 0), min(int(at) + reach + 1, count)
        if low < high:
            base[low:high] += symbol * pulse(
                np.asarray((np.arange(low, high) - at) / length, dtype=np.float64), rolloff
            )
    values = np.real(base * np.exp(1j * carrier * np.arange(count)))
    return Modulated(symbols, first, length, carrier, rolloff, np.asarray(values))


def symbols(part: Part, count: int, random: np.random.RandomState) -> Modulated:
    """Random symbols of as many even levels, one a sample and no pulse around it: what a pulse shaper is fed with. A receiver
    behind it takes root-raised-cosine pulses."""
    levels = np.arange(part.points or 2) * 2.0 - (part.points or 2) + 1
    values = (levels / np.sqrt(np.mean(levels**2)))[random.randint(0, len(levels), count)]
    rolloff = USUAL_ROLLOFF if part.rolloff is None else part.rolloff
    return Modulated(values.astype(np.complex128), 0, 1.0, 0.0, rolloff, values)


class Received(Struct, frozen=True, eq=False):
    """Symbols as they were sent, and as they arrived: matched filter, best gain, phase and timing taken out."""

    wanted: ComplexArray
    found: ComplexArray

    @property
    def error_db(self) -> float:
        """Rms error vector over rms reference."""
        share = np.sqrt(np.mean(np.abs(self.found - self.wanted) ** 2) / np.mean(np.abs(self.wanted) ** 2))
        return float(20 * np.log10(max(float(share), 1e-20)))


def received(sent: Modulated, heard: Array, settled: int, delay: float) -> Received | None:
    """What a receiver makes of an output.

    ``delay`` is where the timing is looked for first, in samples. None where too few symbols lie within what has settled.
    """
    from scipy.optimize import minimize_scalar

    times = sent.times()
    span = 0
    for span in SHORTER:
        reach = span * sent.samples_per_symbol
        inside = (times - reach >= 0) & (times + delay - reach >= settled)
        inside &= times + delay + reach + 2 <= len(heard) - 1
        if np.count_nonzero(inside) >= ENOUGH:
            break
    if np.count_nonzero(inside) < LEAST_SYMBOLS:
        return None
    places = _some(np.flatnonzero(inside), MOST_SYMBOLS)
    turned = heard * np.exp(-1j * sent.carrier * np.arange(len(heard)))

    def arrived(shift: float, among: NDArray[np.intp], span: int = span) -> Received:
        wanted = sent.symbols[among] if sent.carrier else np.real(sent.symbols[among]).astype(np.complex128)
        found = _matched(turned, times[among] + delay + shift, sent, span)
        gain = np.vdot(wanted, found) / np.vdot(wanted, wanted)
        return Received(wanted, found / gain if abs(gain) > 0 else np.full(len(found), np.inf + 0j))

    def error(shift: float, among: NDArray[np.intp], span: int = span) -> float:
        return arrived(shift, among, span).error_db

    half = max(1.0, sent.samples_per_symbol / 4)
    coarse = np.linspace(-half, half, 17)
    few = _some(places, TIMED_SYMBOLS)
    start = coarse[int(np.argmin([error(float(shift), few, SHORTER[-1]) for shift in coarse]))]
    step = coarse[1] - coarse[0]
    found = minimize_scalar(
        lambda shift: error(shift, few), bounds=(start - step, start + step), method="bounded", options={"xatol": 1e-5}
    )
    return arrived(float(found.x), places)


def _some(places: NDArray[np.intp], most: int) -> NDArray[np.intp]:
    """At most so many, spread evenly."""
    if len(places) <= most:
        return places
    return places[np.round(np.linspace(0, len(places) - 1, most)).astype(np.intp)]


def _matched(turned: ComplexArray, times: Array, sent: Modulated, span: int) -> ComplexArray:
    """The matched filter's output at the times of symbols."""
    length = sent.samples_per_symbol
    reach = int(np.ceil(span * length)) + 1
    offsets = np.arange(-reach, reach + 1)
    at = np.floor(times).astype(np.int64)[:, None] + offsets[None, :]
    weight = _pulses((np.floor(times) - times) / length, offsets / length, sent.rolloff)
    inside = (at >= 0) & (at < len(turned))
    return np.asarray(np.sum(turned[np.where(inside, at, 0)] * weight * inside, axis=1))
