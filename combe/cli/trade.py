"""``combe trade``"""

from __future__ import annotations

import re
from typing import Annotated

import typer

from combe import api
from combe.cli.output import print_json
from combe.errors import CombeError, DesignError
from combe.requirement import read_requirement
from combe.rounding.trade import Cell, unbeaten


def run(
    requirement: Annotated[str, typer.Argument(metavar="REQ.json", help="The requirement file, - for standard input.")],
    method: Annotated[str, typer.Option(help="A method's name; without one the cheapest contender's.")] = "",
    bits: Annotated[str, typer.Option(metavar="FROM:TO", help="Widths of the coefficients.")] = "8:20",
    longer: Annotated[
        int | None, typer.Option(metavar="N", help="Orders above the least: 8 for taps, 3 for sections.")
    ] = None,
    input: Annotated[str, typer.Option(metavar="FMT", help="Format of the input.")] = "s16f15",
    structure: Annotated[str, typer.Option(help="A structure, as combe realize takes it.")] = "",
    plain: Annotated[bool, typer.Option("--plain", help="Round plainly, search for no better integers.")] = False,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Taps against bits: which orders keep every limit at which widths, and what nothing beats."""
    asked = read_requirement(requirement)
    try:
        cells = list(
            api.trade(asked, method, bits=_widths(bits), longer=longer, plain=plain, input=input, structure=structure)
        )
    except CombeError as error:
        raise error.at(requirement) from None
    cells.sort(key=lambda cell: (cell.order, cell.bits))
    best = unbeaten(cells)
    if json:
        print_json([cell.document(cell in best) for cell in cells])
    else:
        _print_map(cells, best)
    return 0 if best else 1


def _widths(text: str) -> list[int]:
    """``8:20`` or a single width."""
    match = re.fullmatch(r"\s*(\d{1,3})\s*(?::\s*(\d{1,3})\s*)?", text)
    if not match or (match[2] is not None and int(match[2]) < int(match[1])):
        raise DesignError(f'"{text}" is no range of widths', "--bits", "write one like 8:20")
    return list(range(int(match[1]), int(match[2] or match[1]) + 1))


def _print_map(cells: list[Cell], best: list[Cell]) -> None:
    """A row a width, a column an order: the margin in dB, marked where better integers are taken and where nothing
    beats it."""
    orders = sorted({cell.order for cell in cells})
    at = {(cell.order, cell.bits): cell for cell in cells}
    print("least margin in dB; b with better integers, * nothing beats it")
    print("bits  order" + "".join(f"{order:>10}" for order in orders))
    for width in sorted({cell.bits for cell in cells}, reverse=True):
        row = ""
        for order in orders:
            cell = at.get((order, width))
            marks = "" if cell is None else ("b" if cell.is_better else "") + ("*" if cell in best else "")
            row += f"{'-':>10}" if cell is None else f"{cell.margin_db:+.3f}{marks:<2}".rjust(10)
        print(f"{width:>4}       {row}")
    for cell in best:
        print(
            f"order {cell.order} at {cell.bits} bits: {cell.multiplies} multiplies, {cell.multiplier_blocks} blocks of "
            f"18 x 18, {cell.memory_bits} bits of coefficients"
        )
