"""Running the machine's own tools: found, bounded in time, their failures told in a sentence."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

from combe.errors import ToolError

SECONDS = 120
PACKAGES = {
    "gcc": "gcc and libc6-dev", "make": "make", "arm-none-eabi-gcc": "gcc-arm-none-eabi and libnewlib-arm-none-eabi",
    "arm-none-eabi-size": "binutils-arm-none-eabi", "qemu-system-arm": "qemu-system-arm",
    "riscv64-unknown-elf-gcc": "gcc-riscv64-unknown-elf and picolibc-riscv64-unknown-elf", "g++": "g++",
    "iverilog": "iverilog", "vvp": "iverilog", "verilator": "verilator", "ghdl": "ghdl", "yosys": "yosys",
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
    """Standard output of a command, and what it says of errors where asked; no shell is involved.

    Raises
    ------
    ToolError
        If it fails or takes too long.
    """
    name = Path(command[0]).name
    try:
        done = subprocess.run(command, cwd=folder, input=stdin, capture_output=True, timeout=seconds, check=False)
    except subprocess.TimeoutExpired:
        raise ToolError(f"{name} did not finish within {seconds:g} seconds and was stopped", "proof") from None
    except OSError as error:
        raise ToolError(f"{name} can't be started ({error.strerror or error})", "proof") from None
    if done.returncode != 0:
        said = (done.stderr or done.stdout).decode("utf-8", "replace").strip().splitlines()
        marked = [line for line in said if re.match(r"\s*(%?error|.*: error)\b", line, re.IGNORECASE)]
        first = next(iter(marked), next((line for line in said if "error" in line), said[0] if said else "no message"))
        raise ToolError(f"{name} failed with status {done.returncode}: {first.strip()[:300]}", "proof")
    return done.stdout + done.stderr if with_errors else done.stdout


def version(tool: str) -> str:
    """The tool's own first line about itself."""
    said = run([find(tool), "--version"], Path("/"), seconds=10).decode("utf-8", "replace").splitlines()
    return said[0].strip() if said else tool
