"""The bit-true run: exactly what the generated code computes, sample by sample."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.errors import FormatError
from combe.filters import Filter
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.program import stages_program
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, TapSum
from combe.responses.time import filtered
from combe.running.run import is_worth_compiling, requantized_integer, run_program

Integers = NDArray[Any]
Array = NDArray[np.float64]
EXACT_IN_DOUBLE = 1 << 53


def simulate(realization: Realization, samples: Integers) -> Integers:
    """Raw output integers for raw input integers, all state zero before the first.

    Parameters
    ----------
    samples
        One-dimensional; ``int64``, or Python integers for formats wider than 63 bits.

    Raises
    ------
    FormatError
        At the first sample outside the input format.
    """
    signal = check_samples(samples, realization.input)
    for stage, source in zip(realization.stages, realization.formats()):
        if isinstance(stage, TapSum):
            signal = _tap_sum(stage, source, signal)
        elif isinstance(stage, Section):
            signal = _section(stage, source, signal)
        elif isinstance(stage, Network):
            signal = run_program(stages_program((stage,), source), signal, False).output
        else:
            signal = requantized(stage, signal)
    return signal


def ideal_run(source: Filter, realization: Realization, samples: Integers) -> Array:
    """The unrounded filter on the same samples, in steps of the output format."""
    signal = check_samples(samples, realization.input)
    if len(signal) == 0:
        return np.zeros(0)
    scale = 2.0 ** (realization.output.fraction - realization.input.fraction)
    return filtered(source, signal.astype(np.float64)) * scale


def check_samples(samples: Integers, entry: Format) -> Integers:
    """The samples as integers, each within the format."""
    signal = np.asarray(samples)
    if signal.size == 0:
        return np.zeros(0, dtype=np.int64)
    outside = np.flatnonzero((signal < entry.least) | (signal > entry.most))
    if len(outside):
        first = int(outside[0])
        what = f"sample {first + 1} is {int(signal[first])}, outside {entry}"
        raise FormatError(what, "input", f"it holds {entry.least} to {entry.most}")
    return signal if signal.dtype == np.dtype(object) else signal.astype(np.int64)


def _tap_sum(stage: TapSum, source: Format, signal: Integers) -> Integers:
    if len(signal) == 0:
        return signal
    least, most = stage.span(source)
    count = len(signal)
    if max(-least, most) < EXACT_IN_DOUBLE:
        # Every partial sum is an integer that a double holds exactly, in whatever order they are added.
        taps = np.array(stage.coefficients, dtype=np.float64)
        return np.convolve(signal.astype(np.float64), taps)[:count].astype(np.int64)
    if stage.accumulator.bits <= 64 and source.bits <= 63 and stage.coefficient.bits <= 64:
        return np.convolve(signal.astype(np.int64), np.array(stage.coefficients, dtype=np.int64))[:count]
    taps = np.array(stage.coefficients, dtype=object)
    return np.convolve(signal.astype(object), taps)[:count]


def _section(stage: Section, source: Format, signal: Integers) -> Integers:
    """Sample by sample, for what comes out goes back in; a compiled loop where 62 bits hold every sum."""
    if is_worth_compiling(len(signal)) and _fits_compiled(stage, source, signal):
        from combe.running.compiled import run_section

        return run_section(stage, source, signal)
    u, v = stage.shifts(source)
    b0, b1, b2 = (value << u for value in stage.b)
    a1, a2 = (value << v for value in stage.a)
    last = Requantize(stage.accumulator, stage.result, stage.rounding, stage.overflow)
    x1 = x2 = y1 = y2 = 0
    found = []
    for x in signal.tolist():
        y = requantized_integer(last, b0 * x + b1 * x1 + b2 * x2 - a1 * y1 - a2 * y2)
        x2, x1, y2, y1 = x1, x, y1, y
        found.append(y)
    wide = stage.result.bits > 63
    return np.array(found, dtype=object if wide else np.int64)


def _fits_compiled(stage: Section, source: Format, signal: Integers) -> bool:
    shift = stage.accumulator.fraction - stage.result.fraction
    return signal.dtype == np.int64 and stage.accumulator.bits <= 62 and source.bits <= 62 and 0 <= shift <= 61


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
