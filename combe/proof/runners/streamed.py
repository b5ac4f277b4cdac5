"""A delivered circuit compiled to a program, so that many samples go through in seconds; VHDL by way of what GHDL
synthesizes from it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.writer import PORTS
from combe.delivery.package import Package
from combe.errors import ToolError
from combe.proof.runners.folder import InFolder
from combe.proof.tools import find, run
from combe.proof.translated import as_verilog
from combe.proof.verilated import build
from combe.realization.stages import Realization
from combe.templates import rendered

SECONDS, PATIENCE = 300, 200_000
MOST_BITS = 64


class Streamed(InFolder):
    """A compiled circuit in a folder of its own for as long as the ``with`` lasts.

    Raises
    ------
    ToolError
        If a tool is missing, or a port is wider than the program's words.
    """

    def __init__(self, package: Package, realization: Realization) -> None:
        self.package, self.realization = package, realization
        self.choices = package.circuit or HardwareChoices()
        self.built = build_circuit(realization, package.name, self.choices)
        is_translated = package.language != "verilog"
        self.name = "ghdl and verilator, compiled" if is_translated else "verilator, compiled"
        for tool in (*(["ghdl"] if is_translated else []), "verilator", "g++", "make"):
            find(tool)
        signals = self.built.circuit.signals
        if max(signals["in_data"].width, signals["out_data"].width) > MOST_BITS:
            raise ToolError(f"ports wider than {MOST_BITS} bits are not streamed", "proof")
        super().__init__("combe-stream-")
        self._program = self.folder / "obj_dir" / f"V{package.name}"

    def build(self) -> None:
        """Compile the circuit with a program that feeds it."""
        name, folder = self.package.name, self.folder
        self.package.write(folder, is_lasting=False)
        circuit = self.built.circuit
        extra = [port.signal for port in circuit.ports if port.signal.name not in PORTS]
        values = {"name": name, "extra": extra, "patience": PATIENCE, "changes_rate": self.realization.changes_rate}
        text = rendered("proof", "stream.cpp.j2", values)
        (folder / "stream.cpp").write_text(text, encoding="utf-8")
        build(
            folder,
            name,
            ["--cc", "--exe", "-O3", "-CFLAGS", "-O0"],
            [as_verilog(self.package, folder, is_in_words=True), "stream.cpp"],
        )

    def run(self, samples: NDArray[Any]) -> NDArray[np.int64]:
        """Raw outputs for raw inputs, from one reset on.

        Raises
        ------
        ToolError
            If it crashes, or gives another number of samples than it took.
        """
        signals = self.built.circuit.signals
        given = np.asarray(samples).astype(np.int64) & _mask(signals["in_data"].width)
        wanted = self.realization.output_count(len(samples))
        words = [str(wanted)] if self.realization.changes_rate else []
        said = run([str(self._program), *words], self.folder, given.astype("<u8").tobytes(), seconds=SECONDS)
        heard = np.frombuffer(said, dtype="<u8").astype(np.int64)
        if len(heard) != wanted:
            raise ToolError(f"the circuit gave {len(heard)} outputs instead of {wanted}", "proof")
        out = signals["out_data"]
        if out.kind != "signed":
            return heard
        shift = 64 - out.width
        return np.asarray((heard << shift) >> shift)


def _mask(bits: int) -> np.int64:
    return np.int64(-1) if bits >= 64 else np.int64((1 << bits) - 1)
