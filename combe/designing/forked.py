"""A copy of this process that takes tasks as the processes of ``workers`` do, and is there at once: all that was loaded is loaded
in it, too. Only where nothing but the one thread runs, for a copy has no other."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
from typing import BinaryIO


def can_fork() -> bool:
    """Whether a copy of this process would be whole: one thread, and no window that shares its connection with it."""
    return hasattr(os, "fork") and threading.active_count() == 1 and "PyQt6.QtCore" not in sys.modules


class Forked:
    """The copy, with the few things asked of a ``subprocess.Popen``."""

    def __init__(self) -> None:
        task, to_task = os.pipe()
        from_answer, answer = os.pipe()
        self._status: int | None = None
        self.pid = os.fork()
        if self.pid == 0:
            _work(task, answer, (to_task, from_answer))
        os.close(task)
        os.close(answer)
        self.stdin: BinaryIO | None = os.fdopen(to_task, "wb")
        self.stdout: BinaryIO | None = os.fdopen(from_answer, "rb")

    def send_signal(self, number: int) -> None:
        """As to any process."""
        if self.poll() is None:
            os.kill(self.pid, number)

    def kill(self) -> None:
        """End it at once."""
        self.send_signal(signal.SIGKILL)

    def poll(self) -> int | None:
        """How it ended; None while it runs."""
        return self._wait(os.WNOHANG)

    def wait(self) -> int | None:
        """Until it has ended."""
        return self._wait(0)

    def _wait(self, how: int) -> int | None:
        if self._status is None:
            with contextlib.suppress(ChildProcessError):
                pid, status = os.waitpid(self.pid, how)
                if pid:
                    self._status = status
                return self._status
            self._status = 0
        return self._status


def _work(task: int, answer: int, others: tuple[int, ...]) -> None:
    """What the copy does for as long as it lives. Nothing of what we were is to be ended by it."""
    try:
        from combe.designing.worker import serve
        from combe.designing.workers import IN_WORKER

        for each in others:
            os.close(each)
        os.setsid()
        nowhere = os.open(os.devnull, os.O_RDWR)
        for stream in (0, 2):
            os.dup2(nowhere, stream)
        os.environ[IN_WORKER] = "1"
        for number in (signal.SIGTERM, signal.SIGHUP):
            signal.signal(number, signal.SIG_DFL)
        serve(os.fdopen(task, "rb"), os.fdopen(answer, "wb"))
    finally:
        os._exit(0)
