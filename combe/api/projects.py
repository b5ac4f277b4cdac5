"""Projects: their filters, and whether what they export still holds."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from combe.api.designing import meets
from combe.api.files import load
from combe.errors import FileError

if TYPE_CHECKING:
    from combe.project.check import Check
    from combe.project.document import Project

Say = Callable[[str], None]


def check(
    project: str | Path | Project, *, filter: str = "", to: str | Path | None = None, say: Say = lambda _: None
) -> Check:
    """Make everything a project exports anew, compare it byte for byte with the folder it went to, and prove it.

    Parameters
    ----------
    project
        Its file, or the value: then folders are told from the working directory.
    to
        A folder to compare with instead of the one the project remembers.

    Raises
    ------
    CombeError
        If it can't be read, designed, rounded or written at all.
    """
    from combe.project.check import check_project

    found, beside = _project_in(project, filter)
    return check_project(found, beside, Path(to) if to is not None else None, say)


def listed(project: str | Path | Project) -> list[dict[str, Any]]:
    """A project's filters: ``name``, ``source``, ``input_rate_hz``, ``output_rate_hz``, ``meets`` (with its integers)."""
    from combe.project.chosen import realized_file

    found, _ = _project_in(project, "")
    rounded = realized_file(found)
    rate = found.requirement.sample_rate_hz
    return [
        {"name": found.code_name, "title": found.requirement.name, "source": "input", "input_rate_hz": rate,
         "output_rate_hz": rate, "meets": meets(rounded.realization, found.requirement)}
    ]  # fmt: skip


def _project_in(project: str | Path | Project, filter: str) -> tuple[Project, Path]:
    from combe.project.chosen import chosen
    from combe.project.document import Project as Value

    found = project if isinstance(project, Value) else load(project)
    if not isinstance(found, Value):
        raise FileError("is no project", str(project), "give a project file")
    return chosen(found, filter), Path() if isinstance(project, Value) else Path(project).resolve().parent
