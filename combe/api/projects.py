"""Projects: their filters, and whether what they export still holds."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from combe.api.files import load
from combe.errors import CombeError, FileError

if TYPE_CHECKING:
    from combe.project.check import Check
    from combe.project.document import Member, Project
    from combe.project.way import Way

Say = Callable[[str], None]


def check(
    project: str | Path | Project,
    *,
    filter: str = "",
    to: str | Path | None = None,
    jobs: int = 1,
    say: Say = lambda _: None,
) -> Check:
    """Make everything a project exports anew, compare it byte for byte with the folders it went to, and prove it.

    Parameters
    ----------
    project
        Its file, or the value: then folders are told from the working directory.
    filter
        Only this one.
    to
        A folder to compare with instead of those the project remembers.
    jobs
        How many filters are checked at a time.

    Raises
    ------
    CombeError
        If it can't be read, designed, rounded or written at all.
    """
    from combe.project.check import check_project

    found, beside = _project_in(project)
    return check_project(found, beside, Path(to) if to is not None else None, say, name=filter, jobs=jobs)


def listed(project: str | Path | Project) -> list[dict[str, Any]]:
    """A project's filters: ``name``, ``source``, ``input_rate_hz``, ``output_rate_hz``, ```meets`` (with its integers, and what its bench must show).

    A joint at which formats or rates don't fit is told as ``joint``.
    """
    from combe.ledger import meets as all_kept
    from combe.project.chain import bench_lines, ideal_of, rounded_of
    from combe.project.sources import mismatches

    found, _ = _project_in(project)
    joints: dict[str, list[str]] = {}
    for joint in mismatches(found.members):
        joints.setdefault(joint.name, []).append(f"{joint.sentence}; {joint.remedy}")
    rows = []
    for place, member in enumerate(found.members):
        one = found.opened(place)
        try:
            ideal = ideal_of(one)
            rounded = rounded_of(one, ideal)
            kept = all_kept((*rounded.lines, *bench_lines(one, ideal, rounded)))
        except CombeError as error:
            raise (error if len(found.members) == 1 else error.at(member.code_name)) from None
        asked = member.requirement
        row = {"name": member.code_name, "title": asked.name, "source": member.source,
               "input_rate_hz": asked.input_rate_hz, "output_rate_hz": asked.output_rate_hz, "meets": kept}  # fmt: skip
        rows.append(row | ({"joint": "; ".join(joints[member.code_name])} if member.code_name in joints else {}))
    return rows


def way(project: str | Path | Project, filter: str = "", say: Say = lambda _: None) -> tuple[Way, tuple[Member, ...]]:
    """The way from the input to a filter as one, and all filters of the project.

    Raises
    ------
    CombeError
        If formats or rates differ at a joint, or a filter can't be made.
    """
    from combe.project.chosen import chosen
    from combe.project.way import way_of

    found, _ = _project_in(project)
    return way_of(found, chosen(found, filter).code_name, say), found.members


def _project_in(project: str | Path | Project) -> tuple[Project, Path]:
    from combe.project.document import Project as Value

    found = project if isinstance(project, Value) else load(project)
    if not isinstance(found, Value):
        raise FileError("is no project", str(project), "give a project file")
    return found, Path() if isinstance(project, Value) else Path(project).resolve().parent
