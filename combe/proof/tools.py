"""Running the machine's own tools: found, bounded in time, their failures told in a sentence."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

from combe.errors import ToolError
from combe.proof.process import Limits, execute

SECONDS = 120
PACKAGES = {
    "gcc": "gcc and libc6-dev", "make": "make", "arm-none-eabi-gcc": "gcc-arm-none-eabi and libnewlib-arm-none-eabi",
    "arm-none-eabi-size": "binutils-arm-none-eabi", "qemu-system-arm": "qemu-system-arm",
    "riscv64-unknown-elf-gcc": "gcc-riscv64-unknown-elf and picolibc-riscv64-unknown-elf", "riscv64-unknown-elf-size": "binutils-riscv64-unknown-elf",
    "qemu-system-riscv32": "qemu-system-misc", "qemu-system-riscv64": "qemu-system-misc", "g++": "g++",
    "iverilog": "iverilog", "vvp": "iverilog", "verilator": "verilator", "ghdl": "ghdl", "rustc": "rustc", "yosys": "yosys",
    "nextpnr-ice40": "nextpnr-ice40", "icepack": "fpga-icestorm",
}  # fmt: skip


def find(tool: str) -> str:
    """The path of a tool.

    Raises
    ------
    ToolError
        If it isn't there, with the package that brings it.
    """
    path = shutil.which(tool)
    if path is None:
        package = PACKAGES.get(tool, tool)
        raise ToolError(
            f"{tool} is not on this machine", "proof", f"on Debian: apt-get install {package.replace(' and ', ' ')}"
        )
    return path


def run(
    command: list[str], folder: Path, stdin: bytes = b"", seconds: float = SECONDS, with_errors: bool = False
) -> bytes:  # fmt: skip
    """Standard output of a command, and what it says of errors where asked; no shell reads its words.

    Raises
    ------
    ToolError
        If it fails, or leaves its limits of time, memory and output.
    Stopped
        If the work it belongs to was stopped.
    """
    name = Path(command[0]).name
    done = execute(command, folder, stdin, Limits(seconds))
    if done.status != 0:
        said = (done.errors or done.output).decode("utf-8", "replace").strip().splitlines()
        marked = [line for line in said if re.match(r"\s*(%?error|.*: error)\b", line, re.IGNORECASE)]
        first = next(iter(marked), next((line for line in said if "error" in line), said[0] if said else "no message"))
        raise ToolError(f"{name} failed with status {done.status}: {first.strip()[:300]}", "proof")
    return done.output + done.errors if with_errors else done.output


def version(tool: str) -> str:
    """The tool's own first line about itself."""
    said = run([find(tool), "--version"], Path("/"), seconds=10).decode("utf-8", "replace").splitlines()
    return said[0].strip() if said else tool
