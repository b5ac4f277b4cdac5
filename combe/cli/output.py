"""What verbs print: one JSON document, or a table for people."""

from __future__ import annotations

import json
import re
import sys
from typing import TYPE_CHECKING, Any

from combe.errors import FormatError
from combe.files import json_text

if TYPE_CHECKING:
    from combe.ledger import Line

KEPT, MISSED = 0, 1


def print_json(document: Any) -> None:
    """One JSON document on standard output."""
    text = json_text(document)
    encoding = (getattr(sys.stdout, "encoding", None) or "utf-8").lower().replace("-", "")
    if encoding != "utf8":
        # Escapes of JSON's own, where the terminal has no such characters.
        text = json_text(json.loads(text), ascii_only=True)
    sys.stdout.write(text)


def say(text: str) -> None:
    """Progress and remarks, on standard error."""
    print(text, file=sys.stderr)


def status_of(lines: tuple[Line, ...]) -> int:
    """The exit status a ledger calls for."""
    from combe.ledger import meets

    return KEPT if meets(lines) else MISSED


def print_lines(lines: tuple[Line, ...], heading: str) -> None:
    """The ledger as a table, a verdict in words on each row."""
    from rich.console import Console
    from rich.table import Table

    table = Table(
        "limit", "asked", "reached", "at", "margin", "", title=heading, title_justify="left", box=None, pad_edge=False
    )
    for column in table.columns[1:5]:
        column.justify = "right"
    for line in lines:
        table.add_row(*row_of(line))
    console = Console(width=100 if not sys.stdout.isatty() else None, highlight=False)
    console.print(table)


def row_of(line: Line) -> list[str]:
    """One line of the ledger as words."""
    unit = {"db": " dB", "s": " s", "": ""}[line.unit]
    side = {"min_db": "at least", "max_db": "at most"}.get(line.limit, line.limit.rsplit("_", 1)[0].replace("_", " "))
    name = f"{line.band} {side}".strip()
    place = "" if line.at_hz is None else f"{line.at_hz:.6g} Hz"
    verdict = "kept" if line.margin >= 0 else "MISSED"
    return [
        name,
        f"{line.asked:g}{unit}",
        f"{_number(line, line.reached)}{unit}",
        place,
        f"{_number(line, line.margin)}{unit}",
        verdict,
    ]


def _number(line: Line, value: float) -> str:
    return f"{value:.4f}" if line.unit == "db" else f"{value:.6g}"


def hertz(text: str, where: str) -> float:
    """A frequency such as 80M, 8e7 or 40MHz.

    Raises
    ------
    FormatError
        If it's none.
    """
    found = re.fullmatch(r"\s*([\d.]+(?:e\d+)?)\s*([kMG]?)(?:Hz)?\s*", text)
    try:
        value = float(found[1]) * {"": 1.0, "k": 1e3, "M": 1e6, "G": 1e9}[found[2]] if found else 0.0
    except ValueError:
        value = 0.0
    if not 0 < value < 1e15:
        raise FormatError(f"{text!r} is not a clock", where, "a frequency such as 80M or 8e7")
    return value
