"""Proof of generated C: built with every warning an error, run, every sample compared with the bit-true model."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from msgspec import Struct

from combe.delivery.package import Package
from combe.errors import ToolError
from combe.filters import Filter
from combe.ledger import Line
from combe.proof.agreement import agreement
from combe.proof.process import stoppable
from combe.proof.runners import BitTrue, Floating
from combe.proof.runners.compiled import STRICT, Compiled
from combe.realization.stages import Realization
from combe.signals.broadband import MeasuredResponse, broadband_for, measured_response
from combe.signals.stimuli import vectors
from combe.signals.sweep import measured_lines, sweep_for
from combe.values import replace

SAMPLES = 65536
FLOAT_SAMPLES = 8192
__all__ = ["STRICT", "Proof", "prove_c"]


class Proof(Struct, frozen=True):
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
    """Build and run a C package, and compare it with its model.

    The delivered check runs first, as a user would run it. Then 65,536 samples (the set pieces and random ones)
    and a tone for every limit stream through in blocks of mixed lengths. A missing or failing compiler, or a
    program that crashes, is a proof that doesn't hold, with the reason as its ``failure``.
    """
    return proof_of(lambda: Compiled(package, realization, extra_flags), package, lines, report, is_stopped)


def proof_of(
    begun: Callable[[], Compiled],
    package: Package,
    lines: tuple[Line, ...],
    report: Callable[[str], None],
    is_stopped: Callable[[], bool],
) -> Proof:
    """The same of any program that takes a stream."""
    tool = package.written_in.tools[0]
    try:
        with stoppable(is_stopped), begun() as program:
            tool = program.name
            report("building")
            program.build()
            report("running the delivered check")
            program.check()
            report("comparing samples")
            return _compared(program, lines)
    except ToolError as error:
        return Proof(package.language, package.checksum, tool, 0, 0, None, error.sentence().removeprefix("proof: "))


def proved(
    package: Package,
    realization: Realization,
    lines: tuple[Line, ...],
    _: Filter | None,
    report: Callable[[str], None],
    is_stopped: Callable[[], bool],
) -> Proof:
    """The proof every language has."""
    return prove_c(package, realization, lines, None, report, is_stopped)


def _compared(program: Compiled, lines: tuple[Line, ...]) -> Proof:
    """Set pieces, a tone for every limit and broadband noise through the program, all compared, then measured.

    In floating point only the set pieces are compared, with the program in more digits; tones and noise are measured.
    """
    package, realization = program.package, program.realization
    if realization.changes_rate:
        return _rates_compared(program, lines)
    is_float = package.code.is_float
    sweep, noise = sweep_for(realization, lines), broadband_for(realization)
    pieces = vectors(realization, FLOAT_SAMPLES if is_float else SAMPLES, seed=7)
    samples = np.concatenate([pieces, sweep.samples, noise.samples])
    heard = program.run(samples)
    if is_float:
        wanted, tolerance = Floating(realization, package.code).model(pieces)
        found = agreement(heard[: len(pieces)], wanted, tolerance)
    else:
        tolerance = 0.0
        found = agreement(heard, BitTrue(realization).run(samples))
    step = 1.0 if is_float else realization.output.step
    at = len(pieces) + len(sweep.samples)
    measured = measured_lines(sweep, realization, heard[len(pieces) : at] * (step / realization.output.step), lines)
    response = measured_response(noise, noise.samples * realization.input.step, heard[at:] * step)
    proof = Proof(
        package.language, package.checksum, program.name, found.samples, found.differences, found.first, "", measured,
        response,
    )  # fmt: skip
    return replace(proof, largest_error=found.largest, tolerance=tolerance) if is_float else proof


def _rates_compared(program: Compiled, lines: tuple[Line, ...]) -> Proof:
    """The same where the rate changes, without broadband noise: there is no response at one rate."""
    package, realization = program.package, program.realization
    is_float = package.code.is_float
    sweep, down = sweep_for(realization, lines), realization.ratio[1]
    pieces = vectors(realization, FLOAT_SAMPLES if is_float else SAMPLES, seed=7)
    pieces = np.concatenate([pieces, np.zeros(-len(pieces) % down, dtype=np.int64)])
    samples = np.concatenate([pieces, sweep.samples])
    heard = program.run(samples)
    first = realization.output_count(len(pieces))
    tolerance = 0.0
    if is_float:
        wanted, tolerance = Floating(realization, package.code).model(pieces)
        found = agreement(heard[:first], wanted, tolerance)
        heard = heard / realization.output.step
    else:
        found = agreement(heard, BitTrue(realization).run(samples))
    measured = measured_lines(sweep, realization, heard[first:], lines)
    proof = Proof(
        package.language, package.checksum, program.name, found.samples, found.differences, found.first, "", measured
    )
    return replace(proof, largest_error=found.largest, tolerance=tolerance) if is_float else proof


def _response_document(response: MeasuredResponse) -> dict[str, Any]:
    return {
        "hz": response.hz.tolist(), "db": response.db.tolist(), "phase_rad": response.phase_rad.tolist(),
        "delay_samples": response.delay_samples.tolist(), "floor_db": response.floor_db,
    }  # fmt: skip
