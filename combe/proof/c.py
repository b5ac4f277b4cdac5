"""Proof of generated C: built with every warning an error, run, every sample compared with the bit-true model."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from jinja2 import Environment, PackageLoader, StrictUndefined

from combe.arithmetic.simulate import simulate
from combe.arithmetic.stages import Realization
from combe.delivery.c.types import c_type
from combe.delivery.package import Package
from combe.errors import Stopped, ToolError
from combe.ledger import Line
from combe.proof.tools import find, run, version
from combe.signals.stimuli import vectors
from combe.signals.sweep import measured_lines, sweep_for

STRICT = ["-std=c99", "-O2", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wsign-conversion", "-Werror"]
BLOCK_LENGTHS = ["1", "3", "64", "257", "4096"]
SAMPLES = 65536


@dataclass(frozen=True, slots=True)
class Proof:
    """What a compiler and the program it built answered.

    ``lines`` are the ledger's lines as measured on the program's own output.
    """

    language: str
    checksum: str
    tool: str
    samples: int
    differences: int
    first_difference: int | None
    failure: str = ""
    lines: tuple[Line, ...] = ()

    @property
    def holds(self) -> bool:
        """Whether the program was built, ran, and gave every sample right."""
        return not self.failure and self.differences == 0

    def sentence(self) -> str:
        """The outcome in words."""
        if self.failure:
            return self.failure
        if self.differences:
            return f"{self.differences} of {self.samples} samples differ, the first is sample {self.first_difference}"
        return f"{self.tool}: {self.samples} samples, all identical to the bit-true model"

    def document(self) -> dict[str, Any]:
        """The proof as ``--json`` prints it."""
        return {
            "language": self.language, "checksum": self.checksum, "tool": self.tool, "samples": self.samples,
            "equal": self.holds, "differences": self.differences, "first_difference": self.first_difference,
            "sentence": self.sentence(), "measured": [line.document() for line in self.lines],
        }  # fmt: skip


def prove_c(
    package: Package,
    realization: Realization,
    lines: tuple[Line, ...] = (),
    extra_flags: list[str] | None = None,
    report: Callable[[str], None] = lambda _: None,
    is_stopped: Callable[[], bool] = lambda: False,
) -> Proof:
    """Build and run a C package in a temporary folder.

    The delivered check runs first, as a user would run it. Then 65,536 samples (the set pieces and random ones)
    and a tone for every limit stream through in blocks of mixed lengths. A missing or failing compiler, or a
    program that crashes, is a proof that doesn't hold, with the reason as its ``failure``.
    """

    def failed(reason: str, tool: str = "gcc") -> Proof:
        return Proof("c", package.checksum, tool, 0, 0, None, reason)

    tool = "gcc"
    try:
        compiler = find("gcc")
        tool = version("gcc")
        with tempfile.TemporaryDirectory(prefix="combe-proof-") as place:
            folder = Path(place)
            package.write(folder)
            (folder / "harness.c").write_text(_harness(package.name), encoding="utf-8")
            flags = STRICT + (extra_flags or [])
            report("building")
            run([compiler, *flags, "-o", "check", f"{package.name}.c", f"{package.name}_check.c"], folder)
            run([compiler, *flags, "-o", "stream", f"{package.name}.c", "harness.c"], folder)
            if is_stopped():
                raise Stopped
            report("running the delivered check")
            run([str(folder / "check")], folder)
            report("comparing samples")
            return _streamed(package, realization, lines, folder, tool)
    except ToolError as error:
        return failed(error.sentence().removeprefix("proof: "), tool)


def _streamed(package: Package, realization: Realization, lines: tuple[Line, ...], folder: Path, tool: str) -> Proof:
    sweep = sweep_for(realization, lines)
    samples = np.concatenate([vectors(realization, SAMPLES, seed=7), sweep.samples])
    entry = np.dtype(c_type(realization.input).removesuffix("_t"))
    result = np.dtype(c_type(realization.output).removesuffix("_t"))
    stdout = run([str(folder / "stream"), *BLOCK_LENGTHS], folder, samples.astype(entry).tobytes())
    heard = np.frombuffer(stdout, dtype=result).astype(np.int64)
    wanted = simulate(realization, samples).astype(np.int64)
    if len(heard) != len(wanted):
        return Proof(
            "c", package.checksum, tool, 0, 0, None, f"the program wrote {len(heard)} samples instead of {len(wanted)}"
        )
    wrong = np.flatnonzero(heard != wanted)
    measured = measured_lines(sweep, realization, heard[len(heard) - len(sweep.samples) :], lines)
    first = int(wrong[0]) if len(wrong) else None
    return Proof("c", package.checksum, tool, len(wanted), len(wrong), first, "", measured)


@cache
def _environment() -> Environment:
    return Environment(loader=PackageLoader("combe", "proof"), undefined=StrictUndefined)


def _harness(name: str) -> str:
    return _environment().get_template("harness.c.j2").render(name=name)
