"""A project held against what it exported: everything made anew, compared byte for byte, proved."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from functools import partial
from pathlib import Path
from typing import Any

from msgspec import Struct

from combe.delivery.package import Package
from combe.errors import CombeError
from combe.ledger import Line, meets, worst_line
from combe.ledger.words import figure_text, limit_name
from combe.project.chain import bench_lines, chain_of
from combe.project.chosen import chosen
from combe.project.document import Project
from combe.project.sources import mismatches

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
            missed = (
                worst
                if worst is not None and worst.margin < 0
                else next(line for line in self.lines if line.margin < 0)
            )
            found.append(
                f"{self.name}: misses {limit_name(missed)}, {figure_text(missed, missed.reached)} where {figure_text(missed, missed.asked)} is asked"
            )
        if not self.proved:
            found.append(f"{self.name}: not proved: {self.proof}")
        words = {DIFFERS: "differs from what the project makes", MISSING: "is missing"}
        found += [f"{self.name}: {file.path} {words[file.state]}" for file in self.files if file.state != SAME]
        return found


class Check(Struct, frozen=True):
    """Every filter of a project, and the joints between them that don't fit."""

    filters: tuple[FilterCheck, ...]
    joints: tuple[str, ...] = ()

    def __repr__(self) -> str:
        """In a line: which filters hold."""
        told = ", ".join(f"{each.name} {'holds' if each.holds else 'does not hold'}" for each in self.filters)
        return f"Check({told})"

    @property
    def holds(self) -> bool:
        """Whether all of them hold."""
        return not self.joints and all(each.holds for each in self.filters)

    def document(self) -> dict[str, Any]:
        """As ``combe check --json`` prints it."""
        found: dict[str, Any] = {"holds": self.holds, "filters": [each.document() for each in self.filters]}
        return found | ({"joints": list(self.joints)} if self.joints else {})


Say = Callable[[str], None]


def check_project(
    project: Project, beside: Path, to: Path | None = None, say: Say = lambda _: None,
    is_stopped: Callable[[], bool] = lambda: False, name: str = "", jobs: int = 1,
) -> Check:  # fmt: skip
    """Make everything a project exports anew, compare it with the folders it went to, and prove it.

    Parameters
    ----------
    beside
        The folder of the project file: a folder told relative to it is looked for there, and paths are told so.
    to
        A folder to compare with instead of those the project remembers; of several filters each in a folder of its own name
        below it, where there is one. Without either nothing is compared.
    name
        Only this filter.
    jobs
        How many filters are checked at a time; what is found, and in which order it is told, never depends on it.

    Raises
    ------
    CombeError
        If a filter can't be designed, rounded or written at all, naming it.
    """
    places = [chosen(project, name).place] if name else range(len(project.members))
    is_one = len(project.members) == 1
    work = [partial(_checked, project.opened(place), is_one, beside, to, say, is_stopped) for place in places]
    if jobs <= 1 or len(work) == 1:
        found = [each() for each in work]
    else:
        with ThreadPoolExecutor(min(jobs, len(work))) as pool:
            # Whoever may stop the work stops what each thread starts.
            found = list(pool.map(lambda pair: pair[1].run(pair[0]), [(each, copy_context()) for each in work]))
    joints = tuple(f"{joint.sentence}; {joint.remedy}" for joint in mismatches(project.members)) if not name else ()
    return Check(tuple(found), joints)


def _checked(
    project: Project, is_one: bool, beside: Path, to: Path | None, say: Say, is_stopped: Callable[[], bool]
) -> FilterCheck:
    name = project.code_name
    try:
        return _filter_check(
            project,
            beside,
            _folder(project, is_one, beside, to),
            say if is_one else lambda words: say(f"{name}: {words}"),
            is_stopped,
        )
    except CombeError as error:
        raise (error if is_one else error.at(name)) from None


def _folder(project: Project, is_one: bool, beside: Path, to: Path | None) -> Path | None:
    if to is not None:
        own = to / project.code_name
        return own if not is_one and own.is_dir() else to
    return beside / project.export_folder if project.export_folder else None


def _filter_check(
    project: Project, beside: Path, folder: Path | None, say: Say, is_stopped: Callable[[], bool]
) -> FilterCheck:
    chain = chain_of(project, say)
    files = _compared(chain.package, folder, beside) if folder is not None else ()
    say("proof")
    language = project.code.written_in
    proof = language.prove(
        chain.package, chain.rounded.realization, chain.rounded.lines, chain.ideal.design.filter, say, is_stopped
    )
    lines = (*chain.rounded.lines, *bench_lines(project, chain.ideal, chain.rounded, is_stopped))
    told = "" if proof.holds else proof.sentence()
    return FilterCheck(project.code_name, meets(lines), bool(proof.holds), files, lines, told)


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
