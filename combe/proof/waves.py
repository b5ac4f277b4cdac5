"""A short excerpt of a simulation's waveforms, read from the value change dump a simulator wrote."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

from msgspec import Struct

from combe.delivery.package import Package
from combe.errors import ToolError
from combe.proof.tools import find, run

SHOWN = ("clk", "rst", "in_valid", "in_ready", "in_data", "out_valid", "out_data")
SECONDS = 60


class Wave(Struct, frozen=True):
    """One signal: (clock, digits) where it changes; ``bits`` 1 for flags."""

    name: str
    bits: int
    changes: tuple[tuple[float, str], ...]


def excerpt(package: Package, clocks: int) -> list[Wave]:
    """The ports of a circuit over the first clocks of its test bench.

    Raises
    ------
    ToolError
        If no simulator is there, or it fails.
    """
    name = package.name
    with tempfile.TemporaryDirectory(prefix="combe-waves-") as place:
        folder = Path(place)
        package.write(folder, is_lasting=False)
        if package.language == "verilog":
            bench = folder / f"{name}_tb.v"
            text = bench.read_text(encoding="utf-8")
            # Stop early: an excerpt needs few clocks.
            bench.write_text(
                text.replace("endmodule", f"    initial #{10 * clocks + 10} $finish;\nendmodule"), encoding="utf-8"
            )
            run([find("iverilog"), "-g2001", "-o", "bench", f"{name}.v", f"{name}_tb.v"], folder)
            run([find("vvp"), "-n", "bench", "+vcd"], folder, seconds=SECONDS)
        else:
            ghdl = find("ghdl")
            for file in (f"{name}.vhd", f"{name}_tb.vhd"):
                run([ghdl, "-a", "--std=93c", file], folder)
            run([ghdl, "-e", "--std=93c", f"{name}_tb"], folder)
            stop = f"--stop-time={10 * clocks + 10}ns"
            run(
                [ghdl, "-r", "--std=93c", f"{name}_tb", f"--vcd={name}.vcd", stop, "--ieee-asserts=disable"],
                folder,
                seconds=SECONDS,
            )
        dump = folder / f"{name}.vcd"
        if not dump.exists():
            raise ToolError("the simulator wrote no waveforms", "proof")
        return read_waves(dump.read_text(encoding="utf-8"), clocks)


def read_waves(text: str, clocks: int) -> list[Wave]:
    """The ports of the circuit under test in a dump (IEEE 1364-2001, clause 18); a clock takes 10 ns."""
    found = re.search(r"\$timescale\s+(\d+)\s*(\w+)", text)
    unit = (
        {"s": 1e9, "ms": 1e6, "us": 1e3, "ns": 1.0, "ps": 1e-3, "fs": 1e-6}[found[2]] * int(found[1]) if found else 1.0
    )
    codes: dict[str, tuple[str, int]] = {}
    depth: list[str] = []
    for line in text.split("$enddefinitions")[0].splitlines():
        scope = re.search(r"\$scope\s+\w+\s+(\S+)\s+\$end", line)
        variable = re.search(r"\$var\s+\w+\s+(\d+)\s+(\S+)\s+(\w+)", line)
        if scope:
            depth.append(scope[1])
        elif "$upscope" in line:
            depth.pop()
        elif variable and depth and depth[-1] == "dut" and variable[3] in SHOWN:
            codes[variable[2]] = variable[3], int(variable[1])
    changes: dict[str, list[tuple[float, str]]] = {name: [] for name, _ in codes.values()}
    now = 0.0
    for line in text.split("$enddefinitions")[-1].splitlines():
        if line.startswith("#"):
            now = int(line[1:]) * unit / 10
        elif now <= clocks:
            change = re.fullmatch(r"b([01xzuXZU]+) (\S+)|([01xzuXZU])(\S+)", line.strip())
            if change:
                code, value = (change[2], change[1]) if change[2] else (change[4], change[3])
                if code in codes:
                    changes[codes[code][0]].append((now, value.lower()))
    bits = dict(codes.values())
    return [Wave(name, bits[name], tuple(changes[name])) for name in SHOWN if name in changes]
