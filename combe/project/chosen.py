"""One filter of a project by its name, and the realization it leads to."""

from __future__ import annotations

from typing import Any

from combe.errors import FileError
from combe.project.chain import ideal_of, rounded_of
from combe.project.document import Project, hardware_of
from combe.realization.reading import RealizationFile
from combe.values import as_dict


def chosen(project: Project, name: str) -> Project:
    """The project with its filter of a name open; without one the only one there is.

    Raises
    ------
    FileError
        If there is none of that name, or several and no name.
    """
    members = project.members
    known = ", ".join(member.code_name for member in members)
    if not name:
        if len(members) > 1:
            raise FileError(f"there are {len(members)} filters", "--filter", f"name one of {known}")
        return project
    for names in ([member.code_name for member in members], [member.requirement.name for member in members]):
        if names.count(name) == 1:
            return project.opened(names.index(name))
    if len(members) == 1 and name == project.name:
        return project
    raise FileError(f'there is no filter "{name}"', "--filter", f"known {'are' if len(members) > 1 else 'is'} {known}")


def opened(project: Project, name: str) -> Project:
    """The project with its filter of a name open; without one its first."""
    return chosen(project, name) if name else project


def realized_file(project: Project) -> RealizationFile:
    """What a realization file of the open filter would hold."""
    ideal = ideal_of(project)
    rounded = rounded_of(project, ideal)
    return RealizationFile(rounded.realization, ideal.design, tuple(line.document() for line in rounded.lines))


def chosen_code(project: Project) -> dict[str, Any]:
    """The choices about code, and about a circuit where the code is one, of the open filter, by their names."""
    language = project.code.written_in
    every = as_dict(project.code) | (as_dict(hardware_of(project)) if language.is_circuit else {})
    return {key: value for key, value in every.items() if key in language.choices}
