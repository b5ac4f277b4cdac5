"""``combe table``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe.arithmetic.network import Network
from combe.arithmetic.reading import realization_from
from combe.arithmetic.section import Section
from combe.arithmetic.stages import Realization, TapSum
from combe.delivery import checked_name, identifier_from
from combe.delivery.c.types import c_type
from combe.delivery.recipes import GALLERY, Coefficient, recipe_named, table_text
from combe.design.file import read_design
from combe.errors import CombeError, FileError
from combe.files import parse_json, read_text, write_text
from combe.filters import Cascade, Filter, Fir, Roots, rational_of, sections_of


def run(
    file: Annotated[str, typer.Argument(metavar="FILE", help="A design, a realization or plain coefficients.")] = "",
    recipe: Annotated[str, typer.Option(metavar="R", help="A recipe of the gallery, or a file.")] = "",
    to: Annotated[str, typer.Option(metavar="F", help="Where the text goes; - for standard output.")] = "",
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
    found, described, kind, own = _coefficients(file)
    identifier = checked_name(name) if name else identifier_from(own)
    write_text(to, table_text(found, chosen, identifier, described, kind))
    return 0


def _coefficients(file: str) -> tuple[list[Coefficient], str, str, str]:
    """Coefficients in order, their formats in words, the C type that holds them all, and a name."""
    text = read_text(file)
    if text.lstrip().startswith("{"):
        try:
            document = parse_json(text, "")
            if isinstance(document, dict) and document.get("format") == "combe-realization":
                made = realization_from(document).realization
                return _integers(made)
        except CombeError as error:
            raise error.at(file) from None
    design = read_design(file, None, text)
    own = design.requirement.name if design.requirement else "coefficients"
    return _reals(design.filter), "real numbers", "double", own


def _integers(made: Realization) -> tuple[list[Coefficient], str, str, str]:
    found: list[Coefficient] = []
    formats = []
    for stage in made.stages:
        if isinstance(stage, TapSum):
            formats.append(stage.coefficient)
            found += [Coefficient(v, v * stage.coefficient.step, stage.coefficient.bits) for v in stage.coefficients]
        elif isinstance(stage, Section):
            formats += [stage.numerator, stage.denominator]
            found += [Coefficient(v, v * stage.numerator.step, stage.numerator.bits) for v in stage.b]
            found += [Coefficient(v, v * stage.denominator.step, stage.denominator.bits, True) for v in stage.a]
        elif isinstance(stage, Network):
            for term in (term for node in stage.nodes for term in node.terms):
                if abs(term.coefficient) > 1:
                    formats.append(term.format)
                    found.append(Coefficient(term.coefficient, term.coefficient * term.format.step, term.format.bits))
    if not found:
        raise FileError("there are no coefficients in it", "stages")
    widest = max(formats, key=lambda entry: entry.bits)
    described = ", ".join(dict.fromkeys(str(entry) for entry in formats))
    return found, described, c_type(widest), made.name


def _reals(source: Filter) -> list[Coefficient]:
    if isinstance(source, Fir):
        return [Coefficient(tap, tap, None) for tap in source.taps]
    cascade = sections_of(rational_of(source)) if isinstance(source, Roots) else source
    assert isinstance(cascade, Cascade)
    found: list[Coefficient] = []
    for index, (b0, b1, b2, a1, a2) in enumerate(cascade.sections):
        gain = cascade.gain if index == 0 else 1.0
        found += [Coefficient(value * gain, value * gain, None) for value in (b0, b1, b2)]
        found += [Coefficient(value, value, None, True) for value in (a1, a2)]
    return found
