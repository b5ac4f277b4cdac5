"""``combe path``"""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
import typer

from combe.api.projects import way
from combe.cli.output import print_json, say
from combe.cli.sources import FilterName
from combe.errors import FormatError
from combe.files import json_text, write_text
from combe.project.sources import sentence
from combe.requirement.quantities import duration_text, frequency_text

MOST_POINTS = 1_000_000


def run(
    project: Annotated[str, typer.Argument(metavar="PROJECT", help="The project file.")],
    filter: FilterName = "",
    points: Annotated[int, typer.Option(metavar="N", help="Tell the response at N even frequencies.")] = 0,
    out: Annotated[str, typer.Option(metavar="F", help="Write the whole way as one realization file.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """The way from the input to a filter as one: response, delay, cost, and its program."""
    from combe.project.way import report
    from combe.realization.reading import file_document

    if points and not 2 <= points <= MOST_POINTS:
        raise FormatError(f"{points} points are out of reach", "--points", f"take 2 to {MOST_POINTS}")
    found, members = way(project, filter, say)
    document = report(found)
    if points:
        document["response"] = _response(found, points)
    if out:
        write_text(out, json_text(file_document(found.file())))
    if json:
        print_json(document)
        return 0
    print(sentence(members))
    for part in document["filters"]:
        print(
            f"{part['name']}: {part['input']} → {part['output']}, {part['cost']['multiplies']} multiplies, {part['delay_samples']:.6g} samples"
        )
    late = duration_text(document["delay_s"])
    print(f"all of it: {document['cost']['multiplies']} multiplies, {document['delay_samples']:.6g} samples ({late})")
    for band in document["bands"]:
        edges = f"{frequency_text(band['start_hz'])} to {frequency_text(band['stop_hz'])}"
        print(f"  {band['filter']}: {band['band']}, {edges}: {band['least_db']:.3f} to {band['most_db']:.3f} dB")
    return 0


def _response(found: Any, points: int) -> dict[str, list[float]]:
    hz = np.linspace(0, found.sample_rate_hz / 2, points)
    values = found.response(2 * np.pi * hz / found.sample_rate_hz)
    size = np.abs(values)
    with np.errstate(divide="ignore"):
        db = np.where(size > 0, 20 * np.log10(np.where(size > 0, size, 1)), -400.0)
    return {"hz": hz.tolist(), "db": db.tolist(), "phase_rad": np.unwrap(np.angle(values)).tolist()}
