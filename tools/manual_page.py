"""Writes packaging/combe.1, the manual page, from what the command says of itself. Run it where a verb or an option changes."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from combe import __version__
from combe.cli import VERBS
from combe.cli.root import command

PAGE = Path(__file__).resolve().parent.parent / "packaging" / "combe.1"


def page() -> str:
    """The whole text."""
    group = command()
    assert isinstance(group, click.Group)
    context = click.Context(group, info_name="combe")
    parts = [
        f'.TH COMBE 1 "" "Combe {__version__}" "User commands"', ".SH NAME", "combe \\- filters from a requirement to proved fixed-point code",
        ".SH SYNOPSIS", ".B combe\n[FILE]", ".br", ".B combe\nVERB [OPTIONS]",
        ".SH DESCRIPTION", plain(group.help or ""), "With a FILE, a project or a requirement, the application opens it.",
        ".SH VERBS",
    ]  # fmt: skip
    for name in VERBS:
        verb = group.get_command(context, name)
        assert verb is not None
        parts += [".TP", f".B combe {name}", plain(VERBS[name])]
        own = click.Context(verb, info_name=name, parent=context)
        for parameter in verb.params:
            record = parameter.get_help_record(own)
            if record is not None and record[0] != "--help":
                parts += [".RS", ".TP", f".B {plain(record[0])}", plain(record[1] or ""), ".RE"]
    parts += [
        ".SH EXIT STATUS", ".TP", ".B 0", "Done, and every limit is kept.", ".TP", ".B 1", "Done, but a limit is missed or a proof failed.", ".TP", ".B 2",
        "Bad input, told in one line; nothing is written.", ".TP", ".B 130", "Interrupted.",
    ]  # fmt: skip
    return "\n".join(parts) + "\n"


def plain(text: str) -> str:
    """A text that the formatter takes as it stands."""
    line = " ".join(text.split()).replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{line}" if line[:1] in (".", "'") else line


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
    sys.exit(0)
