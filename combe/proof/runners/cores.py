"""Processors that generated C runs on here: what builds for them, and the emulated board that runs what was built."""

from __future__ import annotations

from msgspec import Struct

_HOST = [
    "-display",
    "none",
    "-chardev",
    "stdio,id=words",
    "-semihosting-config",
    "enable=on,chardev=words",
    "-icount",
    "shift=0",
]


class Core(Struct, frozen=True):
    """A processor. ``tools`` is what the names of its compiler's programs begin with, ``family`` the start and the map of memory
    of its board, ``tick`` the instructions that its board's clock counts as one."""

    family: str
    tools: str
    flags: tuple[str, ...]
    emulator: str
    board: tuple[str, ...]
    tick: int
    float_unit: tuple[str, ...] = ()
    has_dual: bool = False

    @property
    def compiler(self) -> str:
        """The compiler's name."""
        return f"{self.tools}-gcc"

    @property
    def size_tool(self) -> str:
        """What tells the sizes of sections."""
        return f"{self.tools}-size"

    @property
    def machine(self) -> list[str]:
        """What the emulator is asked for: the board, words to the host, a nanosecond for every instruction."""
        return [*self.board, *_HOST]


def _arm(name: str, has_dual: bool = False) -> Core:
    unit = ("-mfpu=fpv4-sp-d16", "-mfloat-abi=hard") if has_dual else ()
    return Core(
        "arm",
        "arm-none-eabi",
        (f"-mcpu={name}", "-mthumb"),
        "qemu-system-arm",
        ("-M", "mps2-an386"),
        40,
        unit,
        has_dual,
    )


def _riscv(bits: int) -> Core:
    words = (f"-march=rv{bits}imac", f"-mabi={'ilp32' if bits == 32 else 'lp64'}", "-mcmodel=medany")
    board = ("-M", "virt", "-bios", "none")
    return Core(
        "riscv", "riscv64-unknown-elf", (*words, "--specs=picolibc.specs"), f"qemu-system-riscv{bits}", board, 1
    )


CORES = {
    "cortex-m0plus": _arm("cortex-m0plus"), "cortex-m3": _arm("cortex-m3"), "cortex-m4": _arm("cortex-m4", True),
    "cortex-m7": _arm("cortex-m7", True), "rv32imac": _riscv(32), "rv64imac": _riscv(64),
}  # fmt: skip
"""Arm code runs on an emulated Cortex-M4 board, which executes the instructions of all four."""
