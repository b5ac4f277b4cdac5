"""A signal through the board: codes in, codes out, what came too late, what an offset or a change of coefficients did."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable
from contextlib import ExitStack
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.benching.board.schedule import MOST_BLOCK, Pace, Schedule, played_times, read_times, samples_read, schedule
from combe.delivery.c import c_package
from combe.delivery.c.codes import codes_of, unlimited_codes, values_of
from combe.delivery.code_choices import CodeChoices, Converter, converter_from
from combe.errors import FormatError, ToolError
from combe.proof.runners import BitTrue, Runner
from combe.proof.runners.compiled import Compiled
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, TapSum
from combe.requirement.quantities import short
from combe.signals.make import Player, whole
from combe.signals.spec import Signal

Integers = NDArray[np.int64]
THROUGH = ("code", "bit-true")
MOST_ON_BOARD = 2_000_000
MOST_CYCLES = 1e9
WORTH_TELLING = 0.01
"""The share of outputs at an end of the converter from which on it is told."""
AROUND = 8
"""A change is held against what so many times the filter's length around it does by itself."""


class Change(Struct, frozen=True):
    """Other coefficients from a sample on; with ``fade`` both filters run for so long and one gives way to the other."""

    realization: Realization
    at: int
    fade: int = 0


class Click(Struct, frozen=True):
    """The largest step between neighbouring outputs at a change, and the largest around it, in steps of the output."""

    at: int
    step: int
    usual: int
    remedy_fade: int

    @property
    def is_heard(self) -> bool:
        """Whether the change stands out of the signal."""
        return self.step > 1.5 * self.usual

    def told(self) -> str:
        """In words."""
        return f"neighbours differ by {self.step} steps, elsewhere by {self.usual} at most"

    def sentence(self) -> str:
        """The same, with what would mend it."""
        words = f"at the change {self.told()}"
        if self.is_heard:
            words += f": a click. Let both filters run over {self.remedy_fade} samples while one gives way to the other"
        return words


class BoardRun(Struct, frozen=True, eq=False):
    """All that was seen. ``inputs`` and ``outputs`` are converter codes, an output for every input; ``sources`` says
    which block each output was meant for, or -1 before the first has come."""

    pace: Pace
    converters: tuple[Converter, Converter]
    schedule: Schedule
    inputs: Integers
    outputs: Integers
    sources: Integers
    late: tuple[int, ...]
    """Blocks some of whose outputs came after the converter had passed, or that were never worked on."""
    slack_s: float
    overwritten: int
    """Samples that newer ones had come over before they were read."""
    clipped_inputs: int
    clipped_outputs: int
    click: Click | None
    remedies: tuple[str, ...]
    runner: str

    @property
    def stale(self) -> int:
        """Outputs that were heard again, for nothing newer was there."""
        meant = np.arange(len(self.outputs)) // self.pace.block - 2
        return int(np.count_nonzero((self.sources != meant) & (meant >= 0)))

    @property
    def delay_samples(self) -> int:
        """From the input converter to the output's, the filter's own delay not counted."""
        return 2 * self.pace.block

    def document(self) -> dict[str, Any]:
        """As ``combe board --json`` prints it."""
        pace = self.pace
        found: dict[str, Any] = {
            "format": "combe-board-run", "version": 1, "sample_rate_hz": pace.sample_rate_hz, "samples": len(self.inputs),
            "block": pace.block, "clock_hz": pace.clock_hz, "cycles_per_sample": pace.cycles_per_sample,
            "cycles_per_interrupt": pace.cycles_per_interrupt, "load": pace.load, "interrupts": len(self.schedule.served),
            "lost_blocks": list(self.schedule.lost), "late_blocks": list(self.late), "slack_s": self.slack_s,
            "stale_outputs": self.stale, "overwritten_inputs": self.overwritten, "delay_samples": self.delay_samples,
            "delay_s": self.delay_samples / pace.sample_rate_hz, "clipped_inputs": self.clipped_inputs,
            "clipped_outputs": self.clipped_outputs, "through": self.runner,
        }  # fmt: skip
        if self.click is not None:
            found["change"] = {
                "at": self.click.at, "largest_step": self.click.step, "usual_step": self.click.usual,
                "is_heard": self.click.is_heard,
            }  # fmt: skip
        return found | {"remedies": list(self.remedies)}


class _Write(Struct, frozen=True, eq=False):
    """What a block's work puts into its half, and when."""

    block: int
    times: NDArray[np.float64]
    values: Integers


