"""Signals that come piece by piece: each flow keeps what the next piece needs of those before it.

A whole signal is a single piece, so that there is one definition of the bit-true run, and lengths of pieces can't change it.
"""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from combe.errors import FormatError
from combe.filters import Cascade as Sections
from combe.filters import Filter, Fir, rational_of, sections_of
from combe.filters.gathered import taps_and_sections
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.program import stages_program
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, TapSum
from combe.responses.time import through_section
from combe.running.run import ProgramFlow, is_worth_compiling, requantized_integer

Integers = NDArray[Any]
Array = NDArray[np.float64]
EXACT_IN_DOUBLE = 1 << 53


class Flow(Protocol):
    """Takes the next samples of a signal, gives as many."""

    def take(self, signal: NDArray[Any], /) -> NDArray[Any]:
        """The next outputs."""
        ...


class BitTrueFlow:
    """The integer program on raw samples that come piece by piece, all state zero before the first."""

    def __init__(self, realization: Realization) -> None:
        self.entry = realization.input
        self.stages = [_stage_flow(stage, source) for stage, source in zip(realization.stages, realization.formats())]
        self.taken = 0

    def take(self, samples: Integers) -> Integers:
        """The next raw outputs.

        Raises
        ------
        FormatError
            At the first sample outside the input format.
        """
        signal = check_samples(samples, self.entry, self.taken)
        self.taken += len(signal)
        if len(signal) == 0:
            return signal
        for stage in self.stages:
            signal = stage.take(signal)
        return signal


def _stage_flow(stage: object, source: Format) -> Flow:
    if isinstance(stage, TapSum):
        return _TapFlow(stage, source)
    if isinstance(stage, Section):
        return _SectionFlow(stage, source)
    if isinstance(stage, Network):
        return ProgramFlow(stages_program((stage,), source))
    assert isinstance(stage, Requantize)
    return _RoundingFlow(stage)


def check_samples(samples: Integers, entry: Format, before: int = 0) -> Integers:
    """The samples as integers, each within the format; ``before`` is how many came before them."""
    signal = np.asarray(samples)
    if signal.size == 0:
        return np.zeros(0, dtype=np.int64)
    outside = np.flatnonzero((signal < entry.least) | (signal > entry.most))
    if len(outside):
        first = int(outside[0])
        what = f"sample {before + first + 1} is {int(signal[first])}, outside {entry}"
        raise FormatError(what, "input", f"it holds {entry.least} to {entry.most}")
    return signal if signal.dtype == np.dtype(object) else signal.astype(np.int64)


class _TapFlow:
    """A sum of taps: the last samples of one piece stand before the next."""

    def __init__(self, stage: TapSum, source: Format) -> None:
        least, most = stage.span(source)
        self.is_double = max(-least, most) < EXACT_IN_DOUBLE
        if self.is_double:
            # Every partial sum is an integer that a double holds exactly, in whatever order they are added.
            kind: Any = np.float64
        elif stage.accumulator.bits <= 64 and source.bits <= 63 and stage.coefficient.bits <= 64:
            kind = np.int64
        else:
            kind = object
        self.taps = np.array(stage.coefficients, dtype=kind)
        self.past = np.zeros(0, dtype=kind)

    def take(self, signal: Integers) -> Integers:
        found, self.past = _convolved(self.taps, self.past, signal.astype(self.taps.dtype))
        return found.astype(np.int64) if self.is_double else found


