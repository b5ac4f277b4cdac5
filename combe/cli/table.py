"""``combe table``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe.cli.sources import FilterName, realization_in
from combe.delivery import checked_name, identifier_from
from combe.delivery.recipes import GALLERY, Coefficient, recipe_named, table_text
from combe.delivery.tables import integer_table, real_table
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
    found, described, kind, own = _coefficients(file, filter)
    identifier = checked_name(name) if name else identifier_from(own)
    write_text(to, table_text(found, chosen, identifier, described, kind))
    return 0


def _coefficients(file: str, name: str = "") -> tuple[list[Coefficient], str, str, str]:
    """Coefficients in order, their formats in words, the C type that holds them all, and a name."""
    text = read_text(file)
    if text.lstrip().startswith("{"):
        try:
            document = parse_json(text, "")
            kind = document.get("format") if isinstance(document, dict) else None
            if kind == "combe-realization":
                return integer_table(realization_from(document).realization)
            if kind == "combe-project":
                return integer_table(realization_in(file, name).realization)
        except CombeError as error:
            raise (error if error.where.startswith(file) else error.at(file)) from None
    design = read_design(file, None, text)
    own = design.requirement.name if design.requirement else "coefficients"
    return real_table(design.filter), "real numbers", "double", own
