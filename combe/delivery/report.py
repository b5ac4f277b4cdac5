"""The whole story of a filter with figures: one HTML page that needs nothing else, or a PDF."""

from __future__ import annotations

import base64
import html
import io
import textwrap
from typing import TYPE_CHECKING, Any

import numpy as np
from msgspec import Struct

from combe import __version__
from combe.analysis.exact import exact_filter
from combe.analysis.facts import facts
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.compare import compared
from combe.delivery.story import story
from combe.designing.designed import Design
from combe.filters import Filter
from combe.ledger import Line, cost_of
from combe.realization.stages import Realization
from combe.requirement import Requirement
from combe.responses import frequency_response, gain_db, group_delay, impulse_response
from combe.responses.measures import measures

if TYPE_CHECKING:
    from matplotlib.figure import Figure

POINTS, TIMES = 4096, 160
RIVER, OCHRE, CLAY, MOSS = "#175b8c", "#b5731c", "#a33f32", "#2f6a3f"
LINES_A_PAGE, WIDE = 62, 106


class Section(Struct, frozen=True):
    """A heading, sentences, rows of a table (the first its head), lines of plain text."""

    title: str
    sentences: tuple[str, ...] = ()
    table: tuple[tuple[str, ...], ...] = ()
    text: tuple[str, ...] = ()


class Report(Struct, frozen=True):
    """Everything that's told, and the figures that are drawn."""

    title: str
    sections: tuple[Section, ...]
    curves: tuple[tuple[str, Filter], ...]
    sample_rate_hz: float
    requirement: Requirement | None


def report_of(
    design: Design, realization: Realization | None, ideal_lines: tuple[Line, ...], rounded_lines: tuple[Line, ...]
) -> Report:  # fmt: skip
    """The story of a design, and of its realization where there is one."""
    asked = design.requirement
    name = asked.name if asked else realization.name if realization else "filter"
    cost = cost_of(design.filter)
    sections = [
        Section("Design", (
            f"{design.summary()}, {design.kind.upper()}, {design.sample_rate_hz:g} samples a second.",
            f"{cost.multiplies} multiplies, {cost.adds} adds and {cost.delays} words of memory a sample.", *design.notes,
        )),
    ]  # fmt: skip
    if ideal_lines or rounded_lines:
        sections.insert(0, Section("Limits", (), _ledger(ideal_lines, rounded_lines)))
    sections.append(_measured(design))
    curves: list[tuple[str, Filter]] = [("designed", design.filter)]
    if realization is not None:
        curves.append(("rounded", exact_filter(realization)))
        told = story(realization, name, asked, rounded_lines, made=design.summary())
        sections += [
            Section("Arithmetic", tuple(fact.sentence for fact in facts(realization, with_cycles=False)), text=tuple(told)),
            Section("Circuits", ("Every architecture at the clock of the brief, or a usual one.",), _architectures(realization, asked)),
        ]  # fmt: skip
    return Report(name, tuple(sections), tuple(curves), design.sample_rate_hz, asked)


def _ledger(ideal: tuple[Line, ...], rounded: tuple[Line, ...]) -> tuple[tuple[str, ...], ...]:
    rows: list[tuple[str, ...]] = [("limit", "asked", "designed", "margin", "rounded", "margin", "at")]
    lines = ideal or rounded
    for index, line in enumerate(lines):
        later = rounded[index] if index < len(rounded) else None
        unit = {"db": " dB", "s": " s"}.get(line.unit, "")
        place = f"{line.at_hz:.6g} Hz" if line.at_hz is not None else ""
        rows.append((
            f"{line.band} {line.limit}".strip(), f"{line.asked:g}{unit}",
            *((f"{line.reached:.5g}{unit}", _margin(line)) if ideal else ("", "")),
            *((f"{later.reached:.5g}{unit}", _margin(later)) if later else ("", "")), place,
        ))  # fmt: skip
    return tuple(rows)


def _margin(line: Line) -> str:
    return f"{'kept' if line.margin >= 0 else 'MISSED'} by {abs(line.margin):.4g}"


def _measured(design: Design) -> Section:
    rows = [("figure", "value")]
    for key, value in measures(design.filter, design.sample_rate_hz).items():
        if isinstance(value, (int, float)) and not isinstance(value, bool):
            rows.append((key.replace("_", " "), f"{value:.6g}"))
    return Section("Measures", (), tuple(rows))


def _architectures(realization: Realization, asked: Requirement | None) -> tuple[tuple[str, ...], ...]:
    rows: list[tuple[str, ...]] = [
        ("architecture", "clocks", "latency", "multipliers", "adders", "register bits", "highest rate")
    ]
    for row in compared(realization, HardwareChoices(), asked):
        if row.built is None:
            rows.append((row.architecture, "", "", "", "", "", row.sentence))
        else:
            count = row.built.count
            rows.append((row.architecture, str(row.built.clocks), str(row.built.latency), str(count.multipliers), str(count.adders),
                         str(count.registers), f"{row.rate_hz:.6g} Hz"))  # fmt: skip
    return tuple(rows)


