"""The bench: one signal through the exact filter, the rounded one, the bit-true model, compiled code, a simulated circuit
and moving averages, side by side."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.exact import exact_filter
from combe.benching.files import write_bench, write_while_running
from combe.benching.heard import Heard, Input, heard_of, input_of, tones_in
from combe.benching.long import LongBench, averages
from combe.benching.nodes import NodeUse, node_values, nodes_of
from combe.benching.setup import TOOLS
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.languages import Order, language_named
from combe.delivery.package import Package
from combe.errors import FileError, FormatError, ToolError
from combe.filters import Filter
from combe.ledger import Line
from combe.proof.process import stoppable
from combe.proof.runners import BitTrue
from combe.proof.runners.compiled import Compiled
from combe.proof.runners.emulated import Emulated
from combe.proof.runners.simulated import Simulated
from combe.proof.runners.streamed import Streamed
from combe.realization.stages import Realization
from combe.running.simulate import ideal_run
from combe.signals.make import Player, whole
from combe.signals.spec import MOST_WHOLE, Signal
from combe.signals.sweep import settling_of

Array = NDArray[np.float64]
THROUGH = ("ideal", "rounded", "bit-true", "code", "core", "circuit")
CORE, MOST_ON_CORE = "cortex-m4", 16_384
"""The emulated core that ``core`` is, and how many samples fit its memory with all that comes out."""
PIECEWISE = ("code",)
"""Tools through which a signal goes piece by piece as well."""
USUAL = ("ideal", "rounded", "bit-true")
MOST_AVERAGED = 65_536
MOST_WATCHED, MOST_AT_ONCE = 1 << 18, 2_000_000
"""Up to so many samples every node is watched, which takes a run of its own; a signal longer than the second goes through piece
by piece."""


class Bench(Struct, frozen=True, eq=False):
    """Everything that came out: the input, and what each runner made of it."""

    sample_rate_hz: float
    signal: Signal
    clipped: int
    input: Input
    through: tuple[Heard, ...]
    samples: int
    step: float = 0.0
    nodes: tuple[NodeUse, ...] = ()
    """What happened inside the bit-true run; nothing where it wasn't run, or went through piece by piece."""
    realization: Realization | None = None
    """What it went through."""

    def node(self, name: str) -> NDArray[Any]:
        """The raw values of a node of the bit-true run, sample by sample.

        Raises
        ------
        FormatError
            If there is no such node, or none was watched.
        """
        if self.realization is None or name not in [node.name for node in self.nodes]:
            known = ", ".join(node.name for node in self.nodes) or "none of this bench"
            raise FormatError(f'"{name}" is no node that was watched', "node", f"there are {known}")
        raw = np.rint(self.input.values / self.input.step).astype(np.int64)
        return node_values(self.realization, raw, name)

    def __repr__(self) -> str:
        """In a line."""
        names = ", ".join(heard.name for heard in self.through)
        return f"Bench({self.samples:,} samples at {self.sample_rate_hz:g} Hz through {names})"

    @property
    def is_excerpt(self) -> bool:
        """Whether only the first stretch of every trace is kept; figures and spectra are those of all samples."""
        return self.samples > len(self.input.values)

    @property
    def is_identical(self) -> bool:
        """Whether compiled code and circuits gave what the bit-true model gives."""
        return all(heard.identical is not False for heard in self.through)

    def document(self) -> dict[str, Any]:
        """The bench as ``combe bench --json`` prints it."""
        return {
            "format": "combe-bench", "version": 1, "sample_rate_hz": self.sample_rate_hz, "samples": self.samples,
            "clipped": self.clipped, "input": self.input.document(),
            "through": [heard.document() for heard in self.through],
        } | ({"nodes": [node.document() for node in self.nodes]} if self.nodes else {})  # fmt: skip


