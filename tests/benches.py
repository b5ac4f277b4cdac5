"""Test benches of the tests' own: numbers that a circuit gives, as the simulators print them."""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path

from combe.delivery.package import Package


def from_verilog(package: Package, text: str, *more: str) -> list[int]:
    """What ``module bench`` displays, line by line; ``more`` are files beside the circuit."""
    with tempfile.TemporaryDirectory() as place:
        package.write(place)
        (Path(place) / "bench.v").write_text(text)
        words = ["iverilog", "-o", "bench", f"{package.name}.v", *more, "bench.v"]
        subprocess.run(words, cwd=place, check=True, capture_output=True)
        done = subprocess.run(["vvp", "-n", "bench"], cwd=place, capture_output=True, text=True, check=True)
    return [int(word) for word in done.stdout.split() if word.lstrip("-").isdigit()]


def from_vhdl(package: Package, text: str) -> list[int]:
    """What ``entity bench`` reports behind the word ``out``."""
    with tempfile.TemporaryDirectory() as place:
        package.write(place)
        (Path(place) / "bench.vhd").write_text(text)
        for words in (["-a", f"{package.name}.vhd", "bench.vhd"], ["-e", "bench"]):
            subprocess.run(["ghdl", *words[:1], "--std=93c", *words[1:]], cwd=place, check=True, capture_output=True)
        done = subprocess.run(
            ["ghdl", "-r", "--std=93c", "bench"], cwd=place, capture_output=True, text=True, check=True
        )
    said = done.stdout.splitlines() + done.stderr.splitlines()
    return [int(line.rsplit("out ", 1)[1]) for line in said if "out " in line]
