"""``combe report``"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from combe.analysis.exact import exact_filter
from combe.cli.output import status_of
from combe.cli.sources import FilterName
from combe.delivery.report import Report, html_text, pdf_bytes, report_of
from combe.designing.costs import lines_of_design
from combe.designing.designed import Design
from combe.designing.file import read_design
from combe.errors import CombeError, FileError
from combe.files import parse_json, read_text, write_bytes, write_text
from combe.ledger import Line
from combe.project.chain import ideal_of, rounded_of
from combe.project.chosen import chosen
from combe.project.file import project_from
from combe.realization.reading import realization_from
from combe.rounding.realize import rounded_lines


def run(
    file: Annotated[
        str, typer.Argument(metavar="FILE", help="A project, a realization, a design or plain coefficients.")
    ],
    to: Annotated[str, typer.Option(metavar="F.html|F.pdf", help="Where the report goes.")],
    filter: FilterName = "",
) -> int:
    """The whole story of a filter, with figures."""
    ending = Path(to).suffix.lower()
    if ending not in (".html", ".pdf"):
        raise FileError(f"{to!r} is neither a page nor a PDF", "--to", "end it in .html or .pdf")
    report, lines = _told(file, filter)
    if ending == ".html":
        write_text(to, html_text(report))
    else:
        write_bytes(to, pdf_bytes(report))
    print(to)
    return status_of(lines)


def _told(file: str, name: str = "") -> tuple[Report, tuple[Line, ...]]:
    text = read_text(file)
    kind, document = "", None
    try:
        if text.lstrip().startswith("{"):
            document = parse_json(text, "")
            kind = str(document.get("format", "")) if isinstance(document, dict) else ""
        if kind == "combe-project":
            project = chosen(project_from(document), name)
            ideal = ideal_of(project)
            rounded = rounded_of(project, ideal)
            made = report_of(ideal.design, rounded.realization, ideal.lines, rounded.lines)
            return made, (*ideal.lines, *rounded.lines)
        if kind == "combe-realization":
            found = realization_from(document)
            exact = exact_filter(found.realization)
            design = found.design or Design("given", exact, found.realization.sample_rate_hz)
            asked = design.requirement
            before = lines_of_design(design, asked) if asked else ()
            after = rounded_lines(found.realization, asked) if asked else ()
            return report_of(design, found.realization, before, after), after
    except CombeError as error:
        raise error.at(file) from None
    design = read_design(file, None, text)
    lines = lines_of_design(design, design.requirement) if design.requirement else ()
    return report_of(design, None, lines, ()), lines
