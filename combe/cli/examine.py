"""``combe examine``"""

from __future__ import annotations

from typing import Annotated, Any

import typer

from combe.analysis.exact import exact_filter
from combe.analysis.rates import program_stages
from combe.cli.output import print_json, print_lines, status_of
from combe.cli.sources import FilterName, design_in
from combe.designing.costs import cost_of_design
from combe.designing.designed import Design
from combe.designing.file import design_document, read_design
from combe.errors import CombeError, FileError
from combe.files import parse_json, read_text
from combe.ledger import lines_of
from combe.ledger.goodness import goodness
from combe.realization.reading import realization_from
from combe.requirement.quantities import frequency_text
from combe.responses.measures import response_table

MOST_POINTS = 2_000_001


def run(
    file: Annotated[str, typer.Argument(metavar="FILE", help="A design, a realization or plain coefficients.")],
    sample_rate: Annotated[float | None, typer.Option(help="Sample rate in Hz; 1 without one.")] = None,
    filter: FilterName = "",
    points: Annotated[
        int | None, typer.Option(help="Add the response at this many frequencies, 0 to half the rate.")
    ] = None,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Measure any filter."""
    if sample_rate is not None and not 0 < sample_rate < float("inf"):
        raise FileError(f"{sample_rate:g} is not a sample rate", "--sample-rate", "it must be above zero")
    if points is not None and not 2 <= points <= MOST_POINTS:
        raise FileError(f"{points} points can't be computed", "--points", f"take 2 to {MOST_POINTS}")
    design = _design_in(file, sample_rate, filter)
    document: dict[str, Any] = design_document(design)
    document["measures"] = goodness(design.filter, design.sample_rate_hz)
    if design.stages:
        # What stages cost isn't what their prototype would.
        document["measures"]["cost"] = cost_of_design(design).document()
    if points is not None:
        document["response"] = response_table(design.filter, design.sample_rate_hz, points)
    lines = lines_of(design.filter, design.requirement) if design.requirement else ()
    if json:
        print_json(document)
    else:
        _print(document)
        if lines:
            print_lines(lines, "limits")
    return status_of(lines)


def _design_in(file: str, sample_rate: float | None, name: str = "") -> Design:
    """The design in a file; a realization counts as the filter its integers stand for."""
    text = read_text(file)
    if text.lstrip().startswith("{"):
        try:
            document = parse_json(text, "")
            if isinstance(document, dict) and document.get("format") == "combe-realization":
                found = realization_from(document)
                made = found.realization
                rate = sample_rate or made.sample_rate_hz
                asked = found.design.requirement if found.design and rate == made.sample_rate_hz else None
                stages = program_stages(made) if made.changes_rate else ()
                return Design("rounded", exact_filter(made), rate * made.ratio[0], asked, stages=stages)
            if isinstance(document, dict) and document.get("format") == "combe-project":
                return design_in(file, name)
        except CombeError as error:
            raise error.at(file) from None
    return read_design(file, sample_rate, text)


def _figure(value: float | str) -> str:
    return value if isinstance(value, str) else f"{value:.6g}"


def _print(document: dict[str, Any]) -> None:
    print(f"{document['kind']} of order {document['order']}, sampled at {frequency_text(document['sample_rate_hz'])}")
    for key, value in document["measures"].items():
        if key == "bands":
            for band in value:
                level = (
                    f"ripple {band['ripple_db']:.4f} dB"
                    if "ripple_db" in band
                    else f"{band['attenuation_db']:.2f} dB down"
                )
                print(f"{band['kind']}: {band['start_hz']:.6g} to {band['stop_hz']:.6g} Hz, {level}")
        elif isinstance(value, dict):
            print(f"{key}: " + ", ".join(f"{name} {_figure(each)}" for name, each in value.items()))
        elif key == "transitions":
            for entry in value:
                print(f"transition: {entry['start_hz']:.6g} to {entry['stop_hz']:.6g} Hz")
        elif isinstance(value, list):
            print(f"{key}: {', '.join(f'{x:.6g}' for x in value)}")
        else:
            print(f"{key}: {value:.6g}" if isinstance(value, float) else f"{key}: {value}")
