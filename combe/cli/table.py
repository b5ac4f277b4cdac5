"""``combe table``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe.cli.sources import FilterName, realization_in
from combe.delivery import checked_name, identifier_from
from combe.delivery.recipes import GALLERY, recipe_named
from combe.delivery.tables import CoefficientSet, integer_sets, real_sets, sets_text
from combe.designing.file import read_design
from combe.errors import CombeError, FileError
from combe.files import parse_json, read_text, write_text
from combe.realization.reading import realization_from


def run(
    file: Annotated[str, typer.Argument(metavar="FILE", help="A design, a realization or plain coefficients.")] = "",
    recipe: Annotated[str, typer.Option(metavar="R", help="A recipe of the gallery, or a file.")] = "",
    to: Annotated[str, typer.Option(metavar="F", help="Where the text goes; - for standard output.")] = "",
    filter: FilterName = "",
    name: Annotated[str, typer.Option(metavar="ID", help="The name code is given.")] = "",
    listed: Annotated[bool, typer.Option("--list", help="Name the recipes of the gallery, one a line.")] = False,
) -> int:
    """Write coefficients as text, by a recipe."""
    if listed:
        for each in GALLERY:
            print(each.name)
        return 0
    for key, value in (("FILE", file), ("--recipe", recipe), ("--to", to)):
        if not value:
            raise FileError("is missing", key, "combe table FILE --recipe R --to F")
    chosen = recipe_named(recipe)
    found, own = _coefficients(file, filter)
    identifier = checked_name(name) if name else identifier_from(own)
    write_text(to, sets_text(found, chosen, identifier))
    return 0


def _coefficients(file: str, name: str = "") -> tuple[list[CoefficientSet], str]:
    """Coefficients in order, in as many sets as belong apart, and a name."""
    text = read_text(file)
    if text.lstrip().startswith("{"):
        try:
            document = parse_json(text, "")
            kind = document.get("format") if isinstance(document, dict) else None
            if kind == "combe-realization":
                made = realization_from(document).realization
                return integer_sets(made), made.name
            if kind == "combe-project":
                made = realization_in(file, name).realization
                return integer_sets(made), made.name
        except CombeError as error:
            raise (error if error.where.startswith(file) else error.at(file)) from None
    design = read_design(file, None, text)
    own = design.requirement.name if design.requirement else "coefficients"
    return real_sets(design), own
