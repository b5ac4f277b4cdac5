"""A project held against what it exported: everything made anew, compared byte for byte, proved."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from msgspec import Struct

from combe.delivery.package import Package
from combe.ledger import Line, meets, worst_line
from combe.project.chain import chain_of
from combe.project.document import Project
from combe.requirement.quantities import level_text

SAME, DIFFERS, MISSING = "same", "differs", "missing"


class FileState(Struct, frozen=True):
    """An exported file: where it lies (as a project file tells it) and how it stands."""

    path: str
    state: str


class FilterCheck(Struct, frozen=True):
    """One filter: whether it keeps its brief with its integers, whether its code is proved, and its files."""

    name: str
    meets: bool
    proved: bool
    files: tuple[FileState, ...]
    lines: tuple[Line, ...] = ()
    proof: str = ""

    @property
    def holds(self) -> bool:
        """Whether nothing speaks against it."""
        return self.meets and self.proved and all(file.state == SAME for file in self.files)

    def document(self) -> dict[str, Any]:
        """As ``combe check --json`` lists it."""
        files = [{"path": file.path, "state": file.state} for file in self.files]
        return {"name": self.name, "meets": self.meets, "proved": self.proved, "files": files, "proof": self.proof}

    def complaints(self) -> list[str]:
        """What doesn't hold, a sentence each."""
        found = []
        worst = worst_line(self.lines)
        if not self.meets:
            by = (
                f" {worst.band} by {level_text(-worst.margin, 3)}"
                if worst is not None and worst.margin < 0
                else " a limit"
            )
            found.append(f"{self.name}: misses{by}")
        if not self.proved:
            found.append(f"{self.name}: not proved: {self.proof}")
        words = {DIFFERS: "differs from what the project makes", MISSING: "is missing"}
        found += [f"{self.name}: {file.path} {words[file.state]}" for file in self.files if file.state != SAME]
        return found


class Check(Struct, frozen=True):
    """Every filter of a project."""

    filters: tuple[FilterCheck, ...]

    @property
    def holds(self) -> bool:
        """Whether all of them hold."""
        return all(each.holds for each in self.filters)

    def document(self) -> dict[str, Any]:
        """As ``combe check --json`` prints it."""
        return {"holds": self.holds, "filters": [each.document() for each in self.filters]}


def check_project(
    project: Project, beside: Path, to: Path | None = None, say: Callable[[str], None] = lambda _: None,
    is_stopped: Callable[[], bool] = lambda: False,
) -> Check:  # fmt: skip
    """Make everything a project exports anew, compare it with the folder it went to, and prove it.

    Parameters
    ----------
    beside
        The folder of the project file: a folder told relative to it is looked for there, and paths are told so.
    to
        A folder to compare with instead of the one the project remembers; with neither nothing is compared.

    Raises
    ------
    CombeError
        If the project can't be designed, rounded or written at all.
    """
    chain = chain_of(project, say)
    folder = to if to is not None else Path(project.export_folder) if project.export_folder else None
    if folder is not None and not folder.is_absolute() and to is None:
        folder = beside / folder
    files = _compared(chain.package, folder, beside) if folder is not None else ()
    say("proof")
    language = project.code.written_in
    proof = language.prove(
        chain.package, chain.rounded.realization, chain.rounded.lines, chain.ideal.design.filter, say, is_stopped
    )
    kept = meets(chain.rounded.lines)
    found = FilterCheck(
        project.code_name, kept, bool(proof.holds), files, chain.rounded.lines, "" if proof.holds else proof.sentence()
    )  # fmt: skip
    return Check((found,))


def _compared(package: Package, folder: Path, beside: Path) -> tuple[FileState, ...]:
    found = []
    for file in package.files:
        path = package.place_of(folder, file)
        try:
            state = SAME if path.read_bytes() == file.text.encode("utf-8") else DIFFERS
        except OSError:
            state = MISSING
        try:
            told = path.resolve().relative_to(beside.resolve()).as_posix()
        except ValueError:
            told = str(path)
        found.append(FileState(told, state))
    return tuple(found)
