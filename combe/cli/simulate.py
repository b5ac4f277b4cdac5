"""``combe simulate``"""

from __future__ import annotations

import re
from typing import Annotated, Any

import numpy as np
import typer
from numpy.typing import NDArray

from combe import api
from combe.cli.sources import FilterName, WholePath, realization_in
from combe.errors import CombeError, FileError
from combe.files import read_text, write_text


def run(
    realization: Annotated[str, typer.Argument(metavar="REALIZATION.json", help="The realization file.")],
    input: Annotated[str, typer.Option(help="Raw integers, one a line; - for standard input.")],
    output: Annotated[str, typer.Option(help="Where the result goes; - for standard output.")],
    filter: FilterName = "",
    whole_path: WholePath = False,
    ideal: Annotated[bool, typer.Option("--ideal", help="The unrounded filter, in steps of the output.")] = False,
) -> int:
    """Run a realization bit by bit."""
    found = realization_in(realization, filter, whole_path)
    samples = read_samples(input)
    try:
        if ideal and found.design is None:
            raise FileError("there is no design in it, so nothing unrounded to run", "design").at(realization)
        result = api.simulate(found, samples, ideal=ideal).tolist()
        text = "".join(f"{value!r}\n" for value in result)
    except CombeError as error:
        raise (error if error.where.startswith(realization) else error.at(input)) from None
    write_text(output, text)
    return 0


LARGEST_SIGNAL = 1 << 30
"""Bytes of a list of samples."""


def read_samples(path: str) -> NDArray[Any]:
    """Raw integers, one a line; blank lines are passed over."""
    words = [line.strip() for line in read_text(path, LARGEST_SIGNAL).splitlines()]
    numbers = []
    for index, word in enumerate(words, 1):
        if not word:
            continue
        if not re.fullmatch(r"[+-]?[0-9]{1,40}", word):
            shown = word if len(word) <= 30 else word[:27] + "..."
            raise FileError(f'expected a whole number, found "{shown}"', f"{path}: line {index}")
        numbers.append(int(word))
    wide = any(not -(1 << 63) <= value < 1 << 63 for value in numbers)
    return np.array(numbers, dtype=object if wide else np.int64)
