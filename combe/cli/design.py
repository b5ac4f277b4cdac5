"""``combe design``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe.cli.output import print_json, print_lines, say, status_of
from combe.design.file import design_document
from combe.design.methods import design
from combe.errors import CombeError, DesignError
from combe.files import json_text, write_text
from combe.ledger import lines_of
from combe.requirement import read_requirement

Requirement = Annotated[str, typer.Argument(metavar="REQ.json", help="The requirement file, - for standard input.")]


def run(
    requirement: Requirement,
    method: Annotated[str, typer.Option(help="A method's name; without one the cheapest contender.")] = "",
    order: Annotated[int | None, typer.Option(help="A given order: its best filter instead of the shortest.")] = None,
    symmetry: Annotated[
        str, typer.Option(help="symmetric, or antisymmetric (phase turned by 90 degrees).")
    ] = "symmetric",
    out: Annotated[str, typer.Option(help="Write the design file here.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print the design file.")] = False,
) -> int:
    """Design one filter: the shortest that keeps every limit, or the best of a given order."""
    asked = read_requirement(requirement)
    if symmetry not in ("symmetric", "antisymmetric"):
        raise DesignError(f'"{symmetry}" is not a symmetry', "symmetry", "known are symmetric, antisymmetric")
    try:
        found = design(asked, method or "equiripple", order, 1 if symmetry == "symmetric" else -1)
    except CombeError as error:
        raise error.at(requirement) from None
    document = design_document(found)
    if out:
        write_text(out, json_text(document))
    lines = lines_of(found.filter, asked)
    if json:
        print_json(document)
    elif out != "-":
        print_lines(lines, f"{found.method}, order {found.order}, {document['cost']['multiplies']} multiplies")
    for note in found.notes:
        say(f"note: {note}")
    return status_of(lines)
