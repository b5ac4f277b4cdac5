"""Proof of generated C: built with every warning an error, run, every sample compared with the bit-true model."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from jinja2 import Environment, PackageLoader, StrictUndefined
from numpy.typing import NDArray

from combe.delivery.c.model import float_model
from combe.delivery.c.types import c_type
from combe.delivery.package import Package
from combe.errors import Stopped, ToolError
from combe.ledger import Line
from combe.proof.tools import find, run, version
from combe.realization.stages import Realization
from combe.running.simulate import simulate
from combe.signals.broadband import MeasuredResponse, broadband_for, measured_response
from combe.signals.stimuli import vectors
from combe.signals.sweep import measured_lines, sweep_for

STRICT = ["-std=c99", "-O2", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wsign-conversion", "-Werror"]
CPP_STRICT = ["-std=c++17", *STRICT[1:]]
BLOCK_LENGTHS = ["1", "3", "64", "257", "4096"]
SAMPLES = 65536
FLOAT_SAMPLES = 8192
Integers = NDArray[np.int64]


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
    response: MeasuredResponse | None = None
    largest_error: float | None = None
    tolerance: float | None = None

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
        if self.tolerance is not None:
            return (
                f"{self.tool}: {self.samples} samples, all within rounding: {self.largest_error:.2g} off at most, "
                f"where {self.tolerance:.2g} is the bound"
            )
        return f"{self.tool}: {self.samples} samples, all identical to the bit-true model"

    def document(self) -> dict[str, Any]:
        """The proof as ``--json`` prints it."""
        return {
            "language": self.language, "checksum": self.checksum, "tool": self.tool, "samples": self.samples,
            "equal": self.holds, "differences": self.differences, "first_difference": self.first_difference,
            "sentence": self.sentence(), "measured": [line.document() for line in self.lines],
            **({"largest_error": self.largest_error, "tolerance": self.tolerance} if self.tolerance is not None else {}),
            **({"measured_response": _response_document(self.response)} if self.response is not None else {}),
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

    is_cpp, file = package.code.language == "c++", package.file
    tool = "g++" if is_cpp else "gcc"
    try:
        compiler = find(tool)
        named = version(tool)
        with tempfile.TemporaryDirectory(prefix="combe-proof-") as place:
            folder = Path(place)
            package.write(folder)
            ending = "cpp" if is_cpp else "c"
            (folder / f"harness.{ending}").write_text(_harness(package), encoding="utf-8")
            flags = [*(CPP_STRICT if is_cpp else STRICT), *(extra_flags or [])]
            source = [] if is_cpp else [f"{file}.c"]
            report("building")
            run([compiler, *flags, "-o", "check", *source, f"{file}_check.{ending}"], folder)
            run([compiler, *flags, "-o", "stream", *source, f"harness.{ending}"], folder)
            if is_stopped():
                raise Stopped
            report("running the delivered check")
            run([str(folder / "check")], folder)
            report("comparing samples")
            return _streamed(package, realization, lines, folder, named)
    except ToolError as error:
        return Proof(package.language, package.checksum, tool, 0, 0, None, error.sentence().removeprefix("proof: "))


def _streamed(package: Package, realization: Realization, lines: tuple[Line, ...], folder: Path, tool: str) -> Proof:
    """Set pieces, a tone for every limit and broadband noise through the program, all compared, then measured."""
    sweep, noise = sweep_for(realization, lines), broadband_for(realization)
    pieces = vectors(realization, SAMPLES if not package.code.is_float else FLOAT_SAMPLES, seed=7)
    samples = np.concatenate([pieces, sweep.samples, noise.samples])
    judged = _judged_floats if package.code.is_float else _judged_integers
    found = judged(package, realization, samples, len(pieces), folder, tool)
    if isinstance(found, Proof):
        return found
    proof, heard = found
    step = realization.output.step if not package.code.is_float else 1.0
    at = len(pieces) + len(sweep.samples)
    raw = heard[len(pieces) : at] / (realization.output.step / step)
    measured = measured_lines(sweep, realization, raw, lines)
    response = measured_response(noise, noise.samples * realization.input.step, heard[at:] * step)
    return replace(proof, lines=measured, response=response)


def _judged_integers(
    package: Package, realization: Realization, samples: Integers, _: int, folder: Path, tool: str
) -> Proof | tuple[Proof, NDArray[Any]]:
    entry = np.dtype(c_type(realization.input).removesuffix("_t"))
    result = np.dtype(c_type(realization.output).removesuffix("_t"))
    stdout = run([str(folder / "stream"), *BLOCK_LENGTHS], folder, samples.astype(entry).tobytes())
    heard = np.frombuffer(stdout, dtype=result).astype(np.int64)
    wanted = simulate(realization, samples).astype(np.int64)
    if len(heard) != len(wanted):
        return _short(package, tool, len(heard), len(wanted))
    wrong = np.flatnonzero(heard != wanted)
    first = int(wrong[0]) if len(wrong) else None
    return Proof(package.language, package.checksum, tool, len(wanted), len(wrong), first), heard


def _judged_floats(
    package: Package, realization: Realization, samples: Integers, compared: int, folder: Path, tool: str
) -> Proof | tuple[Proof, NDArray[Any]]:
    """Only the set pieces are compared with the longer numbers; tones and noise are measured."""
    kind = np.dtype(np.float32 if package.code.number == "single" else np.float64)
    stdout = run(
        [str(folder / "stream"), *BLOCK_LENGTHS], folder, (samples * realization.input.step).astype(kind).tobytes()
    )
    heard = np.frombuffer(stdout, dtype=kind).astype(np.float64)
    if len(heard) != len(samples):
        return _short(package, tool, len(heard), len(samples))
    model = float_model(realization, samples[:compared] * realization.input.step, package.code)
    off = np.abs(heard[:compared] - model.outputs)
    wrong = np.flatnonzero(~(off <= model.tolerance))
    first = int(wrong[0]) if len(wrong) else None
    largest = float(np.max(off, initial=0.0))
    proof = Proof(package.language, package.checksum, tool, compared, len(wrong), first)
    return replace(proof, largest_error=largest, tolerance=model.tolerance), heard


def _short(package: Package, tool: str, heard: int, wanted: int) -> Proof:
    what = f"the program wrote {heard} samples instead of {wanted}"
    return Proof(package.language, package.checksum, tool, 0, 0, None, what)


def _response_document(response: MeasuredResponse) -> dict[str, Any]:
    return {
        "hz": response.hz.tolist(), "db": response.db.tolist(), "phase_rad": response.phase_rad.tolist(),
        "delay_samples": response.delay_samples.tolist(), "floor_db": response.floor_db,
    }  # fmt: skip


@cache
def _environment() -> Environment:
    return Environment(
        loader=PackageLoader("combe", "proof"), undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )


def _harness(package: Package) -> str:
    return _environment().get_template("harness.c.j2").render(
        name=package.name, file=package.file, types=package.types, is_header_only=package.code.language == "c++"
    )  # fmt: skip
