"""Generated C built for RISC-V: warnings are errors, sizes come from the linker's own output; nothing is run."""

from __future__ import annotations

from combe.delivery.package import Package
from combe.errors import ToolError
from combe.proof.arm.target import TargetProof
from combe.proof.runners.emulated import FLAGS, sizes_for
from combe.proof.tools import version

RISCV, COMPILER = "rv32imac", "riscv64-unknown-elf-gcc"
OPTIONS = ["-march=rv32imac", "-mabi=ilp32", "--specs=picolibc.specs"]


def built_for_riscv(package: Package) -> TargetProof:
    """The sizes, or why it could not be built."""
    try:
        tool = version(COMPILER)
        warnings = [flag for flag in FLAGS if flag.startswith("-W")]
        code, constants, state = sizes_for(package, COMPILER, [*OPTIONS, *warnings])
    except ToolError as error:
        return TargetProof(RISCV, COMPILER, 0, 0, {}, failure=error.sentence().removeprefix("proof: "))
    return TargetProof(RISCV, tool, 0, 0, {}, code, constants, state)
