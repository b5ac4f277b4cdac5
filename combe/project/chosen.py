"""One filter of a project by its name, and the realization it leads to."""

from __future__ import annotations

from combe.errors import FileError
from combe.project.chain import ideal_of, rounded_of
from combe.project.document import Project
from combe.realization.reading import RealizationFile


def chosen(project: Project, name: str) -> Project:
    """The project's filter of a name; without one the only one there is.

    Raises
    ------
    FileError
        If there is none of that name.
    """
    if name and name not in (project.code_name, project.requirement.name, project.name):
        raise FileError(f'there is no filter "{name}"', "--filter", f"known is {project.code_name}")
    return project


def realized_file(project: Project) -> RealizationFile:
    """What a realization file of the project's filter would hold."""
    ideal = ideal_of(project)
    rounded = rounded_of(project, ideal)
    return RealizationFile(rounded.realization, ideal.design, tuple(line.document() for line in rounded.lines))
