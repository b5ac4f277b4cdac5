"""A delivered circuit, simulated by one simulator on the package's own test bench."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.vectors import Vectors, due_outputs
from combe.delivery.hdl.writer import bench_files
from combe.delivery.package import Package
from combe.errors import ToolError
from combe.proof.tools import find, run
from combe.proof.verilated import build
from combe.realization.stages import Realization

SECONDS = 300


class Played(Struct, frozen=True, eq=False):
    """Outputs as they were heard, pass after pass (places and raw words of ``bits``), the clocks between, what the test
    bench said at its end."""

    places: NDArray[np.int64]
    words: list[str]
    latency: int
    clocks: int
    said: str

    @property
    def is_content(self) -> bool:
        """Whether the test bench itself found all as it expected."""
        return "all equal" in self.said

    def outputs(self, bits: int, is_signed: bool) -> NDArray[np.int64]:
        """The first pass as raw integers; unknown bits are no number, and told as an error.

        Raises
        ------
        ToolError
            If a bit is neither 0 nor 1.
        """
        again = np.flatnonzero(np.diff(self.places) < 0)
        first = self.words[: int(again[0]) + 1] if len(again) else self.words
        try:
            raw = np.array([int(word, 2) for word in first], dtype=object)
        except ValueError:
            raise ToolError("an output has bits that are neither 0 nor 1", "proof") from None
        if is_signed:
            raw = np.where(raw >= 1 << (bits - 1), raw - (1 << bits), raw)
        return raw.astype(np.int64)


class Simulated:
    """One simulator with one circuit."""

    def __init__(self, package: Package, realization: Realization, tool: str) -> None:
        find(tool)
        self.package, self.realization, self.tool = package, realization, tool
        self.choices = package.circuit or HardwareChoices()
        self.built = build_circuit(realization, package.name, self.choices)
        self.name = tool

    def run(self, samples: NDArray[Any]) -> NDArray[np.int64]:
        """Raw outputs for raw inputs, from one reset on."""
        resets = np.zeros(len(samples), dtype=np.bool_)
        resets[:1] = True
        # What the bench expects is not known here: it plays, and whoever asked compares.
        outputs = np.zeros(self.realization.output_count(len(samples)), dtype=np.int64)
        due = due_outputs(self.realization, [samples]) if self.realization.changes_rate else None
        played = self.play(Vectors(samples, resets, outputs, due))
        out = self.built.circuit.signals["out_data"]
        return played.outputs(self.built.output_bits, out.kind == "signed")

    def play(self, vectors: Vectors) -> Played:
        """Every sample in two passes, without a pause and with gaps, resets where the vectors have them.

        Raises
        ------
        ToolError
            If the simulator fails or says nothing of use.
        """
        with tempfile.TemporaryDirectory(prefix="combe-hdl-") as place:
            folder = Path(place)
            self.package.write(folder, is_lasting=False)
            for file in bench_files(self.realization, self.built, self.package.language, vectors, self.choices):
                (folder / file.name).write_text(file.text, encoding="utf-8")
            said = self._simulate(folder)
            path = folder / "heard.txt"
            heard = path.read_text(encoding="utf-8").split() if path.exists() else []
        found = re.search(r"first output (-?\d+) clocks after its input, next input taken (-?\d+)", said)
        if found is None or not heard:
            raise ToolError(f"it ended with {said.strip()[-120:]!r}", "proof")
        places = np.array([int(word) for word in heard[::2]], dtype=np.int64)
        return Played(places, heard[1::2], int(found[1]), int(found[2]), said)

    def _simulate(self, folder: Path) -> str:
        """What a test bench says; its outputs are in heard.txt."""
        name = self.package.name
        if self.tool == "iverilog":
            run([find("iverilog"), "-g2001", "-o", "bench", f"{name}.v", f"{name}_tb.v"], folder)
            said = run([find("vvp"), "-n", "bench", "+heard=heard.txt"], folder, seconds=SECONDS)
        elif self.tool == "verilator":
            flags = ["--cc", "--exe", "--main", "--timing", "-CFLAGS", "-O0"]
            program = build(folder, f"{name}_tb", flags, [f"{name}.v", f"{name}_tb.v"])
            said = run([str(program), "+heard=heard.txt"], folder, seconds=SECONDS)
        else:
            ghdl = find("ghdl")
            run([ghdl, "-a", "--std=93c", f"{name}.vhd", f"{name}_tb.vhd"], folder)
            run([ghdl, "-e", "--std=93c", f"{name}_tb"], folder)
            # A bench that is not content ends with a failure; its outputs are what is asked for.
            command = [
                ghdl, "-r", "--std=93c", f"{name}_tb", "-gheard_file=heard.txt", "--ieee-asserts=disable",
                "--assert-level=none",
            ]  # fmt: skip
            said = run(command, folder, seconds=SECONDS, with_errors=True)
        return said.decode("utf-8", "replace")
