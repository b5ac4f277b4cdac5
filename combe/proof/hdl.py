"""Proof of generated circuits: simulated by every simulator there is, every output compared with the bit-true model."""

from __future__ import annotations

import re
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from combe.delivery.hdl.build import Built, build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.vectors import Vectors, hdl_vectors
from combe.delivery.hdl.writer import bench_files
from combe.delivery.package import Package
from combe.errors import Stopped, ToolError
from combe.filters import Filter
from combe.proof.tools import find, run, version
from combe.realization.stages import Realization
from combe.running.simulate import ideal_run

SECONDS = 300


@dataclass(frozen=True, slots=True)
class Simulated:
    """What one simulator answered."""

    tool: str
    samples: int
    differences: int
    latency: int = 0
    clocks: int = 0
    failure: str = ""

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
        return f"{self.tool}: {self.samples} outputs identical, latency {self.latency} clocks, {self.clocks} clocks a sample"


@dataclass(frozen=True, slots=True)
class HdlProof:
    """What all simulators answered, and what strict readers said of the text."""

    language: str
    checksum: str
    simulated: tuple[Simulated, ...]
    lint: tuple[str, ...]
    missing: tuple[str, ...]
    error_rms: float = 0.0
    error_peak: float = 0.0
    delay_s: float = 0.0

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
            "lint": list(self.lint), "missing": list(self.missing),
            "error": {"rms": self.error_rms, "peak": self.error_peak, "delay_s": self.delay_s},
        }  # fmt: skip


def prove_hdl(
    package: Package,
    realization: Realization,
    ideal: Filter | None = None,
    report: Callable[[str], None] = lambda _: None,
    is_stopped: Callable[[], bool] = lambda: False,
    simulators: tuple[str, ...] = (),
) -> HdlProof:
    """Simulate a package with every simulator on the machine, on more samples than it ships with.

    ``ideal`` is the unrounded filter: the error of the outputs against it on the same samples is reported.
    """
    choices = package.circuit or HardwareChoices()
    built = build_circuit(realization, package.name, choices)
    played = hdl_vectors(realization, choices, built.clocks, package.language, 7)
    missing, done, lint = [], [], []
    for tool in simulators or package.written_in.tools:
        try:
            find(tool)
        except ToolError as error:
            missing.append(error.sentence().removeprefix("proof: "))
            continue
        if is_stopped():
            raise Stopped
        report(f"simulating with {tool}")
        done.append(_simulated(tool, package, built, played, choices))
    report("reading strictly")
    for sentence in _linted(package, [*missing]):
        lint.append(sentence)
    rms = peak = 0.0
    if ideal is not None and not choices.converter_in:
        rms, peak = _error(realization, played, ideal)
    delay = built.latency / choices.clock_hz if choices.clock_hz else 0.0
    return HdlProof(package.language, package.checksum, tuple(done), tuple(lint), tuple(missing), rms, peak, delay)


def _error(realization: Realization, played: Vectors, ideal: Filter) -> tuple[float, float]:
    """Rms and peak of outputs less the unrounded filter's, in units of value, piece by piece between resets."""
    starts = [*np.flatnonzero(played.resets), len(played.samples)]
    rest = [
        played.outputs[first:last] - ideal_run(ideal, realization, played.samples[first:last])
        for first, last in zip(starts, starts[1:])
    ]
    every = np.concatenate(rest) * realization.output.step
    return float(np.sqrt(np.mean(every**2))), float(np.max(np.abs(every)))


def _simulated(tool: str, package: Package, built: Built, played: Vectors, choices: HardwareChoices) -> Simulated:
    try:
        with tempfile.TemporaryDirectory(prefix="combe-hdl-") as place:
            folder = Path(place)
            package.write(folder)
            for file in bench_files(built, package.language, played, choices):
                (folder / file.name).write_text(file.text, encoding="utf-8")
            said = _run(tool, package.name, folder)
            heard_path = folder / "heard.txt"
            heard = heard_path.read_text(encoding="utf-8").split() if heard_path.exists() else []
    except ToolError as error:
        return Simulated(tool, 0, 0, failure=error.sentence().removeprefix("proof: "))
    found = re.search(r"first output (-?\d+) clocks after its input, next input taken (-?\d+)", said)
    if found is None or not heard:
        return Simulated(tool, 0, 0, failure=f"it ended with {said.strip()[-120:]!r}")
    wrong = 0
    mask = (1 << built.output_bits) - 1
    for place_text, digits in zip(heard[::2], heard[1::2]):
        right = f"{int(played.outputs[int(place_text)]) & mask:0{built.output_bits}b}"
        wrong += digits != right
    failure = ""
    if "all equal" not in said and not wrong:
        failure = f"its test bench says {said.strip().splitlines()[-1][-120:]!r}"
    return Simulated(tool, len(heard) // 2, wrong, int(found[1]), int(found[2]), failure)


def _run(tool: str, name: str, folder: Path) -> str:
    """What a test bench says; its outputs are in heard.txt."""
    if tool == "iverilog":
        run([find("iverilog"), "-g2001", "-o", "bench", f"{name}.v", f"{name}_tb.v"], folder)
        said = run([find("vvp"), "-n", "bench", "+heard=heard.txt"], folder, seconds=SECONDS)
    elif tool == "verilator":
        flags = ["--binary", "--timing", "-Wno-fatal", "-Wno-lint", "-CFLAGS", "-O0", "--top-module", f"{name}_tb"]
        run([find("verilator"), *flags, f"{name}.v", f"{name}_tb.v"], folder, seconds=SECONDS)
        said = run([str(folder / "obj_dir" / f"V{name}_tb"), "+heard=heard.txt"], folder, seconds=SECONDS)
    else:
        ghdl = find("ghdl")
        for file in (f"{name}.vhd", f"{name}_tb.vhd"):
            run([ghdl, "-a", "--std=93c", file], folder)
        run([ghdl, "-e", "--std=93c", f"{name}_tb"], folder)
        command = [ghdl, "-r", "--std=93c", f"{name}_tb", "-gheard_file=heard.txt", "--ieee-asserts=disable"]
        said = run(command, folder, seconds=SECONDS, with_errors=True)
    return said.decode("utf-8", "replace")


def _linted(package: Package, missing: list[str]) -> list[str]:
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
        package.write(place)
        for command in commands:
            try:
                run([find(command[0]), *command[1:]], Path(place))
            except ToolError as error:
                complaints.append(error.sentence().removeprefix("proof: "))
    return complaints


def tool_versions() -> dict[str, str]:
    """The simulators that are there, in their own words."""
    found = {}
    for tool in ("iverilog", "verilator", "ghdl"):
        try:
            found[tool] = version(tool)
        except ToolError:
            continue
    return found
