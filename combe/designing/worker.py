"""What a process for designs does: one task after the other until there are no more."""

from __future__ import annotations

import contextlib
import importlib
import os
import signal
import sys
from collections.abc import Iterator
from typing import Any, BinaryIO

from combe.designing.workers import IN_WORKER, read_piece, write_piece
from combe.errors import CombeError, Stopped

POLITENESS = 10


class _Stop:
    """Whether the task at hand is to stop: it was asked, or nobody waits any more."""

    def __init__(self) -> None:
        self.is_asked = False
        self.parent = os.getppid()

    def __call__(self) -> bool:
        return self.is_asked or os.getppid() != self.parent

    def ask(self, *_: object) -> None:
        """The signal."""
        self.is_asked = True


def serve(tasks: BinaryIO, answers: BinaryIO) -> None:
    """Read, work, answer, until there are no more tasks."""
    import warnings

    warnings.simplefilter("ignore", RuntimeWarning)
    stop = _Stop()
    signal.signal(signal.SIGUSR1, stop.ask)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    # Whatever a library prints must not get between the answers.
    os.dup2(2, 1)
    write_piece(answers, "ready")
    while True:
        try:
            function, words = read_piece(tasks)
        except EOFError:
            return
        if function is None:
            # Whoever asked has heard the answer. Not forgotten before: the question may come while a task is still read.
            stop.is_asked = False
            continue
        try:
            value = function(*words, stop)
            if isinstance(value, Iterator):
                for report in value:
                    write_piece(answers, ("report", report))
                value = None
            answer: tuple[str, Any] = ("done", value)
        except Stopped:
            answer = ("stopped", None)
        except CombeError as error:
            answer = ("failed", error)
        write_piece(answers, answer)


def main() -> None:
    """The process of its own."""
    # Whoever drags an edge comes first.
    with contextlib.suppress(OSError):
        os.nice(POLITENESS)
    module = os.environ.get(IN_WORKER, "1")
    if module.startswith("combe."):
        importlib.import_module(module)
    serve(sys.stdin.buffer, os.fdopen(os.dup(1), "wb"))


if __name__ == "__main__":
    main()
