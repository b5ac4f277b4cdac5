"""A project as one frozen value: what was asked and what was chosen. All else follows from it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, fields

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
    block: int = 128
    """Samples of half a buffer, on the board that the code is tried on."""


class Kept(Struct, frozen=True):
    """What a variant keeps of a filter."""

    requirement: Requirement
    design: DesignChoice
    arithmetic: Choices
    code: CodeChoices
    hardware: HardwareChoices


KEPT_PARTS = Kept.__struct_fields__


class Variant(Struct, frozen=True):
    """A state of a filter kept under a name, with a note."""

    name: str
    note: str
    kept: Kept


INPUT = "input"
"""What a filter takes its samples from where it doesn't take them from another."""


@dataclass(frozen=True, slots=True)
class Member:
    """One filter of a project: what was asked of it and what was chosen for it. ``source`` is where its samples come from,
    ``INPUT`` or the code name of another filter."""

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
    source: str = INPUT
    variants: tuple[Variant, ...] = ()

    @property
    def beside(self) -> tuple[object, ...]:
        """What follows a filter without being a choice."""
        return self.proofs, self.export_folder


@dataclass(frozen=True, slots=True, repr=False)
class Project:
    """Everything a project file holds. One of its filters is open: its parts are the project's own, so that whatever works on
    one filter needn't know of the others, which stand ``before`` and ``after`` it."""

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
    source: str = INPUT
    variants: tuple[Variant, ...] = ()
    before: tuple[Member, ...] = ()
    after: tuple[Member, ...] = ()

    def __repr__(self) -> str:
        """In a line: its filters by the names of their code."""
        return f"Project({self.name!r}: {', '.join(member.code_name for member in self.members)})"

    @property
    def member(self) -> Member:
        """The filter that is open."""
        return Member(**{key: getattr(self, key) for key in PARTS})

    @property
    def members(self) -> tuple[Member, ...]:
        """All filters in order."""
        return (*self.before, self.member, *self.after)

    @property
    def place(self) -> int:
        """Which of them is open."""
        return len(self.before)

    def opened(self, place: int) -> Project:
        """The same project with another of its filters open."""
        return self if place == self.place else project_of(self.name, self.members, place, self.kept)

    def is_same_file(self, other: Project) -> bool:
        """Whether both would be written as the same file: whichever filter is open, and with what only follows a filter."""
        if (self.name, self.kept, len(self.before) + len(self.after)) != (
            other.name, other.kept, len(other.before) + len(other.after),
        ):  # fmt: skip
            return False
        pairs = zip(self.members, other.members)
        return all(one == another and one.beside == another.beside for one, another in pairs)

    def proof_of(self, checksum: str) -> ProofRecord | None:
        """The recorded proof of exactly this text, if there is one."""
        return next((proof for proof in self.proofs if proof.checksum == checksum), None)


PARTS = tuple(entry.name for entry in fields(Member))
"""The parts of a project that belong to one filter."""


def project_of(
    name: str, members: Sequence[Member], place: int = 0, kept: tuple[tuple[tuple[str | int, ...], str], ...] = ()
) -> Project:
    """A project of filters, one of them open."""
    parts = {key: getattr(members[place], key) for key in PARTS}
    return Project(name, kept=kept, before=tuple(members[:place]), after=tuple(members[place + 1 :]), **parts)


__all__ = ["DesignChoice", "Member", "Pin", "Processor", "Project", "ProofRecord"]


def hardware_of(project: Project) -> HardwareChoices:
    """The choices about a circuit, with those it shares with other code."""
    code = project.code
    clock = project.hardware.clock_hz or project.requirement.clock_hz or 0.0
    return replace(
        project.hardware, clock_hz=clock, reloadable=code.reloadable, converter_in=code.converter_in,
        converter_out=code.converter_out, double_buffer=project.hardware.double_buffer and code.reloadable,
    )  # fmt: skip
