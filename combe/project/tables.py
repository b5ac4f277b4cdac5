"""Values as rows of words, for scripts."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from combe.benching.heard import Heard
from combe.benching.run import Bench
from combe.designing.contenders import Contender
from combe.designing.costs import lines_of_design
from combe.designing.designed import Design
from combe.errors import FormatError
from combe.ledger import Line
from combe.ledger.goodness import Table
from combe.ledger.words import figure_text, limit_name, signed_margin
from combe.project.document import Member, Project
from combe.realization.reading import RealizationFile
from combe.requirement.quantities import duration_text, rate_text
from combe.rounding.realize import rounded_lines
from combe.rounding.trade import Cell


def table_of(value: object) -> Table:
    """The table of a value, or of several of one kind.

    Raises
    ------
    FormatError
        If there is none.
    """
    if isinstance(value, Design):
        return _lines(lines_of_design(value, value.requirement) if value.requirement is not None else ())
    if isinstance(value, RealizationFile):
        asked = value.design.requirement if value.design is not None else None
        return _lines(rounded_lines(value.realization, asked) if asked is not None else ())
    if isinstance(value, Bench):
        return _outputs(value.through)
    if isinstance(value, Project):
        return _members(value.members)
    if isinstance(value, Iterable) and not isinstance(value, str):
        return _several(tuple(value))
    raise FormatError(
        f"a {type(value).__name__} makes no table",
        "table",
        "give a design, a realization, a bench, a project, lines, cells or contenders",
    )


def _several(values: Sequence[Any]) -> Table:
    if not values:
        return Table((), ())
    for kind, made in MAKERS:
        if all(isinstance(each, kind) for each in values):
            return made(values)
    raise FormatError(f"a {type(values[0]).__name__} makes no row", "table", "give lines, cells, contenders or outputs")


def _lines(lines: Sequence[Line]) -> Table:
    rows = []
    for line in lines:
        margin = signed_margin(line.margin) if line.unit == "db" else "kept" if line.margin >= 0 else "missed"
        rows.append((limit_name(line), figure_text(line, line.asked), figure_text(line, line.reached), margin))
    return Table(("asked", "reached", "margin"), tuple(rows), "limit")


def _cells(cells: Sequence[Cell]) -> Table:
    rows = tuple(
        (
            str(cell.order),
            str(cell.bits),
            signed_margin(cell.margin_db),
            "yes" if cell.meets else "no",
            str(cell.multiplies),
        )
        for cell in cells
    )
    return Table(("bits", "margin, dB", "kept", "multiplies"), rows, "order")


def _contenders(found: Sequence[Contender]) -> Table:
    rows = []
    for each in found:
        if each.design is None:
            rows.append((each.method, "–", "–", each.reason))
            continue
        cost = str(each.cost.multiplies) if each.cost is not None else "–"
        rows.append((each.method, str(each.design.order), cost, "kept" if each.keeps else "missed"))
    return Table(("order", "multiplies", "limits"), tuple(rows), "method")


def _outputs(outputs: Sequence[Heard]) -> Table:
    rows = []
    for heard in outputs:
        ratio = f"{heard.snr_db:.1f} dB" if heard.snr_db is not None else "–"
        delay = f"{heard.delay_samples:.2f}" if heard.delay_samples is not None else "–"
        rows.append((heard.name, f"{heard.rms:.6g}", f"{heard.peak:.6g}", f"{heard.rms_error:.3g}", ratio, delay))
    return Table(("rms", "peak", "rms error", "ratio", "delay"), tuple(rows), "through")


def _members(members: Sequence[Member]) -> Table:
    rows = []
    for member in members:
        late = member.requirement.max_delay_s
        limit = duration_text(late) if late is not None else "–"
        rate = rate_text(member.requirement.input_rate_hz)
        rows.append(
            (
                member.code_name,
                member.source,
                rate,
                member.design.method,
                str(member.arithmetic.coefficient_bits),
                limit,
            )
        )
    return Table(("source", "rate", "method", "bits", "delay at most"), tuple(rows), "filter")


MAKERS: tuple[tuple[type, Callable[[Any], Table]], ...] = (
    (Line, _lines), (Cell, _cells), (Contender, _contenders), (Heard, _outputs),
)  # fmt: skip