def figures(report: Report) -> list[tuple[str, Figure]]:
    """Magnitude over its limits, the passbands close up, delay, and the answer to an impulse."""
    from matplotlib.figure import Figure as Sheet

    rate = report.sample_rate_hz
    hz = np.linspace(0, rate / 2, POINTS)
    omega = 2 * np.pi * hz / rate
    made: list[tuple[str, Figure]] = []
    bands = report.requirement.passbands if report.requirement else ()
    for title in ("Magnitude", "Passband", "Group delay", "Impulse response"):
        if title == "Passband" and not bands:
            continue
        sheet = Sheet(figsize=(8.2, 3.4), layout="constrained")
        axes = sheet.add_subplot()
        for (name, source), color, width in zip(report.curves, (RIVER, OCHRE), (1.6, 1.0)):
            if title == "Impulse response":
                answer = impulse_response(source, TIMES)
                axes.plot(np.arange(len(answer)), answer, ".-", color=color, linewidth=width, markersize=3, label=name)
                continue
            values = (
                group_delay(source, omega)
                if title == "Group delay"
                else np.maximum(gain_db(frequency_response(source, omega)), -200)
            )
            axes.plot(hz, values, color=color, linewidth=width, label=name)
        if title in ("Magnitude", "Passband"):
            _limits(axes, report.requirement)
        if title == "Passband":
            edges = [limit.points for band in bands for limit in (band.lower, band.upper) if limit]
            levels = [db for points in edges for _, db in points]
            room = max(0.6 * (max(levels) - min(levels)), 0.05)
            axes.set_ylim(min(levels) - room, max(levels) + room)
            axes.set_xlim(min(band.start_hz for band in bands), max(band.stop_hz for band in bands))
        axes.set_xlabel("samples" if title == "Impulse response" else "Hz")
        axes.set_ylabel({"Group delay": "samples", "Impulse response": ""}.get(title, "dB"))
        axes.grid(alpha=0.25)
        axes.legend(frameon=False, fontsize=8)
        axes.set_title(title, loc="left", fontsize=10)
        made.append((title, sheet))
    return made


def _limits(axes: Any, asked: Requirement | None) -> None:
    for band in asked.bands if asked else ():
        for limit in (band.upper, band.lower):
            if limit is not None:
                axes.plot([hz for hz, _ in limit.points], [db for _, db in limit.points], color=CLAY, linewidth=1.2)


def html_text(report: Report) -> str:
    """One page, figures inside."""
    rows = [
        "<!doctype html>", '<html lang="en"><head><meta charset="utf-8">', f"<title>{html.escape(report.title)}</title>", f"<style>{STYLE}</style>",
        "</head><body>", f"<h1>{html.escape(report.title)}</h1>",
    ]  # fmt: skip
    for title, sheet in figures(report):
        buffer = io.BytesIO()
        sheet.savefig(buffer, format="svg")
        data = base64.b64encode(buffer.getvalue()).decode()
        rows.append(f'<img alt="{title}" src="data:image/svg+xml;base64,{data}">')
    for section in report.sections:
        rows.append(f"<h2>{html.escape(section.title)}</h2>")
        rows += [f"<p>{html.escape(sentence)}</p>" for sentence in section.sentences]
        if section.table:
            head, *body = section.table
            rows.append("<table><tr>" + "".join(f"<th>{html.escape(cell)}</th>" for cell in head) + "</tr>")
            rows += ["<tr>" + "".join(_cell(cell) for cell in row) + "</tr>" for row in body]
            rows.append("</table>")
        if section.text:
            rows.append("<pre>" + html.escape("\n".join(section.text)) + "</pre>")
    return "\n".join([*rows, f"<footer>Made by Combe {__version__}.</footer>", "</body></html>", ""])


def _cell(text: str) -> str:
    mark = ' class="missed"' if text.startswith("MISSED") else ""
    return f"<td{mark}>{html.escape(text)}</td>"


def pdf_bytes(report: Report) -> bytes:
    """The same on pages: figures two by two, then the words."""
    from matplotlib.backends.backend_pdf import PdfPages
    from matplotlib.figure import Figure as Sheet

    buffer = io.BytesIO()
    with PdfPages(buffer, metadata={"Title": report.title, "Creator": f"Combe {__version__}"}) as pages:
        for _, sheet in figures(report):
            pages.savefig(sheet)
        rows = _plain(report)
        for first in range(0, len(rows), LINES_A_PAGE):
            sheet = Sheet(figsize=(8.27, 11.69))
            sheet.text(
                0.07,
                0.95,
                "\n".join(rows[first : first + LINES_A_PAGE]),
                family="monospace",
                fontsize=7.5,
                va="top",
                parse_math=False,
            )
            pages.savefig(sheet)
    return buffer.getvalue()


def _plain(report: Report) -> list[str]:
    rows = [report.title, "=" * len(report.title), ""]
    for section in report.sections:
        rows += [section.title, "-" * len(section.title)]
        for sentence in section.sentences:
            rows += textwrap.wrap(sentence, WIDE)
        if section.table:
            widths = [max(len(row[k]) for row in section.table if k < len(row)) for k in range(len(section.table[0]))]
            rows += [
                "  ".join(cell.ljust(min(width, 34)) for cell, width in zip(row, widths))[:WIDE]
                for row in section.table
            ]
        rows += [line[:WIDE] for line in section.text]
        rows.append("")
    return rows


STYLE = (
    "body{font:15px/1.45 system-ui,sans-serif;max-width:900px;margin:32px auto;padding:0 16px;color:#1f2421;background:#fbfaf6}"
    "h2{margin-top:32px}table{border-collapse:collapse;font-size:13px}td,th{padding:3px 12px 3px 0;text-align:left;"
    "border-bottom:1px solid #dcd9cf}img{max-width:100%}pre{font-size:12px;background:#fff;padding:12px;overflow:auto}"
    ".missed{color:#a33f32;font-weight:600}footer{margin-top:32px;color:#777;font-size:12px}"
)
