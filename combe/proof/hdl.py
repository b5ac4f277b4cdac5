"""Proof of generated circuits: simulated by every simulator there is, every output compared with the bit-true model."""

from __future__ import annotations

import re
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct

from combe.delivery.c.codes import codes_through
from combe.delivery.code_choices import CodeChoices, converter_from
from combe.delivery.hdl.build import Built, build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.selftest import self_test
from combe.delivery.hdl.vectors import Vectors, hdl_vectors
from combe.delivery.package import Package
from combe.errors import ToolError
from combe.filters import Filter
from combe.ledger import Line
from combe.proof.agreement import agreement
from combe.proof.process import stoppable
from combe.proof.runners import BitTrue
from combe.proof.runners.simulated import Simulated
from combe.proof.runners.streamed import Streamed
from combe.proof.tools import find, run
from combe.realization.formats import Format
from combe.realization.stages import Realization
from combe.running.random_integers import random_integers
from combe.running.simulate import ideal_run
from combe.signals.stimuli import vectors
from combe.signals.sweep import measured_lines, sweep_for

BOARD_TARGETS = {"gates": "simulating the netlist after synthesis", "selftest": "the board's self-test"}
BOARD_SECONDS = 600
SAMPLES, MOST_STREAMED = 65_536, 20_000_000
"""Samples through a compiled circuit, and clocks that take it seconds."""


class Answer(Struct, frozen=True):
    """What one simulator answered."""

    tool: str
    samples: int
    differences: int
    latency: int = 0
    clocks: int = 0
    failure: str = ""
    most: int = 0
    """Clocks from sample to sample that come evenly, where ``clocks`` are those of many on average, taken as fast as they are."""

    @property
    def holds(self) -> bool:
        """Whether every output was right, and the clocks are those told."""
        return not self.failure and self.differences == 0 and self.samples > 0

    def sentence(self) -> str:
        """The outcome in words."""
        if self.failure:
            return f"{self.tool}: {self.failure}"
        if self.differences:
            return f"{self.tool}: {self.differences} of {self.samples} outputs differ"
        clocks = f"{self.clocks} clocks a sample"
        if self.most > self.clocks:
            clocks += f" on average ({self.most} where they come evenly)"
        return f"{self.tool}: {self.samples} outputs identical, latency {self.latency} clocks, {clocks}"


class HdlProof(Struct, frozen=True):
    """What all simulators answered, and what strict readers said of the text."""

    language: str
    checksum: str
    simulated: tuple[Answer, ...]
    lint: tuple[str, ...]
    missing: tuple[str, ...]
    error_rms: float = 0.0
    error_peak: float = 0.0
    delay_s: float = 0.0
    lines: tuple[Line, ...] = ()

    @property
    def holds(self) -> bool:
        """Whether at least one simulator was there, all agree, and no reader complained."""
        return bool(self.simulated) and all(each.holds for each in self.simulated) and not self.lint

    @property
    def tool(self) -> str:
        """The simulators by name."""
        return ", ".join(each.tool for each in self.simulated) or "no simulator"

    @property
    def samples(self) -> int:
        """Outputs compared, over all simulators."""
        return sum(each.samples for each in self.simulated)

    def sentence(self) -> str:
        """The outcome in words."""
        if not self.simulated:
            return "; ".join(self.missing)
        words = [each.sentence() for each in self.simulated] + list(self.lint)
        return "; ".join(words)

    def document(self) -> dict[str, Any]:
        """The proof as ``--json`` prints it."""
        return {
            "language": self.language, "checksum": self.checksum, "equal": self.holds, "sentence": self.sentence(),
            "samples": self.samples, "tool": self.tool, "differences": sum(each.differences for each in self.simulated),
            "simulators": [
                {"tool": s.tool, "samples": s.samples, "differences": s.differences, "latency_clocks": s.latency,
                 "clocks_per_sample": s.clocks, "failure": s.failure} for s in self.simulated
            ],
            "measured": [line.document() for line in self.lines], "lint": list(self.lint), "missing": list(self.missing),
            "error": {"rms": self.error_rms, "peak": self.error_peak, "delay_s": self.delay_s},
        }  # fmt: skip


