"""The project file: one JSON document, ``NAME.combe``."""

from __future__ import annotations

import json
from pathlib import Path as FilePath
from typing import Any

from combe.checking import Fields
from combe.delivery.package import identifier_from
from combe.errors import CombeError, FileError
from combe.files import json_text, read_json, write_text
from combe.project.document import Member, Project, project_of
from combe.project.member_file import member_document, member_from
from combe.project.shape import FirstShape, ProjectShape
from combe.project.sources import check_sources
from combe.requirement import requirement_from
from combe.schema import Path, merged, read, split
from combe.values import replace

VERSION = 2
"""Of files that are written. In version 1 a project was a single filter."""


def read_project(path: str | FilePath) -> Project:
    """The project in a file; a requirement file makes a new project of its own.

    Raises
    ------
    CombeError
        Naming the file, the key and what was expected.
    """
    document = read_json(path)
    try:
        if isinstance(document, dict) and document.get("format") == "combe-requirement":
            requirement = requirement_from(document)
            return Project(requirement.name, requirement, code_name=identifier_from(requirement.name))
        return project_from(document)
    except CombeError as error:
        raise error.at(str(path)) from None


def save_project(project: Project, path: str | FilePath) -> None:
    """Write a project whole or not at all."""
    write_text(path, json_text(project_document(project)))


def project_from(document: Any) -> Project:
    """The project in a JSON document. Of a newer version what isn't known here is kept, to be written back."""
    version = document.get("version") if isinstance(document, dict) else None
    is_newer = isinstance(version, int) and not isinstance(version, bool) and version > VERSION
    strange: dict[Path, Any] = {}
    if is_newer:
        document, strange = split(document, ProjectShape)
        strange["version",] = version
        document["version"] = VERSION
    Fields(document).header("combe-project", 1 if version == 1 else VERSION)
    try:
        made = _first(document) if version == 1 else _project(document)
        return replace(made, kept=tuple((path, json_text(value)) for path, value in strange.items()))
    except CombeError as error:
        if not is_newer:
            raise
        what = f"version {version} is newer than this Combe knows ({VERSION}), and not all of it can be read"
        raise FileError(what, "version", error.sentence()) from None


def _first(document: Any) -> Project:
    """Of version 1: one filter, its keys beside the project's."""
    found = read(document, FirstShape)
    member = member_from(found, document, found.name)
    return project_of(found.name if found.name is not None else member.requirement.name, (member,))


def _project(document: Any) -> Project:
    found = read(document, ProjectShape)
    if not found.filters:
        raise FileError("expected at least one filter, found an empty list", "filters")
    members: list[Member] = []
    for k, (entry, part) in enumerate(zip(found.filters, document["filters"])):
        try:
            members.append(member_from(entry, part))
        except CombeError as error:
            raise type(error)(
                error.what, f"filters[{k}].{error.where}" if error.where else f"filters[{k}]", error.instead
            ) from None
    check_sources(members)
    return project_of(found.name if found.name is not None else members[0].requirement.name, members)


def project_document(project: Project) -> dict[str, Any]:
    """The JSON document of a project; reading it gives the same value again, its first filter open."""
    document: dict[str, Any] = {
        "format": "combe-project", "version": VERSION, "name": project.name,
        "filters": [member_document(member) for member in project.members],
    }  # fmt: skip
    strange = {path: json.loads(text) for path, text in project.kept}
    document["version"] = strange.pop(("version",), VERSION)
    return merged(document, strange)
