"""A delivered C package on an emulated processor: built for it, run on its board, instructions counted."""

from __future__ import annotations

import re
import shutil
import tempfile
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.delivery.c.codes import code_values
from combe.delivery.c.floating import real_text
from combe.delivery.c.types import c_type, literal
from combe.delivery.package import Package
from combe.errors import ToolError
from combe.proof.runners.compiled import STRICT
from combe.proof.runners.cores import CORES
from combe.proof.tools import find, run, version
from combe.realization.stages import Realization
from combe.templates import rendered

BLOCKS = (1, 7, 64, 256)
SECONDS = 120
LOOSE = ["-O2", "-std=gnu99"]
"""How a program around a package is compiled: it isn't what is proved."""
CORE_FILES = Path(__file__).parent.parent / "cores"
PORTABLE = ["-U__ARM_FEATURE_SIMD32", "-U__ARM_FEATURE_SAT"]


class Emulated:
    """A core with one package. ``portable`` leaves the intrinsics out, ``with_codes`` runs the entry for raw codes.

    After a run ``instructions`` holds those a sample, by block length, and ``sizes`` the bytes of code, constants and state.

    Raises
    ------
    ToolError
        If a tool is missing.
    """

    def __init__(
        self, package: Package, realization: Realization, core: str = "cortex-m4", portable: bool = False,
        with_codes: bool = False,
    ) -> None:  # fmt: skip
        self.package, self.realization, self.core = package, realization, core
        self.portable, self.with_codes = portable, with_codes
        self.on = CORES[core]
        self.compiler, self.emulator, self.size_tool = (
            find(tool) for tool in (self.on.compiler, self.on.emulator, self.on.size_tool)
        )
        self.name = version(self.on.compiler)
        self.instructions: dict[int, float] = {}
        self.sizes = (0, 0, 0)

    @property
    def uses_intrinsics(self) -> bool:
        """Whether the dual multiply-accumulate is really in what was built."""
        has_dual = "__smla" in self.package.main.text
        return not self.portable and has_dual and self.on.has_dual

    def run(self, samples: NDArray[Any]) -> NDArray[Any]:
        """Outputs of the longest blocks."""
        return self.run_in_blocks(samples)[BLOCKS[-1]]

    def run_in_blocks(self, samples: NDArray[Any]) -> dict[int, NDArray[Any]]:
        """Outputs by block length: raw integers or codes, in floating point real values.

        Raises
        ------
        ToolError
            If it can't be built, or the program ends in another way than it should.
        """
        with tempfile.TemporaryDirectory(prefix="combe-target-") as place:
            folder = Path(place)
            self._build(samples, folder)
            words = [self.emulator, *self.on.machine, "-kernel", "check.elf"]
            said = run(words, folder, seconds=SECONDS).decode("utf-8", "replace")
        parts = re.split(r"outputs (\d+)\n", said)
        heard: dict[int, NDArray[Any]] = {}
        for block, text in zip(parts[1::2], parts[2::2]):
            rows = re.match(r"(?:[0-9a-f]+\n)*", text)
            raw = np.frombuffer(bytes.fromhex(rows[0].replace("\n", "") if rows else ""), dtype=self._types()[1])
            heard[int(block)] = raw.astype(np.float64 if self.package.code.is_float else np.int64)
        ticks = {int(block): int(value) for block, value in re.findall(r"block (\d+) (\d+)", said)}
        if set(heard) != set(BLOCKS) or set(ticks) != set(BLOCKS):
            raise ToolError(f"the program ended with {said.strip()[-100:]!r}", "proof")
        self.instructions = {block: value * self.on.tick / len(samples) for block, value in ticks.items()}
        return heard

    def _build(self, samples: NDArray[Any], folder: Path) -> None:
        package = self.package
        package.write(folder, is_lasting=False)
        (folder / "harness.c").write_text(self._harness(samples), encoding="utf-8")
        memory = f"{self.on.family}.ld"
        shutil.copy(CORE_FILES / memory, folder / memory)
        unit = self.on.float_unit if package.code.is_float else ()
        flags = [*self.on.flags, *unit]
        board = _board(self.compiler, tuple(flags), f"start_{self.on.family}.c")
        for name, content in board.items():
            (folder / name).write_bytes(content)
        apart = PORTABLE if self.portable else []
        body = ["-x", "c", f"-D{package.name.upper()}_BODY"] if package.code.is_header_alone else []
        run([self.compiler, *flags, *STRICT, *apart, *body, "-c", package.main.name, "-o", f"{package.file}.o"], folder)
        loose = [*LOOSE, "-nostartfiles", "-Wl,--no-warn-rwx-segments", "-T", memory]
        libraries = ["-lgcc"] if package.code.is_float else []
        parts = [*board, "harness.c", f"{package.file}.o", *libraries]
        run([self.compiler, *flags, *loose, "-o", "check.elf", *parts], folder)
        code, constants, data = _sizes(run([self.size_tool, "-A", f"{package.file}.o"], folder).decode())
        self.sizes = code, constants, data + _state_bytes(self, folder)

    def _types(self) -> tuple[str, str]:
        """Words NumPy has for what goes in and comes out."""
        if self.with_codes:
            values = code_values(self.realization, self.package.code)
            assert values is not None
            return values["in_type"].removesuffix("_t"), values["out_type"].removesuffix("_t")
        if self.package.code.is_float:
            kind = "float32" if self.package.code.number == "single" else "float64"
            return kind, kind
        return c_type(self.realization.input).removesuffix("_t"), c_type(self.realization.output).removesuffix("_t")

    def _harness(self, samples: NDArray[Any]) -> str:
        types, code = self.package.types, self.package.code
        if self.with_codes:
            in_type, out_type = (f"{word}_t" for word in self._types())
            rows = [f"{int(value)}u" for value in samples]
        elif code.is_float:
            in_type, out_type = types["input"], types["output"]
            kind = np.float32 if code.number == "single" else np.float64
            given = (np.asarray(samples) * self.realization.input.step).astype(kind).astype(np.float64)
            rows = [real_text(float(x), code.number) for x in given]
        else:
            in_type, out_type = types["input"], types["output"]
            rows = [literal(int(x), c_type(self.realization.input)) for x in samples]
        return rendered("proof/cores", "harness.c.j2", {
            "name": self.package.name, "file": self.package.file, "types": types, "is_header_only": False,
            "count": len(rows), "out_count": self.realization.output_count(len(rows)), "blocks": BLOCKS,
            "entry": "run_codes" if self.with_codes else "run", "in_type": in_type, "out_type": out_type, "inputs": rows,
        })  # fmt: skip


