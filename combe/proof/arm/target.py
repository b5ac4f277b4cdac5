"""One package on one emulated processor."""

from __future__ import annotations

import re
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from combe.delivery.c.codes import code_values, codes_through, converters
from combe.delivery.c.floating import real_text
from combe.delivery.c.model import float_model
from combe.delivery.c.types import c_type, literal
from combe.delivery.package import Package
from combe.errors import ToolError
from combe.proof.tools import find, run, version
from combe.realization.formats import Format
from combe.realization.stages import Realization
from combe.running.simulate import simulate
from combe.signals.stimuli import random_integers, vectors

COMPILER, EMULATOR, SIZES = "arm-none-eabi-gcc", "qemu-system-arm", "arm-none-eabi-size"
FLAGS = ["-std=c99", "-O2", "-mthumb", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wsign-conversion", "-Werror"]
TARGETS = {
    "cortex-m0plus": ["-mcpu=cortex-m0plus"], "cortex-m3": ["-mcpu=cortex-m3"], "cortex-m4": ["-mcpu=cortex-m4"],
    "cortex-m7": ["-mcpu=cortex-m7"],
}  # fmt: skip
FLOAT_UNIT = ["-mfpu=fpv4-sp-d16", "-mfloat-abi=hard"]
WITH_FLOAT_UNIT = ("cortex-m4", "cortex-m7")
"""What code is built for. It runs on an emulated Cortex-M4 board, which executes the instructions of all four."""
BOARD = ["-M", "mps2-an386", "-display", "none", "-chardev", "stdio,id=words", "-semihosting-config", "enable=on,chardev=words",
         "-icount", "shift=0"]  # fmt: skip
BLOCKS = (1, 7, 64, 256)
SAMPLES, TICK_INSTRUCTIONS, SECONDS = 4096, 40, 120
PORTABLE = ["-U__ARM_FEATURE_SIMD32", "-U__ARM_FEATURE_SAT"]


@dataclass(frozen=True, slots=True)
class TargetProof:
    """What the emulated program answered. ``instructions`` are per sample, by block length; sizes are in bytes.

    Instructions are counted, not clock cycles: how many cycles each takes depends on the processor and its memory.
    """

    target: str
    tool: str
    samples: int
    differences: int
    instructions: dict[int, float]
    code_bytes: int = 0
    constant_bytes: int = 0
    state_bytes: int = 0
    uses_intrinsics: bool = False
    failure: str = ""

    @property
    def holds(self) -> bool:
        """Whether it was built, ran, and gave every sample right."""
        return not self.failure and self.differences == 0

    def sentence(self) -> str:
        """The outcome in words."""
        if self.failure:
            return self.failure
        if self.differences:
            return f"{self.differences} of {self.samples} samples differ on {self.target}"
        sizes = f"{self.code_bytes} bytes of code, {self.constant_bytes} of constants, {self.state_bytes} of state"
        if not self.instructions:
            return f"{self.target}: builds without a warning, not run; {sizes}"
        longest = max(self.instructions)
        return (
            f"{self.target}: {self.samples} samples identical, {self.instructions[longest]:.1f} instructions a sample in blocks "
            f"of {longest}; {sizes}"
        )

    def document(self) -> dict[str, Any]:
        """As ``--json`` prints it."""
        return {
            "target": self.target, "tool": self.tool, "samples": self.samples, "equal": self.holds,
            "differences": self.differences, "uses_intrinsics": self.uses_intrinsics, "sentence": self.sentence(),
            "instructions_per_sample": {str(block): value for block, value in self.instructions.items()},
            "code_bytes": self.code_bytes, "constant_bytes": self.constant_bytes, "state_bytes": self.state_bytes,
        }  # fmt: skip


def prove_on_target(
    package: Package,
    realization: Realization,
    target: str = "cortex-m4",
    portable: bool = False,
    report: Callable[[str], None] = lambda _: None,
    with_codes: bool = False,
) -> TargetProof:
    """Build for a processor, run on the emulator, compare every sample with the bit-true model, count instructions.

    ``portable`` leaves the intrinsics out. ``with_codes`` runs the entry for raw converter codes. Floating point is compared
    within what rounding may make of it, in the unit of the cores that have one. A missing tool is a proof that doesn't hold, with how to get it as its failure.
    """
    tool = COMPILER
    try:
        compiler, emulator, sizes = find(COMPILER), find(EMULATOR), find(SIZES)
        tool = version(COMPILER)
        played = _vectors(package, realization, with_codes)
        with tempfile.TemporaryDirectory(prefix="combe-target-") as place:
            folder = Path(place)
            package.write(folder)
            (folder / "harness.c").write_text(_harness(package, played, with_codes), encoding="utf-8")
            for name in ("board.c", "board.ld"):
                shutil.copy(Path(__file__).parent / name, folder / name)
            report(f"building for {target}")
            unit = FLOAT_UNIT if package.code.is_float and target in WITH_FLOAT_UNIT else []
            flags = [*TARGETS[target], *unit, *FLAGS, *(PORTABLE if portable else [])]
            run([compiler, *flags, "-c", f"{package.file}.c"], folder)
            loose = [*TARGETS[target], *unit, "-mthumb", "-O2", "-std=gnu99"]
            libraries = ["-lgcc"] if package.code.is_float else []
            linked = ["-nostartfiles", "-Wl,--no-warn-rwx-segments", "-T", "board.ld"]
            run(
                [
                    compiler,
                    *loose,
                    *linked,
                    "-o",
                    "check.elf",
                    "board.c",
                    "harness.c",
                    f"{package.file}.o",
                    *libraries,
                ],
                folder,
            )
            code, constants = _sizes(run([sizes, "-A", f"{package.file}.o"], folder).decode())
            state = _state_bytes(compiler, sizes, package, folder, [*TARGETS[target], "-mthumb"])
            report(f"running on an emulated {target}")
            said = run([emulator, *BOARD, "-kernel", "check.elf"], folder, seconds=SECONDS).decode("utf-8", "replace")
    except ToolError as error:
        return TargetProof(target, tool, 0, 0, {}, failure=error.sentence().removeprefix("proof: "))
    found = re.search(r"different (\d+)", said)
    if found is None:
        return TargetProof(target, tool, 0, 0, {}, failure=f"the program ended with {said.strip()[:100]!r}")
    ticks = {int(block): int(value) for block, value in re.findall(r"block (\d+) (\d+)", said)}
    count = len(played.inputs)
    counted = {block: value * TICK_INSTRUCTIONS / count for block, value in ticks.items()}
    uses = not portable and "__smlad" in package.text(f"{package.file}.c") and target in ("cortex-m4", "cortex-m7")
    return TargetProof(
        target, tool, count * len(BLOCKS), int(found[1]), counted, code, constants, state, uses
    )  # fmt: skip


def sizes_for(package: Package, compiler: str, flags: list[str]) -> tuple[int, int, int]:
    """Bytes of code, constants and state, as a compiler's linker tells them; nothing is run."""
    prefix = compiler.removesuffix("gcc")
    built, measure = find(compiler), find(f"{prefix}size")
    with tempfile.TemporaryDirectory(prefix="combe-size-") as place:
        folder = Path(place)
        package.write(folder)
        run([built, *flags, "-std=c99", "-O2", "-c", f"{package.file}.c"], folder)
        code, constants = _sizes(run([measure, "-A", f"{package.file}.o"], folder).decode())
        return code, constants, _state_bytes(built, measure, package, folder, flags)


def _sizes(table: str) -> tuple[int, int]:
    """Bytes of code and of constants of an object file."""
    code = constants = 0
    for name, size in re.findall(r"^(\.\S+)\s+(\d+)", table, re.MULTILINE):
        if name.startswith(".text"):
            code += int(size)
        elif name.startswith((".rodata", ".data", ".srodata", ".sdata")):
            constants += int(size)
    return code, constants


def _state_bytes(compiler: str, sizes: str, package: Package, folder: Path, flags: list[str]) -> int:
    """Size of the state, from an object that holds one."""
    text = f'#include "{package.file}.h"\n{package.types["state"]} one;\n'
    (folder / "one.c").write_text(text, encoding="utf-8")
    run([compiler, *flags, "-fno-common", "-c", "one.c"], folder)
    found = re.search(r"^\.s?bss\s+(\d+)", run([sizes, "-A", "one.o"], folder).decode(), re.MULTILINE)
    return int(found[1]) if found else 0


@cache
def _environment() -> Environment:
    return Environment(
        loader=PackageLoader("combe.proof", "arm"), undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )


@dataclass(frozen=True, slots=True)
class _Vectors:
    """What the harness plays and expects, as C constants."""

    in_type: str
    out_type: str
    inputs: list[str]
    outputs: list[str]
    tolerance: str = ""


def _vectors(package: Package, realization: Realization, with_codes: bool) -> _Vectors:
    choices, types = package.code, package.types
    if with_codes:
        entry, _ = converters(choices)
        values = code_values(realization, choices)
        assert values is not None
        codes = random_integers(SAMPLES, Format(False, entry.bits, 0), 5)
        answers = codes_through(realization, choices, codes)
        return _Vectors(
            values["in_type"], values["out_type"], [f"{int(c)}u" for c in codes], [f"{int(c)}u" for c in answers]
        )
    samples = vectors(realization, SAMPLES, seed=5)
    if choices.is_float:
        model = float_model(realization, samples * realization.input.step, choices)
        given, wanted = ([real_text(float(x), choices.number) for x in each] for each in (model.samples, model.outputs))
        return _Vectors(types["input"], types["output"], given, wanted, real_text(model.tolerance, choices.number))
    in_type, out_type = c_type(realization.input), c_type(realization.output)
    return _Vectors(
        types["input"], types["output"], [literal(int(x), in_type) for x in samples],
        [literal(int(y), out_type) for y in simulate(realization, samples)],
    )  # fmt: skip


def _harness(package: Package, found: _Vectors, with_codes: bool) -> str:
    return _environment().get_template("harness.c.j2").render(
        name=package.name, file=package.file, types=package.types, is_header_only=False, count=len(found.inputs),
        blocks=BLOCKS, entry="run_codes" if with_codes else "run", in_type=found.in_type, out_type=found.out_type,
        inputs=found.inputs, outputs=found.outputs, tolerance=found.tolerance,
    )  # fmt: skip
