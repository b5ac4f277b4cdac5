"""Any program, run sample by sample in exact integers, with a count of what overflows."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.realization.program import Program, Step
from combe.realization.stages import Requantize

if TYPE_CHECKING:
    from combe.running.compiled import CompiledSteps

Integers = NDArray[Any]
COMPILED_FROM, LOADED_FROM = 20_000, 500
"""Signals longer than this are worth the time a compiled loop takes to load; than this, once it is there."""


def is_worth_compiling(samples: int) -> bool:
    """Whether a signal is long enough for the compiled loops."""
    return samples > (LOADED_FROM if "combe.running.compiled" in sys.modules else COMPILED_FROM)


class Run(Struct, frozen=True, eq=False):
    """The output, and for every step how often it left its range and the least and largest raw result."""

    output: Integers
    overflows: tuple[int, ...]
    least: tuple[int, ...]
    most: tuple[int, ...]


def run_program(program: Program, signal: Integers, watch: bool = True) -> Run:
    """All state zero before the first sample. Signals must lie within the input format. Without ``watch`` extremes may be
    left out."""
    return ProgramFlow(program).run(signal, watch)


def fits_compiled(program: Program) -> bool:
    """Whether 62 bits hold everything the program computes."""
    widths = [program.input.bits] + [max(step.accumulator.bits, step.result.bits) for step in program.steps]
    shifts = [step.shift for step in program.steps]
    most = max((step.accumulator.bits - min(step.shift, 0) for step in program.steps), default=0)
    return max(widths) <= 62 and most <= 62 and max(shifts, default=0) <= 61


class ProgramFlow:
    """A program with its past, so that a signal may come piece by piece; the first piece decides whether a compiled loop
    is worth it."""

    def __init__(self, program: Program) -> None:
        self.program = program
        self.loop: CompiledSteps | _Plain | None = None

    def take(self, signal: Integers) -> Integers:
        """The next outputs."""
        return self.run(signal, False).output

    def run(self, signal: Integers, watch: bool) -> Run:
        """The next outputs, with what each step did on the way."""
        if self.loop is None:
            if is_worth_compiling(len(signal)) and fits_compiled(self.program) and signal.dtype == np.int64:
                from combe.running.compiled import CompiledSteps

                self.loop = CompiledSteps(self.program)
            else:
                self.loop = _Plain(self.program)
        if isinstance(self.loop, _Plain):
            return self.loop.run(signal)
        output, counts = self.loop.take(signal, watch)
        overflows, least, most = (tuple(int(value) for value in counts[:, k]) for k in range(3))
        return Run(output, overflows, least, most)


class _Plain:
    """The definition: history newest first, one sum after the other."""

    def __init__(self, program: Program) -> None:
        self.program = program
        depth, count = program.longest_delay, len(program.steps)
        self.values = [[0] * (depth + 1) for _ in range(count + 1)]
        self.rests = [[0] * (depth + 1) for _ in range(count + 1)]

    def run(self, signal: Integers) -> Run:
        """The next outputs."""
        program, values, rests = self.program, self.values, self.rests
        count = len(program.steps)
        overflows, least, most = [0] * count, [0] * count, [0] * count
        found: list[int] = []
        for x in signal.tolist():
            for history in (*values, *rests):
                history.insert(0, 0)
                history.pop()
            values[0][0] = x
            for index, step in enumerate(program.steps):
                total = 0
                for p in step.terms:
                    total += p.coefficient * (rests if p.is_rest else values)[p.signal][p.delay]
                result, rest, is_over = rounded_step(step, total)
                values[index + 1][0], rests[index + 1][0] = result, rest
                overflows[index] += is_over
                least[index], most[index] = min(least[index], result), max(most[index], result)
            found.append(values[program.output][0])
        is_wide = any(not -(1 << 63) <= value < 1 << 63 for value in found)
        output = np.array(found, dtype=object if is_wide else np.int64)
        return Run(output, tuple(overflows), tuple(least), tuple(most))


def rounded_step(step: Step, total: int) -> tuple[int, int, bool]:
    """A sum brought into its result; what rounding cut off, in steps of the sum; whether it left the range."""
    value = rounded_integer(total, step.shift, step.rounding)
    rest = total - (value << step.shift) if step.shift > 0 else 0
    limited = brought(value, step.result.least, step.result.most, step.result.bits, step.overflow)
    return limited, rest, limited != value


def requantized_integer(stage: Requantize, raw: int) -> int:
    """One value in exact integers: the definition that everything else is held against."""
    value = rounded_integer(raw, stage.source.fraction - stage.target.fraction, stage.rounding)
    return brought(value, stage.target.least, stage.target.most, stage.target.bits, stage.overflow)


def rounded_integer(raw: int, shift: int, rounding: str) -> int:
    """raw·2^(−shift), rounded to an integer."""
    if shift <= 0:
        return raw << -shift
    value, rest, half = raw >> shift, raw & ((1 << shift) - 1), 1 << (shift - 1)
    if rounding == "nearest-even":
        value += rest > half or (rest == half and value & 1 == 1)
    elif rounding == "nearest-up":
        value += rest >= half
    elif rounding == "toward-zero":
        value += rest != 0 and value < 0
    return value


def brought(value: int, least: int, most: int, bits: int, overflow: str) -> int:
    """A value saturated or wrapped into a range."""
    if overflow == "saturate":
        return min(max(value, least), most)
    return (value - least) % (1 << bits) + least
