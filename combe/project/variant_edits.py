"""States of a filter kept under a name: keeping, going back, letting go."""

from __future__ import annotations

from combe.errors import FileError
from combe.project.document import KEPT_PARTS, Kept, Project, Variant
from combe.project.edits import Edit
from combe.project.sources import carried_on
from combe.values import replace

MOST_VARIANTS = 40


def state_of(project: Project) -> Kept:
    """The open filter as it stands, as far as a variant keeps it."""
    return Kept(**{key: getattr(project, key) for key in KEPT_PARTS})


def keep_variant(name: str, note: str = "") -> Edit:
    """Keep the open filter as it stands; a variant of the same name gives way."""

    def make(project: Project) -> Project:
        title = name.strip()
        if not title:
            raise FileError("a variant has a name", "variants", "give it one")
        others = [variant for variant in project.variants if variant.name != title]
        if len(others) >= MOST_VARIANTS:
            raise FileError(f"there are {MOST_VARIANTS} variants already", "variants", "let one go first")
        return replace(project, variants=(*others, Variant(title, note.strip(), state_of(project))))

    return Edit("keep a variant", make)


def take_variant(name: str) -> Edit:
    """Go back to a variant; what stands now is lost unless it is kept, or undone."""

    def make(project: Project) -> Project:
        kept = named(project, name).kept
        return carried_on(project, replace(project, **{key: getattr(kept, key) for key in KEPT_PARTS}))

    return Edit(f"go back to {name}", make)


def drop_variant(name: str) -> Edit:
    """Let a variant go."""

    def make(project: Project) -> Project:
        gone = named(project, name)
        return replace(project, variants=tuple(variant for variant in project.variants if variant is not gone))

    return Edit("let a variant go", make)


def named(project: Project, name: str) -> Variant:
    """A variant of the open filter.

    Raises
    ------
    FileError
        If there is none of that name.
    """
    for variant in project.variants:
        if variant.name == name:
            return variant
    known = ", ".join(variant.name for variant in project.variants) or "none"
    raise FileError(f'there is no variant "{name}"', "variants", f"known are {known}")
