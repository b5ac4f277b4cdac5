"""Folders that code was exported to, as a project file tells them: relative to itself where they lie below its own folder."""

from __future__ import annotations

import contextlib
from pathlib import Path

from combe.project.document import Project
from combe.project.sources import each_changed
from combe.values import replace


def told_beside(folder: Path, beside: Path | None) -> str:
    """A folder as a project file in the folder ``beside`` tells it, so that both can move together."""
    if beside is not None:
        with contextlib.suppress(ValueError):
            return folder.resolve().relative_to(beside.resolve()).as_posix()
    return str(folder)


def found_beside(told: str, beside: Path | None) -> Path:
    """Where a folder that a project file tells is."""
    return beside / told if beside is not None else Path(told)


def moved_beside(project: Project, before: Path | None, after: Path) -> Project:
    """The project as a file in another folder tells it: its exports stay where they are."""
    return each_changed(
        project,
        lambda member: (
            replace(member, export_folder=told_beside(found_beside(member.export_folder, before), after))
            if member.export_folder
            else member
        ),
    )
