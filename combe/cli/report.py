"""``combe report``"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from combe.analysis.exact import exact_filter
from combe.cli.output import say, status_of
from combe.cli.sources import FilterName
from combe.designing.costs import lines_of_design
from combe.designing.designed import Design
from combe.designing.file import read_design
from combe.errors import CombeError, FileError
from combe.files import parse_json, read_text, write_bytes, write_text
from combe.ledger import Line
from combe.project.chosen import chosen
from combe.project.document import INPUT, project_of
from combe.project.file import project_from
from combe.realization.reading import realization_from
from combe.reports.chapters import Columns, filter_chapter, single
from combe.reports.content import Report
from combe.reports.page import html_text
from combe.reports.pages import pdf_bytes
from combe.reports.project import project_report
from combe.rounding.realize import rounded_lines
from combe.values import replace


def run(
    file: Annotated[
        str, typer.Argument(metavar="FILE", help="A project, a realization, a design or plain coefficients.")
    ],
    to: Annotated[str, typer.Option(metavar="F.html|F.pdf", help="Where the report goes.")],
    filter: FilterName = "",
) -> int:
    """The whole story of a filter, or of all filters of a project, with figures."""
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
            project = project_from(document)
            if name:
                project = chosen(project, name)
                project = project_of(project.name, (replace(project.member, source=INPUT),), 0, project.kept)
            return project_report(project, say)
        if kind == "combe-realization":
            found = realization_from(document)
            exact = exact_filter(found.realization)
            design = found.design or Design("given", exact, found.realization.sample_rate_hz)
            asked = design.requirement
            columns: Columns = [
                ("designed", lines_of_design(design, asked) if asked else ()),
                ("rounded", rounded_lines(found.realization, asked) if asked else ()),
            ]
            title = asked.name if asked else found.realization.name
            return single(title, filter_chapter(title, design, found.realization, columns), columns), columns[-1][1]
    except CombeError as error:
        raise error.at(file) from None
    design = read_design(file, None, text)
    columns = [("designed", lines_of_design(design, design.requirement) if design.requirement else ())]
    title = design.requirement.name if design.requirement else "filter"
    return single(title, filter_chapter(title, design, None, columns), columns), columns[-1][1]