def prove_hdl(
    package: Package,
    realization: Realization,
    ideal: Filter | None = None,
    report: Callable[[str], None] = lambda _: None,
    is_stopped: Callable[[], bool] = lambda: False,
    simulators: tuple[str, ...] = (),
    lines: tuple[Line, ...] = (),
) -> HdlProof:
    """Simulate a package with every simulator on the machine, on more samples than it ships with.

    The circuit is compiled to a program besides, and takes 65,536 samples and a tone for every limit; ``lines`` are
    those limits, measured on its outputs. ``ideal`` is the unrounded filter: the error of the outputs against it on the
    same samples is reported.
    """
    choices = package.circuit or HardwareChoices()
    built = build_circuit(realization, package.name, choices)
    played = hdl_vectors(realization, choices, built, package.language, 7)
    missing, done = [], []
    with stoppable(is_stopped):
        for tool in simulators or package.written_in.tools:
            try:
                simulator = Simulated(package, realization, tool)
            except ToolError as error:
                missing.append(error.sentence().removeprefix("proof: "))
                continue
            report(f"simulating with {tool}")
            done.append(_answer(simulator, played))
        measured: tuple[Line, ...] = ()
        if not simulators:
            report("compiling the circuit, 65,536 samples and a tone for every limit")
            try:
                answer, measured = _streamed(package, realization, lines)
                done.append(answer)
            except ToolError as error:
                missing.append(error.sentence().removeprefix("proof: "))
        if choices.board:
            for target, words in BOARD_TARGETS.items():
                report(words)
                try:
                    done.append(_on_board(package, realization, target, built))
                except ToolError as error:
                    missing.append(error.sentence().removeprefix("proof: "))
        report("reading strictly")
        lint = _linted(package)
    rms = peak = 0.0
    if ideal is not None and not choices.converter_in:
        rms, peak = _error(realization, played, ideal)
    delay = built.latency / choices.clock_hz if choices.clock_hz else 0.0
    return HdlProof(
        package.language, package.checksum, tuple(done), tuple(lint), tuple(missing), rms, peak, delay, measured
    )


def _on_board(package: Package, realization: Realization, target: str, built: Built) -> Answer:
    """What a target of the delivered Makefile answers: the netlist on the same vectors, or the top level's self-test.

    Raises
    ------
    ToolError
        If a tool is missing.
    """
    needed = ["make", "iverilog", "vvp"] if package.language == "verilog" else ["make", "ghdl"]
    for tool in [*needed, *(["yosys", "iverilog", "vvp"] if target == "gates" else [])]:
        find(tool)
    with tempfile.TemporaryDirectory(prefix="combe-board-") as place:
        folder = Path(place)
        package.write(folder, is_lasting=False)
        try:
            said = run([find("make"), target], folder, seconds=BOARD_SECONDS, with_errors=True).decode(
                "utf-8", "replace"
            )
        except ToolError as error:
            return Answer(target, 0, 0, failure=error.sentence().removeprefix("proof: ")[-200:])
    if target == "gates":
        found = re.search(r": (\d+) outputs in two passes, all equal", said)
        return (
            Answer("gates", int(found[1]), 0, built.latency, built.clocks)
            if found
            else Answer("gates", 0, 0, failure="not all equal")
        )
    found = re.search(r"self-test passed after (\d+) clocks", said)
    failure = "" if found else "the self-test failed"
    return Answer("self-test", len(self_test(realization).outputs), 0, built.latency, built.clocks, failure)


def proved(
    package: Package,
    realization: Realization,
    lines: tuple[Line, ...],
    ideal: Filter | None,
    report: Callable[[str], None],
    is_stopped: Callable[[], bool],
) -> HdlProof:
    """The proof every language has."""
    return prove_hdl(package, realization, ideal, report, is_stopped, lines=lines)


