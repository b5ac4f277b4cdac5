"""A project as one frozen value: what was asked and what was chosen. All else follows from it."""

from __future__ import annotations

from dataclasses import dataclass, field

from msgspec import Struct

from combe.benching.setup import BenchSetup
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.recipes import GALLERY, Recipe
from combe.designing.task import DesignChoice
from combe.filters import Filter
from combe.ledger import Line
from combe.requirement import Requirement
from combe.rounding.choices import Choices
from combe.values import replace

STEPS = ("brief", "ideal", "rounded", "arithmetic", "code", "bench")
"""What follows from a project, step by step."""


class ProofRecord(Struct, frozen=True):
    """A proof that was made, tied by checksum to the exact text it was made of."""

    language: str
    checksum: str
    tool: str
    samples: int
    lines: tuple[Line, ...] = ()


class Pin(Struct, frozen=True):
    """A filter kept to be drawn behind the chosen one."""

    name: str
    filter: Filter
    is_shown: bool = True


class Processor(Struct, frozen=True):
    """The core a budget is counted for, its clock, and what was measured on it (as ``combe budget --measured`` takes it)."""

    core: str = "cortex-m4"
    clock_hz: float = 80e6
    measured: str = ""


@dataclass(frozen=True, slots=True)
class Project:
    """Everything a project file holds."""

    name: str
    requirement: Requirement
    design: DesignChoice = DesignChoice()
    arithmetic: Choices = Choices()
    code_name: str = "filter"
    proofs: tuple[ProofRecord, ...] = field(default=(), compare=False)
    pins: tuple[Pin, ...] = ()
    code: CodeChoices = CodeChoices()
    recipe: Recipe = GALLERY[0]
    processor: Processor = Processor()
    hardware: HardwareChoices = HardwareChoices()
    bench: BenchSetup = BenchSetup()
    export_folder: str = field(default="", compare=False)
    kept: tuple[tuple[tuple[str | int, ...], str], ...] = field(default=(), compare=False)
    """What a file of a newer version holds that isn't known here: where, and as JSON."""

    def is_same_file(self, other: Project) -> bool:
        """Whether both would be written as the same file: equal, and what only follows a project is equal too."""
        beside = (self.proofs, self.export_folder, self.kept) == (other.proofs, other.export_folder, other.kept)
        return self == other and beside

    def proof_of(self, checksum: str) -> ProofRecord | None:
        """The recorded proof of exactly this text, if there is one."""
        return next((proof for proof in self.proofs if proof.checksum == checksum), None)


__all__ = ["DesignChoice", "Pin", "Processor", "Project", "ProofRecord"]


def hardware_of(project: Project) -> HardwareChoices:
    """The choices about a circuit, with those it shares with other code."""
    code = project.code
    clock = project.hardware.clock_hz or project.requirement.clock_hz or 0.0
    return replace(
        project.hardware, clock_hz=clock, reloadable=code.reloadable, converter_in=code.converter_in,
        converter_out=code.converter_out,
    )  # fmt: skip
