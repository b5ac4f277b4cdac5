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
from combe.realization.cic import Cic
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.program import stages_program
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, TapSum
from combe.responses.time import through_section
from combe.running.phased import PhasedFlow
from combe.running.requantized import requantized
from combe.running.run import ProgramFlow, is_worth_compiling, requantized_integer

Integers = NDArray[Any]
Array = NDArray[np.float64]
EXACT_IN_DOUBLE = 1 << 53
MOST_ROWS = 1 << 15
"""Windows of samples gathered at a time."""


class Flow(Protocol):
    """Takes the next samples of a signal, gives as many."""

    def take(self, signal: NDArray[Any], /) -> NDArray[Any]:
        """The next outputs."""
        ...


PIECE = 1 << 15
"""Samples that go through all stages at a time."""


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
        if len(signal) <= 2 * PIECE:
            return self._through(signal)
        # Through all stages piece by piece, so that what one hands to the next is still in the processor's cache.
        return np.concatenate([self._through(signal[k : k + PIECE]) for k in range(0, len(signal), PIECE)])

    def _through(self, signal: Integers) -> Integers:
        if len(signal):
            for stage in self.stages:
                signal = stage.take(signal)
        return signal


def _stage_flow(stage: object, source: Format) -> Flow:
    if isinstance(stage, TapSum):
        return _RateFlow(stage, source) if stage.up > 1 or stage.down > 1 else _TapFlow(stage, source)
    if isinstance(stage, Cic):
        return _CicFlow(stage, source)
    if isinstance(stage, Section):
        return _SectionFlow(stage, source)
    if isinstance(stage, Network) and stage.phase is not None:
        return PhasedFlow(stage, source)
    if isinstance(stage, Network):
        flow = ProgramFlow(stages_program((stage,), source))
        return _NetworkRateFlow(stage, flow) if max(stage.up, stage.down) > 1 else flow
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


def _exact_kind(stage: TapSum, source: Format) -> Any:
    """Numbers in which a sum of taps is exact."""
    least, most = stage.span(source)
    if max(-least, most) < EXACT_IN_DOUBLE:
        # Every partial sum is an integer that a double holds exactly, in whatever order they are added.
        return np.float64
    if stage.accumulator.bits <= 64 and source.bits <= 63 and stage.coefficient.bits <= 64:
        return np.int64
    return object


class _TapFlow:
    """A sum of taps: the last samples of one piece stand before the next."""

    def __init__(self, stage: TapSum, source: Format) -> None:
        kind = _exact_kind(stage, source)
        self.is_double = kind is np.float64
        self.taps = np.array(stage.coefficients, dtype=kind)
        self.past = np.zeros(0, dtype=kind)

    def take(self, signal: Integers) -> Integers:
        found, self.past = _convolved(self.taps, self.past, signal.astype(self.taps.dtype))
        return found.astype(np.int64) if self.is_double else found


class _RateFlow:
    """Taps between stuffing and dropping: each output meets the taps of its phase and the samples there are."""

    def __init__(self, stage: TapSum, source: Format) -> None:
        kind = _exact_kind(stage, source)
        self.is_double = kind is np.float64
        self.change = Change(np.array(stage.coefficients, dtype=kind), stage.up, stage.down)

    def take(self, signal: Integers) -> Integers:
        found = self.change.take(signal.astype(self.change.phases.dtype))
        return found.astype(np.int64) if self.is_double else found


