"""``combe capture``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe import api
from combe.cli.output import hertz, print_json
from combe.cli.sources import FilterName, WholePath, realization_and_project
from combe.delivery.hdl.choices import ARCHITECTURES
from combe.errors import FormatError
from combe.files import json_text, read_bytes, write_text

LARGEST_CAPTURE = 1 << 16
"""Bytes: a hundred times what a board sends."""


def run(
    realization: Annotated[str, typer.Argument(metavar="REALIZATION.json", help="The realization file, or a project.")],
    filter: FilterName = "",
    whole_path: WholePath = False,
    heard: Annotated[
        str,
        typer.Option(metavar="FILE", help="What came over the board's serial line, byte by byte; simulated without."),
    ] = "",
    board: Annotated[str, typer.Option(metavar="BOARD", help="One that ships, or a file.")] = "",
    architecture: Annotated[str, typer.Option(metavar="A", help=f"Of the circuit: {', '.join(ARCHITECTURES)}.")] = "",
    clock: Annotated[str, typer.Option(metavar="HZ", help="The circuit's clock, such as 40M.")] = "",
    to: Annotated[str, typer.Option(metavar="FILE", help="Write the words here, as JSON.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """What a circuit on a board heard of itself, word by word against the model."""
    found, _ = realization_and_project(realization, filter, whole_path)
    if heard:
        for name, value in (("--board", board), ("--architecture", architecture), ("--clock", clock)):
            if value:
                what = "what was heard is the same on every board and in every architecture"
                raise FormatError(what, name, "leave it out")
        capture = api.capture(found, heard=read_bytes(heard, LARGEST_CAPTURE), source_name=heard)
    else:
        capture = api.capture(
            found,
            board=board,
            architecture=architecture,
            clock_hz=hertz(clock, "--clock") if clock else 0.0,
        )
    if to:
        write_text(to, json_text(capture.document()))
    if json:
        print_json(capture.document())
    else:
        print(capture.sentence())
        if to:
            print(to)
    return 0 if capture.holds else 1
