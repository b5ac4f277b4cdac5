"""All verbs gathered into one command, each loaded when it is asked for."""

from __future__ import annotations

from functools import cache
from importlib import import_module

import click

from combe import __version__
from combe.cli import VERBS


class Verbs(click.Group):
    """Knows the verbs by name and sentence; a verb's own module is read when it runs or tells its options."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """In the order in which an engineer works."""
        return list(VERBS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """One verb, or nothing where there is none of that name."""
        return _verb(cmd_name) if cmd_name in VERBS else None

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The verbs and their sentences."""
        with formatter.section("Verbs"):
            formatter.write_dl(list(VERBS.items()))


@cache
def _verb(name: str) -> click.Command:
    import typer

    app = typer.Typer(add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None)
    app.command(name)(import_module(f"combe.cli.{name}").run)
    return typer.main.get_command(app)


def command() -> click.Command:
    """The command ``combe`` with a subcommand per verb."""
    group = Verbs(
        help="Filters from a requirement to proved fixed-point code. Without a verb: open the application.",
        no_args_is_help=True,
    )
    group.params.append(
        click.Option(
            ["--version"],
            is_flag=True,
            is_eager=True,
            expose_value=False,
            callback=_show_version,
            help="Print the version.",
        )
    )
    for name, words in (
        ("install", "Complete words of this command in a shell."),
        ("show", "Print the script that does."),
    ):
        option = click.Option(
            [f"--{name}-completion"], metavar="SHELL", is_flag=False, flag_value="", is_eager=True, expose_value=False,
            callback=_complete, help=words,
        )  # fmt: skip
        group.params.append(option)
    return group


def _complete(ctx: click.Context, option: click.Parameter, shell: str | None) -> None:
    if shell is not None and not ctx.resilient_parsing:
        from combe.cli import completion

        (completion.install if option.name == "install_completion" else completion.show)(shell)
        ctx.exit()


def _show_version(ctx: click.Context, _: click.Parameter, asked: bool) -> None:
    if asked:
        click.echo(f"combe {__version__}")
        ctx.exit()
