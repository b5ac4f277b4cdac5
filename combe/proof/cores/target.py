"""Proof on an emulated processor: every output compared, in blocks of several lengths, instructions counted."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import Struct

from combe.delivery.c.codes import converters
from combe.delivery.package import Package
from combe.errors import ToolError
from combe.proof.agreement import Agreement, agreement
from combe.proof.runners import BitTrue, Codes, Floating
from combe.proof.runners.cores import CORES
from combe.proof.runners.emulated import Emulated
from combe.realization.formats import Format
from combe.realization.stages import Realization
from combe.running.random_integers import random_integers
from combe.signals.stimuli import vectors

SAMPLES = 4096


class TargetProof(Struct, frozen=True):
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
    tool = CORES[target].compiler
    try:
        core = Emulated(package, realization, target, portable, with_codes)
        tool = core.name
        report(f"building for {target} and running on an emulated one")
        agreements = _agreements(core)
    except ToolError as error:
        return TargetProof(target, tool, 0, 0, {}, failure=error.sentence().removeprefix("proof: "))
    compared, wrong = (sum(getattr(each, name) for each in agreements) for name in ("samples", "differences"))
    return TargetProof(target, tool, compared, wrong, core.instructions, *core.sizes, core.uses_intrinsics)


def _agreements(core: Emulated) -> list[Agreement]:
    """The emulated core with its model, for each length of block."""
    realization, choices = core.realization, core.package.code
    tolerance = 0.0
    if core.with_codes:
        samples = random_integers(SAMPLES, Format(False, converters(choices)[0].bits, 0), 5)
        wanted = Codes(realization, choices).run(samples)
    else:
        samples = vectors(realization, SAMPLES, seed=5)
        if choices.is_float:
            wanted, tolerance = Floating(realization, choices).model(samples)
        else:
            wanted = BitTrue(realization).run(samples)
    return [agreement(found, wanted, tolerance) for found in core.run_in_blocks(samples).values()]