def _convolved(taps: NDArray[Any], past: NDArray[Any], signal: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
    """Outputs for a piece, and what the next needs of it."""
    every = np.concatenate([past, signal]) if len(past) else signal
    found = np.convolve(every, taps)[len(past) : len(every)]
    kept = min(len(taps) - 1, len(every))
    return found, every[len(every) - kept :].copy()


class _RoundingFlow:
    def __init__(self, stage: Requantize) -> None:
        self.stage = stage

    def take(self, signal: Integers) -> Integers:
        return requantized(self.stage, signal)


class _SectionFlow:
    """Sample by sample, for what comes out goes back in; a compiled loop where 62 bits hold every sum."""

    def __init__(self, stage: Section, source: Format) -> None:
        self.stage, self.source = stage, source
        u, v = stage.shifts(source)
        self.b = tuple(value << u for value in stage.b)
        self.a = tuple(value << v for value in stage.a)
        self.state = (0, 0, 0, 0)
        shift = stage.accumulator.fraction - stage.result.fraction
        self.fits = stage.accumulator.bits <= 62 and source.bits <= 62 and 0 <= shift <= 61

    def take(self, signal: Integers) -> Integers:
        stage = self.stage
        if is_worth_compiling(len(signal)) and self.fits and signal.dtype == np.int64:
            from combe.running.compiled import run_section

            found, self.state = run_section(stage, self.source, signal, self.state)
            return found
        (b0, b1, b2), (a1, a2) = self.b, self.a
        last = Requantize(stage.accumulator, stage.result, stage.rounding, stage.overflow)
        x1, x2, y1, y2 = self.state
        outputs = []
        for x in signal.tolist():
            y = requantized_integer(last, b0 * x + b1 * x1 + b2 * x2 - a1 * y1 - a2 * y2)
            x2, x1, y2, y1 = x1, x, y1, y
            outputs.append(y)
        self.state = (x1, x2, y1, y2)
        return np.array(outputs, dtype=object if stage.result.bits > 63 else np.int64)


def requantized(stage: Requantize, signal: Integers) -> Integers:
    """A whole signal from one format to another."""
    shift = stage.source.fraction - stage.target.fraction
    fits = stage.source.bits <= 62 and stage.target.bits <= 62
    if signal.dtype == np.dtype(object) or not (fits and 0 <= shift <= 62):
        raw = [requantized_integer(stage, int(value)) for value in signal]
        wide = any(not -(1 << 63) <= value < 1 << 63 for value in raw)
        return np.array(raw, dtype=object if wide else np.int64)
    value = _rounded(signal, shift, stage.rounding)
    if stage.overflow == "saturate":
        return np.clip(value, stage.target.least, stage.target.most)
    span = 1 << stage.target.bits
    return np.asarray((value - stage.target.least) % span + stage.target.least)


def _rounded(signal: Integers, shift: int, rounding: str) -> Integers:
    if shift == 0:
        return signal
    floor = signal >> shift
    rest = signal - (floor << shift)
    half = 1 << (shift - 1)
    if rounding == "nearest-even":
        return np.asarray(floor + ((rest > half) | ((rest == half) & (floor & 1 == 1))))
    if rounding == "nearest-up":
        return np.asarray(floor + (rest >= half))
    if rounding == "toward-zero":
        return np.asarray(floor + ((rest != 0) & (floor < 0)))
    return floor


class ExactFlow:
    """A filter in floating point, on a signal that comes piece by piece."""

    def __init__(self, source: Filter) -> None:
        self.past = np.zeros(0)
        self.sections = np.zeros((0, 5))
        self.gain = 1.0
        if isinstance(source, Fir):
            self.taps = source.array
        else:
            cascade = source if isinstance(source, Sections) else sections_of(rational_of(source))
            taps, cascade = taps_and_sections(cascade)
            self.taps = np.array(taps)
            self.gain = cascade.gain
            self.sections = np.array(cascade.sections, dtype=np.float64).reshape(-1, 5)
        self.state = np.zeros((len(self.sections), 2))

    def take(self, signal: Array) -> Array:
        """The next outputs."""
        if len(signal) == 0:
            return np.zeros(0)
        result = signal
        if len(self.taps):
            result, self.past = _convolved(self.taps, self.past, result)
        if self.gain != 1.0:
            result = result * self.gain
        if not len(self.sections):
            return np.asarray(result, dtype=np.float64)
        if is_worth_compiling(len(signal) * len(self.sections)):
            from combe.running.compiled import run_exact_sections

            return np.asarray(run_exact_sections(result, self.sections, self.state), dtype=np.float64)
        for index, section in enumerate(self.sections.tolist()):
            result, self.state[index] = through_section(result, section, tuple(self.state[index].tolist()))
        return result