@lru_cache(maxsize=16)
def _board(compiler: str, flags: tuple[str, ...], start: str) -> dict[str, bytes]:
    """Object files of the board, by name: the same for every package on a core, and compiled once."""
    with tempfile.TemporaryDirectory(prefix="combe-board-") as place:
        folder = Path(place)
        for name in ("board.c", start):
            shutil.copy(CORE_FILES / name, folder / name)
        run([compiler, *flags, *LOOSE, "-c", "board.c", start], folder)
        return {path.name: path.read_bytes() for path in sorted(folder.glob("*.o"))}


def _sizes(table: str) -> tuple[int, int, int]:
    """Bytes of code, of constants, and of what lies in memory that can be written, of an object file."""
    code = constants = data = 0
    for name, size in re.findall(r"^(\.\S+)\s+(\d+)", table, re.MULTILINE):
        if name.startswith(".text"):
            code += int(size)
        elif name.startswith((".rodata", ".srodata")):
            constants += int(size)
        elif name.startswith((".data", ".sdata", ".bss", ".sbss")):
            data += int(size)
    return code, constants, data


def _state_bytes(core: Emulated, folder: Path) -> int:
    """Size of the state, from an object that holds one."""
    package = core.package
    text = f'#include "{package.file}.h"\n{package.types["state"]} one;\n'
    (folder / "one.c").write_text(text, encoding="utf-8")
    run([core.compiler, *core.on.flags, "-fno-common", "-c", "one.c"], folder)
    found = re.search(r"^\.s?bss\s+(\d+)", run([core.size_tool, "-A", "one.o"], folder).decode(), re.MULTILINE)
    return int(found[1]) if found else 0