class Change:
    """y[m] = Σ taps[i]·u[m·down − i], u[k·up] = x[k], piece by piece, in whatever numbers the taps are."""

    def __init__(self, taps: NDArray[Any], up: int, down: int) -> None:
        self.up, self.down = up, down
        self.depth = -(-len(taps) // up)
        padded = np.zeros(self.depth * up, dtype=taps.dtype)
        padded[: len(taps)] = taps
        # Row p: the taps of phase p, oldest sample first.
        self.phases = padded.reshape(self.depth, up).T[:, ::-1]
        self.past = np.zeros(self.depth - 1, dtype=taps.dtype)
        self.ahead = 0
        """Where the next output stands, in stuffed samples from the next input."""

    def take(self, signal: NDArray[Any]) -> NDArray[Any]:
        """The next outputs."""
        every = np.concatenate([self.past, signal])
        spots = np.arange(self.ahead, len(signal) * self.up, self.down)
        found = np.zeros(len(spots), dtype=every.dtype)
        places, phases = spots // self.up, spots % self.up
        if len(spots):
            windows = np.lib.stride_tricks.sliding_window_view(every, self.depth)
            for phase in np.unique(phases).tolist():
                chosen = phases == phase
                rows = places[chosen]
                for begin in range(0, len(rows), MOST_ROWS):
                    part = windows[rows[begin : begin + MOST_ROWS]] @ self.phases[phase]
                    found[np.flatnonzero(chosen)[begin : begin + MOST_ROWS]] = part
        self.ahead += len(spots) * self.down - len(signal) * self.up
        self.past = every[len(every) - self.depth + 1 :].copy()
        return found


class _NetworkRateFlow:
    """A network between stuffing and dropping, as it is defined."""

    def __init__(self, stage: Network, flow: ProgramFlow) -> None:
        self.stage, self.flow = stage, flow
        self.ahead = 0

    def take(self, signal: Integers) -> Integers:
        if self.stage.up > 1:
            stuffed = np.zeros(len(signal) * self.stage.up, dtype=signal.dtype)
            stuffed[:: self.stage.up] = signal
            return self.flow.take(stuffed)
        kept = self.flow.take(signal)[self.ahead :: self.stage.down]
        self.ahead += len(kept) * self.stage.down - len(signal)
        return kept


class _CicFlow:
    """Integrators at the higher rate, combs at the lower, in whole numbers: modulo 2^64 where the outputs fit that, else as
    large as they get. What registers leave out is shifted out; the bits missing then on top are no longer looked at."""

    def __init__(self, stage: Cic, source: Format) -> None:
        self.stage = stage
        self.kind: Any = np.int64 if stage.accumulator.bits <= 64 and source.bits <= 63 else object
        self.shifts = stage.shifts
        self.totals: list[Any] = [0] * stage.order
        self.pasts = [np.zeros(stage.delay, dtype=self.kind) for _ in range(stage.order)]
        self.ahead = 0

    def take(self, signal: Integers) -> Integers:
        value = signal.astype(self.kind)
        with np.errstate(over="ignore"):
            if self.stage.up > 1:
                value = self._combs(value)
                stuffed = np.zeros(len(value) * self.stage.up, dtype=self.kind)
                stuffed[:: self.stage.up] = value
                return self._integrators(stuffed)
            value = self._integrators(value)
            spots = np.arange(self.ahead, len(value), self.stage.down)
            self.ahead += len(spots) * self.stage.down - len(value)
            found = self._combs(value[spots])
            if not self.stage.discarded:
                return found
            whole = found << self.stage.discarded[-1]
            return whole if self.kind is np.int64 else np.array([self._wrapped(one) for one in whole], dtype=object)

    def _integrators(self, value: Integers) -> Integers:
        for index, total in enumerate(self.totals):
            if len(value):
                value = np.cumsum(value >> self.shifts[index], dtype=self.kind) + total
                self.totals[index] = self._wrapped(value[-1])
        return value if self.kind is np.int64 else np.array([self._wrapped(one) for one in value], dtype=object)

    def _combs(self, value: Integers) -> Integers:
        for index, past in enumerate(self.pasts):
            every = np.concatenate([past, value >> self.shifts[self.stage.order + index]])
            value = every[self.stage.delay :] - every[: len(every) - self.stage.delay]
            self.pasts[index] = every[len(every) - self.stage.delay :].copy()
        return value if self.kind is np.int64 else np.array([self._wrapped(one) for one in value], dtype=object)

    def _wrapped(self, value: Any) -> Any:
        """Modulo 2^bits, which loses nothing of an output."""
        if self.kind is np.int64:
            return value
        entry = self.stage.accumulator
        return (value - entry.least) % (1 << entry.bits) + entry.least


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


class ExactFlow:
    """A filter in floating point, on a signal that comes piece by piece; with a ratio of rates the prototype of such a change."""

    def __init__(self, source: Filter, ratio: tuple[int, int] = (1, 1)) -> None:
        self.change: Change | None = None
        if ratio != (1, 1):
            if not isinstance(source, Fir):
                raise FormatError("only taps change the rate", "design", "give a design of taps")
            # All stages in a row are their prototype between stuffing once and dropping once (the noble identities).
            self.change = Change(source.array * ratio[0], *ratio)
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
        if self.change is not None:
            return np.asarray(self.change.take(signal), dtype=np.float64)
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
