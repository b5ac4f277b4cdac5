"""``combe realize``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe.arithmetic.reading import realization_document
from combe.arithmetic.realize import Choices, fewest_bits, realize, rounded_lines
from combe.arithmetic.words import stage_words
from combe.cli.output import print_json, print_lines, status_of
from combe.design.file import read_design
from combe.errors import CombeError, FormatError
from combe.files import json_text, write_text


def run(
    design: Annotated[str, typer.Argument(metavar="DESIGN.json", help="A design, or plain taps.")],
    structure: Annotated[
        str, typer.Option(help="direct or folded for taps, direct-1 for sections; by itself what suits.")
    ] = "",
    coefficient_bits: Annotated[str, typer.Option(metavar="N|fewest", help="Width of the coefficients.")] = "16",
    input: Annotated[str, typer.Option(metavar="FMT", help="Format of the input.")] = "s16f15",
    output: Annotated[str, typer.Option(metavar="FMT", help="Format of the output; the input's without one.")] = "",
    accumulator_bits: Annotated[int | None, typer.Option(metavar="N", help="A wider accumulator than needed.")] = None,
    state_bits: Annotated[
        int | None, typer.Option(metavar="N", help="Width of what sections hand on and feed back.")
    ] = None,
    better: Annotated[
        bool, typer.Option("--better", help="Search for integers that keep more of the margin than plain rounding.")
    ] = False,
    rounding: Annotated[str, typer.Option(help="nearest-even, nearest-up, floor or toward-zero.")] = "nearest-even",
    overflow: Annotated[str, typer.Option(help="saturate or wrap.")] = "saturate",
    out: Annotated[str, typer.Option(help="Write the realization file here.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print the realization file.")] = False,
) -> int:
    """Turn a design into integers that a chip can run."""
    source = read_design(design)
    fewest = coefficient_bits == "fewest"
    if not fewest and not (coefficient_bits.isascii() and coefficient_bits.isdigit()):
        raise FormatError(f'"{coefficient_bits}" is not a width', "coefficient_bits", 'a number of bits, or "fewest"')
    if better and source.requirement is None:
        raise FormatError("--better needs limits to keep", "better", "give a design file with its requirement")
    choices = Choices(
        16 if fewest else int(coefficient_bits),
        structure,
        input,
        output,
        accumulator_bits,
        rounding,
        overflow,
        state_bits,
        better,
    )
    name = source.requirement.name if source.requirement else "filter"
    try:
        if fewest:
            if source.requirement is None:
                raise FormatError(
                    '"fewest" needs limits to keep', "coefficient_bits", "give a design file with its requirement"
                )
            made = fewest_bits(source.filter, source.requirement, choices, name)
        else:
            made = realize(source.filter, source.sample_rate_hz, choices, name, source.requirement)
    except CombeError as error:
        raise error.at(design) from None
    lines = rounded_lines(made, source.requirement) if source.requirement else ()
    document = realization_document(made, lines, source)
    if out:
        write_text(out, json_text(document))
    if json:
        print_json(document)
    elif out != "-":
        print(f"{made.structure}, {made.input} to {made.output}")
        for stage in made.stages:
            print(f"  {stage_words(stage)}")
        print_lines(lines, "limits with integer coefficients")
    return status_of(lines)
