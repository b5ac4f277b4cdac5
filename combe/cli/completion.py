"""Shell completion as the library of the command line has it, kept apart so that nothing else waits for it."""

from __future__ import annotations

import os
from collections.abc import MutableMapping
from pathlib import Path
from typing import Any

import click

from combe.errors import FileError

VARIABLE, NAME = "_COMBE_COMPLETE", "combe"
SHELLS = ("bash", "zsh", "fish")


def install(shell: str) -> None:
    """Write the script where a shell finds it; without a name of a shell, of the one that runs us.

    Raises
    ------
    FileError
        If there is no such shell, or the script can't be written.
    """
    from typer._completion_shared import install as write

    found = shell or Path(os.environ.get("SHELL", "")).name
    if found not in SHELLS:
        raise FileError(
            f'"{found}" is no shell that is known here', "--install-completion", f"name one of {', '.join(SHELLS)}"
        )
    try:
        _, path = write(found, NAME, VARIABLE)
    except OSError as error:
        raise FileError(f"can't be written ({error.strerror or error})", "--install-completion") from None
    print(f"completion for {found} is in {path}; a new shell has it")


def show(shell: str) -> None:
    """Print the script.

    Raises
    ------
    FileError
        If there is no such shell.
    """
    from typer._completion_shared import get_completion_script

    found = shell or Path(os.environ.get("SHELL", "")).name
    if found not in SHELLS:
        raise FileError(
            f'"{found}" is no shell that is known here', "--show-completion", f"name one of {', '.join(SHELLS)}"
        )
    print(get_completion_script(prog_name=NAME, complete_var=VARIABLE, shell=found))


def answer(command: click.Command, words: MutableMapping[str, Any]) -> int:
    """What a shell asks while a word is typed."""
    from typer._completion_classes import completion_init
    from typer.completion import shell_complete

    completion_init()
    return shell_complete(command, words, NAME, VARIABLE, os.environ[VARIABLE])