def run_board(
    realization: Realization,
    signal: Signal,
    pace: Pace,
    runner: Runner,
    converter_in: str = "12",
    converter_out: str = "",
    change: Change | None = None,
    other: Runner | None = None,
) -> BoardRun:
    """A signal through the board.

    Parameters
    ----------
    runner
        What runs the filter, and ``other`` what runs the filter it changes to: raw integers in, raw integers out.
    converter_in, converter_out
        Bits, and the code the program takes for zero: ``12`` (the middle) or ``12@0``.

    Raises
    ------
    CombeError
        If the signal, a converter or a change doesn't go with the filter.
    """
    choices = CodeChoices(converter_in=converter_in, converter_out=converter_out or converter_in)
    entry, result = converter_from(converter_in, "converter_in"), converter_from(choices.converter_out, "converter_out")
    if realization.changes_rate:
        raise FormatError("the board has one clock for both converters", "realization", "take a filter of one rate")
    _check(realization, pace, change)
    # The converter itself stands in the middle of its codes at no voltage, whatever the program believes.
    player = Player(signal, Format(True, entry.bits, entry.bits - 1))
    if player.count > MOST_ON_BOARD:
        raise FormatError(f"{player.count:,} samples are too many", "samples", f"up to {MOST_ON_BOARD:,} are taken")
    made = whole(player)
    codes = np.asarray(made.raw + (1 << (entry.bits - 1)), dtype=np.int64)
    plan = schedule(pace, len(codes) // pace.block)
    found = [samples_read(pace, each, len(codes)) for each in plan.served]
    read = np.concatenate(found) if found else np.zeros(0, dtype=np.int64)
    own = np.concatenate([each.block * pace.block + np.arange(pace.block) for each in plan.served] or [read])
    values = values_of(realization, choices, codes[read])
    raw = np.asarray(runner.run(values), dtype=np.int64)
    click = None
    if change is not None and other is not None:
        raw, click = _changed(raw, np.asarray(other.run(values), dtype=np.int64), change, realization)
    unlimited = unlimited_codes(realization, choices, raw)
    outputs, sources, late, slack = _played(pace, plan, codes_of(realization, choices, raw), len(codes), result)
    clipped = int(np.count_nonzero((unlimited < 0) | (unlimited > result.most)))
    return BoardRun(
        pace, (entry, result), plan, codes, outputs, sources, late, slack, int(np.count_nonzero(read != own)), made.clipped,
        clipped, click, _remedies(pace, plan, late, unlimited, result, click, made.clipped, len(codes)), runner.name,
    )  # fmt: skip


def _check(realization: Realization, pace: Pace, change: Change | None) -> None:
    if not 1 <= pace.block <= MOST_BLOCK:
        raise FormatError(f"a block of {pace.block} is out of reach", "block", f"take 1 to {MOST_BLOCK:,}")
    for where, cycles, least in (
        ("cycles", pace.cycles_per_sample, 1e-3),
        ("interrupt", pace.cycles_per_interrupt, 0.0),
    ):
        if not (math.isfinite(cycles) and least <= cycles <= MOST_CYCLES):
            raise FormatError(f"{cycles:g} cycles are out of reach", where, f"take {least:g} to {MOST_CYCLES:g}")
    if not 1e3 <= pace.clock_hz <= 1e11:
        raise FormatError(f"a clock of {pace.clock_hz:g} Hz is out of reach", "clock", "it runs from 1 kHz to 100 GHz")
    if change is None:
        return
    made = change.realization
    for one in (realization, made):
        if any(not isinstance(stage, (TapSum, Requantize)) for stage in one.stages):
            what = "coefficients can be changed while they run in filters of taps only"
            raise FormatError(what, "change", "a state belongs to the coefficients it was made with")
    if (made.input, made.output, made.sample_rate_hz) != (
        realization.input,
        realization.output,
        realization.sample_rate_hz,
    ):
        what = f"the other filter takes {made.input} and gives {made.output} at {made.sample_rate_hz:g} Hz"
        raise FormatError(what, "change", f"it has to take {realization.input} and give {realization.output}, too")
    if change.fade < 0 or change.at < 0:
        raise FormatError("a change begins at a sample, and fades over so many", "change", "take numbers from 0 on")


def _changed(before: Integers, after: Integers, change: Change, realization: Realization) -> tuple[Integers, Click]:
    """One filter's outputs up to the change, the other's from there on: both have seen all the inputs, as a history of
    inputs has that is left in place."""
    at = min(change.at, len(before))
    place = np.arange(len(before)) - at
    share = np.clip(place + 1, 0, change.fade + 1)
    mixed = before + ((after - before) * share) // (change.fade + 1)
    length = max((len(stage.coefficients) for stage in realization.stages if isinstance(stage, TapSum)), default=1)
    reach = AROUND * max(length, 16)

    def largest(values: Integers, low: int, high: int) -> int:
        part = values[max(low, 0) : max(high, 0)]
        return int(np.max(np.abs(np.diff(part)), initial=0))

    usual = max(largest(before, at - reach, at), largest(after, at, at + reach))
    step = largest(mixed, at - 1, at + change.fade + 2)
    return mixed, Click(at, step, usual, max(64, length))


def _played(
    pace: Pace, plan: Schedule, codes: Integers, count: int, result: Converter
) -> tuple[Integers, Integers, tuple[int, ...], float]:
    """What the output converter finds in its buffer as it comes round, which block put it there, the blocks that came too
    late, and the least time left."""
    blocks = count // pace.block
    held = np.full((2, pace.block), min(result.offset, result.most), dtype=np.int64)
    owner = np.full((2, pace.block), -1, dtype=np.int64)
    coming: tuple[deque[_Write], deque[_Write]] = (deque(), deque())
    late = set(plan.lost)
    slack = float("inf")
    for number, each in enumerate(plan.served):
        done = read_times(pace, each) + pace.cycles_per_sample / pace.clock_hz
        left = float(np.min(played_times(pace, each.block) - done))
        slack = min(slack, left)
        if left < 0:
            late.add(each.block)
        values = codes[number * pace.block : (number + 1) * pace.block]
        coming[each.block % 2].append(_Write(each.block, done, values))
    outputs, sources = np.empty(count, dtype=np.int64), np.empty(count, dtype=np.int64)
    begun: list[list[_Write]] = [[], []]
    for turn in range(blocks + (count % pace.block > 0)):
        half, times = turn % 2, played_times(pace, turn - 2)
        while coming[half] and coming[half][0].times[0] <= times[-1]:
            begun[half].append(coming[half].popleft())
        for write in begun[half]:
            now = write.times <= times
            held[half][now], owner[half][now] = write.values[now], write.block
        begun[half] = [write for write in begun[half] if np.any(write.times > times)]
        part = slice(turn * pace.block, min((turn + 1) * pace.block, count))
        outputs[part], sources[part] = held[half][: part.stop - part.start], owner[half][: part.stop - part.start]
    return outputs, sources, tuple(sorted(late)), slack if plan.served else 0.0


def _remedies(
    pace: Pace, plan: Schedule, late: tuple[int, ...], unlimited: Integers, result: Converter, click: Click | None,
    clipped_inputs: int, count: int,
) -> tuple[str, ...]:  # fmt: skip
    """What is wrong, each with what would mend it."""
    found = []
    if late or pace.load > 1:
        need = pace.load * pace.clock_hz
        blocks = len(plan.served) + len(plan.lost)
        what = f"{len(late)} of {blocks} blocks come too late" if late else "each block takes longer than it lasts"
        what += f": {100 * pace.load:.0f} % of the clock is asked for"
        bare = pace.sample_rate_hz * pace.cycles_per_sample
        longer = bare < pace.clock_hz and pace.cycles_per_interrupt > pace.block * pace.cycles_per_sample
        how = (
            "longer blocks share an interrupt among more samples"
            if longer
            else f"{short(need / 1e6, 4)} MHz would do it"
        )
        found.append(f"{what}; {how}")
    low, high = np.count_nonzero(unlimited < 0), np.count_nonzero(unlimited > result.most)
    if max(low, high) > WORTH_TELLING * max(len(unlimited), 1):
        share, end = (low, 0) if low >= high else (high, result.most)
        middle = 1 << (result.bits - 1)
        what = f"{100 * share / len(unlimited):.0f} % of the outputs stand at code {end}"
        spread = int(unlimited.max()) - int(unlimited.min())
        if result.offset != middle and spread <= result.most:
            found.append(f"{what}, for the output's zero is code {result.offset}; write {result.bits}@{middle}")
        else:
            found.append(f"{what}; leave room above the signal, or take a converter of more bits")
    if clipped_inputs > WORTH_TELLING * count:
        found.append(f"{clipped_inputs:,} of {count:,} samples are beyond the input converter; lower the signal")
    if click is not None and click.is_heard:
        found.append(click.sentence())
    return tuple(found)


def runner_of(
    realization: Realization, through: str, stack: ExitStack, say: Callable[[str], None] = lambda _: None
) -> Runner:
    """What runs the filter: the generated C, compiled and kept until the stack ends, or the bit-true model; the model too
    where there is no compiler, which is said.

    Raises
    ------
    CombeError
        If it's neither, or the code can't be written.
    """
    if through not in THROUGH:
        raise FormatError(f'"{through}" is nothing a board runs', "through", f"known are {', '.join(THROUGH)}")
    if through == "bit-true":
        return BitTrue(realization)
    try:
        program = stack.enter_context(Compiled(c_package(realization, "filter_on_board"), realization))
    except ToolError as error:
        say(f"{error.sentence()}; the bit-true model runs instead")
        return BitTrue(realization)
    say("compiling")
    program.build()
    return program
