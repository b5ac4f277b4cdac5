"""All verbs gathered into one command."""

from __future__ import annotations

from typing import Annotated

import click
import typer

from combe import __version__
from combe.cli import (
    budget,
    contenders,
    deliver,
    demo,
    design,
    examine,
    methods,
    picture,
    realize,
    report,
    simulate,
    table,
)

MODULES = (demo, methods, design, contenders, examine, realize, simulate, deliver, budget, table, report, picture)


def _show_version(asked: bool) -> None:
    if asked:
        print(f"combe {__version__}")
        raise typer.Exit


def _root(
    version: Annotated[
        bool, typer.Option("--version", callback=_show_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    """Filters from a requirement to proved fixed-point code. Without a verb: open the application."""


def command() -> click.Command:
    """The command ``combe`` with a subcommand per verb."""
    app = typer.Typer(add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False, rich_markup_mode=None)
    app.callback()(_root)
    for module in MODULES:
        app.command(module.__name__.rsplit(".", 1)[-1])(module.run)
    return typer.main.get_command(app)
