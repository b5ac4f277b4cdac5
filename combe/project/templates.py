"""Filters kept to start others from: a project file each, in a folder of one's own."""

from __future__ import annotations

import re
from pathlib import Path

from combe.errors import FileError
from combe.files import make_folder
from combe.project.document import INPUT, Project, project_of
from combe.project.file import save_project
from combe.values import replace


def place(name: str, folder: Path) -> Path:
    """The file of a template."""
    return folder / f"{name}.combe"


def names(folder: Path) -> list[str]:
    """What there is, by name."""
    return sorted(path.stem for path in folder.glob("*.combe")) if folder.is_dir() else []


def keep(project: Project, name: str, folder: Path) -> Path:
    """The open filter as a template, fed by the input, without what was exported and proved; one of the same name gives way.

    Raises
    ------
    FileError
        If the name won't do, or it can't be written.
    """
    word = name.strip()
    if not re.fullmatch(r"[^/\\\0.][^/\\\0]{0,99}", word):
        raise FileError(
            f'"{word[:40]}" is no name for a template', "template", "up to 100 characters, no slash, no dot in front"
        )
    member = replace(project.member, source=INPUT, proofs=(), export_folder="")
    path = place(word, make_folder(folder))
    save_project(project_of(word, (member,)), path)
    return path
