"""What a verb works on: a design or a realization from its own file, or from a project."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from combe.designing.designed import Design
from combe.designing.file import read_design
from combe.errors import CombeError, FileError
from combe.files import parse_json, read_text
from combe.project.document import Project
from combe.realization.reading import RealizationFile, realization_from

FilterName = Annotated[
    str,
    typer.Option("--filter", metavar="NAME", help="Which filter of a project; needed only where there are several."),
]


WholePath = Annotated[
    bool,
    typer.Option("--path", help="The whole way from the input to that filter as one program."),
]


def realization_in(path: str, name: str = "", is_path: bool = False) -> RealizationFile:
    """The realization in a file, or that of a project's filter, or of the whole way to it."""
    return realization_and_project(path, name, is_path)[0]


def realization_and_project(path: str, name: str = "", is_path: bool = False) -> tuple[RealizationFile, Project | None]:
    """The same, with the project it comes from, that filter open; the file, which may be standard input, is read once."""
    document = _document(path)
    try:
        if _kind(document) == "combe-project":
            from combe.project.chosen import realized_file

            project = _project(document, name)
            if is_path:
                from combe.project.way import way_of

                return way_of(project, project.code_name).file(), project
            return realized_file(project), project
        if name or is_path:
            raise FileError("is no project", "--filter" if name else "--path", "leave it out")
        return realization_from(document), None
    except CombeError as error:
        raise error.at(path) from None


def design_in(path: str, name: str = "") -> Design:
    """The design in a file, in any layout coefficients come in, or that of a project's filter."""
    text = read_text(path)
    if text.lstrip().startswith("{"):
        try:
            document = parse_json(text, "")
            if _kind(document) == "combe-project":
                from combe.project.chain import ideal_of

                return ideal_of(_project(document, name)).design
        except CombeError as error:
            raise error.at(path) from None
    if name:
        raise FileError("is no project", f"{path}: --filter", "leave it out")
    return read_design(path, None, text)


def _document(path: str) -> Any:
    text = read_text(path)
    try:
        return parse_json(text, "")
    except CombeError as error:
        raise error.at(path) from None


def _kind(document: Any) -> str:
    return str(document.get("format", "")) if isinstance(document, dict) else ""


def _project(document: Any, name: str) -> Project:
    from combe.project.chosen import chosen
    from combe.project.file import project_from

    return chosen(project_from(document), name)