def _streamed(package: Package, realization: Realization, lines: tuple[Line, ...]) -> tuple[Answer, tuple[Line, ...]]:
    """A long stream through the compiled circuit, every output compared; the limits measured with tones."""
    choices = package.circuit or HardwareChoices()
    measured: tuple[Line, ...] = ()
    with Streamed(package, realization) as circuit:
        clocks = circuit.built.clocks
        circuit.build()
        if choices.converter_in:
            entry = Format(False, converter_from(choices.converter_in, "converter_in").bits, 0)
            code = CodeChoices(converter_in=choices.converter_in, converter_out=choices.converter_out)
            samples = random_integers(SAMPLES, entry, 7)
            wanted = codes_through(realization, code, samples)
            heard = circuit.run(samples)
        elif realization.changes_rate:
            # Slow circuits of one multiplier a stage: fewer samples where each takes many clocks.
            pieces = vectors(realization, max(4096, min(SAMPLES, MOST_STREAMED // clocks)), seed=7)
            sweep = sweep_for(realization, lines)
            pieces = np.concatenate([pieces, np.zeros(-len(pieces) % realization.ratio[1], dtype=np.int64)])
            if len(sweep.samples) * clocks > MOST_STREAMED:
                sweep = sweep_for(realization, ())
            samples = np.concatenate([pieces, sweep.samples])
            wanted = BitTrue(realization).run(samples)
            heard = circuit.run(samples)
            if len(sweep.samples):
                measured = measured_lines(sweep, realization, heard[realization.output_count(len(pieces)) :], lines)
        else:
            sweep = sweep_for(realization, lines)
            pieces = vectors(realization, SAMPLES, seed=7)
            samples = np.concatenate([pieces, sweep.samples])
            wanted = BitTrue(realization).run(samples)
            heard = circuit.run(samples)
            measured = measured_lines(sweep, realization, heard[len(pieces) :], lines)
    compared = agreement(heard, np.asarray(wanted))
    found = Answer(circuit.name, compared.samples, compared.differences, circuit.built.latency, clocks)
    return found, measured


def _answer(simulator: Simulated, vectors: Vectors) -> Answer:
    """Both passes of a simulation held against the model's outputs, bit by bit."""
    try:
        found = simulator.play(vectors)
    except ToolError as error:
        return Answer(simulator.tool, 0, 0, failure=error.sentence().removeprefix("proof: "))
    bits = simulator.built.output_bits
    mask = (1 << bits) - 1
    wanted = np.array([f"{int(value) & mask:0{bits}b}" for value in vectors.outputs])
    compared = agreement(np.array(found.words), wanted[found.places])
    failure = ""
    if not found.is_content and compared.holds:
        failure = f"its test bench says {found.said.strip().splitlines()[-1][-120:]!r}"
    most = simulator.built.clocks if simulator.built.span > 1 else 0
    return Answer(simulator.tool, compared.samples, compared.differences, found.latency, found.clocks, failure, most)


def _error(realization: Realization, played: Vectors, ideal: Filter) -> tuple[float, float]:
    """Rms and peak of outputs less the unrounded filter's, in units of value, piece by piece between resets."""
    starts = [*np.flatnonzero(played.resets), len(played.samples)]
    due = played.due if played.due is not None else np.arange(len(played.samples) + 1)
    rest = [
        played.outputs[due[first] : due[last]] - ideal_run(ideal, realization, played.samples[first:last])
        for first, last in zip(starts, starts[1:])
    ]
    every = np.concatenate(rest) * realization.output.step
    return float(np.sqrt(np.mean(every**2))), float(np.max(np.abs(every)))


def _linted(package: Package) -> list[str]:
    """What strict readers complain of; nothing where they aren't there."""
    complaints = []
    commands: list[list[str]] = []
    texts = [file.name for file in package.files if file.name.endswith((".v", ".vhd")) and "_tb." not in file.name]
    if package.language == "verilog" and shutil.which("verilator"):
        top = package.name + ("_axi" if any("_axi." in name for name in texts) else "")
        commands.append(["verilator", "--lint-only", "-Wall", "--top-module", top, *texts])
    if package.language == "vhdl" and shutil.which("ghdl"):
        commands += [["ghdl", "-a", f"--std={std}", *texts] for std in ("93c", "08")]
    with tempfile.TemporaryDirectory(prefix="combe-lint-") as place:
        package.write(place, is_lasting=False)
        for command in commands:
            try:
                run([find(command[0]), *command[1:]], Path(place))
            except ToolError as error:
                complaints.append(error.sentence().removeprefix("proof: "))
    return complaints