def run_bench(
    realization: Realization,
    ideal: Filter | None,
    signal: Signal,
    through: Sequence[str] = USUAL,
    against: Sequence[int] = (),
    report: Callable[[str], None] = lambda _: None,
    is_stopped: Callable[[], bool] = lambda: False,
    code: CodeChoices | None = None,
    circuit: HardwareChoices | None = None,
    pinned: Sequence[tuple[str, Filter]] = (),
    to: str | Path = "",
) -> Bench:
    """A signal through each runner named, and through moving averages. Long ones go through piece by piece.

    Parameters
    ----------
    ideal
        The exact filter; without one the filter the integer coefficients stand for takes its place.
    against
        Lengths of moving averages to compare with.
    pinned
        Other filters to compare with, exact, by name.
    to
        A folder for ``bench.json``, ``traces.csv`` and ``spectrum.csv``.

    Raises
    ------
    CombeError
        If the signal can't be made, a runner isn't known, or a tool is missing or fails.
    """
    _check(through, against, signal, realization)
    if realization.changes_rate:
        if against:
            raise FormatError("moving averages don't change the rate", "against", "leave them out")
        pinned = ()
    player = Player(signal, realization.input)
    others = [*pinned, *averages(against)]
    if _is_long(player, through) and not realization.changes_rate:
        settled = min(settling_of(realization), player.count // 2)
        with stoppable(is_stopped), ExitStack() as held:
            program = held.enter_context(_compiled(realization, code)) if "code" in through else None
            long = LongBench(
                realization, ideal, player, tones_in(signal), settled, through, others,
                program.take if program is not None else None,
            )  # fmt: skip
            return _run_long(long, signal, to, report, is_stopped)
    made = whole(player)
    raw, step = made.raw, realization.input.step
    given: Array = np.asarray(raw * step, dtype=np.float64)
    settled = min(settling_of(realization), len(raw) // 2)
    known = input_of(signal, realization, given, settled)
    exact = (
        ideal_run(ideal if ideal is not None else exact_filter(realization), realization, raw) * realization.output.step
    )
    true = np.asarray(BitTrue(realization).run(raw))
    outputs: list[tuple[str, Array, NDArray[Any] | None, bool | None]] = []
    with stoppable(is_stopped):
        for name in through:
            report(f"through {name}")
            if name == "ideal":
                outputs.append((name, exact, None, None))
            elif name == "rounded":
                values = ideal_run(exact_filter(realization), realization, raw) * realization.output.step
                outputs.append((name, values, None, None))
            elif name == "bit-true":
                outputs.append((name, true * realization.output.step, true, None))
            else:
                found = _by_tools(name, realization, raw, code, circuit)
                outputs.append(
                    (
                        name,
                        np.asarray(found * realization.output.step, dtype=np.float64),
                        found,
                        bool(np.array_equal(found, true)),
                    )
                )
    for name, other in others:
        outputs.append((name, ideal_run(other, realization, raw) * realization.output.step, None, None))
    every = tuple(
        heard_of(name, values, integers, same, exact, known, realization, settled, made.modulated)
        for name, values, integers, same in outputs
    )
    is_watched = "bit-true" in through and len(raw) <= MOST_WATCHED and not realization.changes_rate
    nodes = nodes_of(realization, raw) if is_watched else ()
    bench = Bench(
        realization.sample_rate_hz,
        signal,
        made.clipped,
        known,
        every,
        player.count,
        realization.output.step,
        nodes,
        realization,
    )
    if to:
        write_bench(bench, to)
    return bench


def _is_long(player: Player, through: Sequence[str]) -> bool:
    """Whether a signal goes through piece by piece: one that takes much memory, unless a tool or a receiver wants all of it."""
    tools = [name for name in through if name in TOOLS and name not in PIECEWISE]
    if tools and player.count > MOST_WHOLE:
        what = f"{player.count:,} samples are too many for {tools[0]}"
        raise FormatError(what, "samples", f"take at most {MOST_WHOLE:,}, or ideal, rounded, bit-true and code only")
    return player.count > MOST_AT_ONCE and not tools and not player.modulated


def _run_long(
    long: LongBench, signal: Signal, to: str | Path, report: Callable[[str], None], is_stopped: Callable[[], bool]
) -> Bench:  # fmt: skip
    realization = long.realization

    def made() -> Bench:
        known, _ = long.input()
        return Bench(
            realization.sample_rate_hz, signal, long.player.clipped, known, long.heard(), long.player.count,
            realization.output.step,
        )  # fmt: skip

    traces = long.run(report, is_stopped)
    if to:
        write_while_running(long.names, traces, made, realization.sample_rate_hz, to)
    else:
        for _ in traces:
            pass
    return made()


def _check(through: Sequence[str], against: Sequence[int], signal: Signal, realization: Realization) -> None:
    if not through:
        raise FormatError("nothing is named to go through", "through", f"known are {', '.join(THROUGH)}")
    for name in through:
        if name not in THROUGH:
            raise FormatError(
                f'"{name}" is nothing a signal goes through', "through", f"known are {', '.join(THROUGH)}"
            )
    for length in against:
        if not 1 <= length <= MOST_AVERAGED:
            raise FormatError(f"a moving average of {length} is out of reach", "against", f"take 1 to {MOST_AVERAGED}")
    if signal.sample_rate_hz != realization.sample_rate_hz:
        what = f"the signal runs at {signal.sample_rate_hz:g} Hz, the filter at {realization.sample_rate_hz:g} Hz"
        raise FileError(what, "sample_rate_hz", "give a signal of the filter's rate")


def _package(realization: Realization, language: str, code: CodeChoices, circuit: HardwareChoices) -> Package:
    lines: tuple[Line, ...] = ()
    return language_named(language).write(Order(realization, "filter_run", code, circuit, None, lines, ""))


@contextmanager
def _compiled(realization: Realization, code: CodeChoices | None) -> Iterator[Compiled]:
    """The generated C, built here."""
    package = _package(realization, "c", code or CodeChoices("c"), HardwareChoices())
    with Compiled(package, realization) as program:
        program.build()
        yield program


def _by_tools(
    name: str, realization: Realization, raw: NDArray[Any], code: CodeChoices | None, circuit: HardwareChoices | None
) -> NDArray[np.int64]:
    """What compilers, emulators and simulators make of it."""
    if name == "code":
        with _compiled(realization, code) as program:
            return np.asarray(program.run(raw), dtype=np.int64)
    return _emulated(realization, raw, code) if name == "core" else _simulated(realization, raw, circuit)


def _emulated(realization: Realization, raw: NDArray[Any], code: CodeChoices | None) -> NDArray[np.int64]:
    """The generated C on an emulated core."""
    if len(raw) > MOST_ON_CORE:
        what = f"{len(raw):,} samples don't fit the memory of the emulated core"
        raise FormatError(what, "samples", f"take at most {MOST_ON_CORE:,}")
    package = _package(realization, "c", code or CodeChoices("c"), HardwareChoices())
    return np.asarray(Emulated(package, realization, CORE).run(raw), dtype=np.int64)


def _simulated(realization: Realization, raw: NDArray[Any], circuit: HardwareChoices | None) -> NDArray[np.int64]:
    """The generated Verilog: compiled where that can be, else simulated on its test bench."""
    package = _package(realization, "verilog", CodeChoices("verilog"), circuit or HardwareChoices())
    try:
        streamed = Streamed(package, realization)
    except ToolError:
        return Simulated(package, realization, "iverilog").run(raw)
    with streamed as program:
        program.build()
        return program.run(raw)
