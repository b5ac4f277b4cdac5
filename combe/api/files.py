"""Values in files, and back."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from combe.errors import CombeError, FileError

if TYPE_CHECKING:
    from typing import TypeAlias

    from combe.delivery.recipes import Recipe
    from combe.designing.designed import Design
    from combe.project.document import Project
    from combe.realization.reading import RealizationFile
    from combe.requirement import Requirement
    from combe.signals.spec import Signal

    Value: TypeAlias = Requirement | Design | RealizationFile | Project | Recipe | Signal


def load(path: str | Path) -> Value:
    """The value in any of Combe's files, told by its ``format``; plain coefficients make a design.

    Raises
    ------
    CombeError
        Naming the file, the key and what was expected.
    """
    from combe.designing.file import read_design
    from combe.files import parse_json, read_text

    text = read_text(path)
    if text.lstrip().startswith("{"):
        found = parse_json(text, str(path))
        if isinstance(found, dict) and found.get("format") in READERS:
            try:
                if found["format"] == "combe-signal":
                    from combe.signals.spec import signal_from

                    return signal_from(found, "", str(Path(path).parent))
                return from_document(found)
            except CombeError as error:
                raise error.at(str(path)) from None
    return read_design(path, None, text)


READERS = {
    "combe-requirement": "combe.requirement:requirement_from",
    "combe-design": "combe.designing.file:design_from",
    "combe-realization": "combe.realization.reading:realization_from",
    "combe-project": "combe.project.file:project_from",
    "combe-signal": "combe.signals.spec:signal_from",
    "combe-recipe": "combe.delivery.recipes:recipe_from",
}
"""Which function reads which kind of document."""


def from_document(document: dict[str, Any]) -> Value:
    """The value of a dictionary that reads like one of Combe's files.

    Raises
    ------
    CombeError
        Naming the key and what was expected.
    """
    kind = document.get("format")
    if kind not in READERS:
        raise FileError(f'"{kind}" is no format of Combe\'s', "format", f"known are {', '.join(READERS)}")
    module, _, name = READERS[str(kind)].partition(":")
    return cast("Requirement", getattr(import_module(module), name)(document))


def save(value: Value, path: str | Path) -> None:
    """Write a value to a file, whole or not at all; ``load`` gives it back.

    Raises
    ------
    CombeError
        If it can't be written, or is no value that has a file.
    """
    from combe.files import json_text, write_text

    write_text(path, json_text(document(value)))


def document(value: Value) -> dict[str, Any]:
    """The JSON document of a value, as its file holds it."""
    from combe.delivery.recipes import Recipe, recipe_document
    from combe.designing.designed import Design
    from combe.designing.file import design_document
    from combe.project.document import Project
    from combe.project.file import project_document
    from combe.realization.reading import RealizationFile, file_document
    from combe.requirement import Requirement, requirement_document
    from combe.signals.spec import Signal, signal_document

    if isinstance(value, Requirement):
        return requirement_document(value)
    if isinstance(value, Design):
        return design_document(value)
    if isinstance(value, RealizationFile):
        return file_document(value)
    if isinstance(value, Project):
        return project_document(value)
    if isinstance(value, Recipe):
        return recipe_document(value)
    if isinstance(value, Signal):
        return signal_document(value)
    raise FileError(
        f"a {type(value).__name__} has no file of its own",
        "save",
        "give a requirement, design, realization, project, recipe or signal",
    )
