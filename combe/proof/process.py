"""Processes that are kept on a lead: in a group of their own, limited in time, memory and output, stopped when asked,
and gone when we are gone."""

from __future__ import annotations

import atexit
import contextlib
import os
import select
import shutil
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from pathlib import Path
from typing import IO

from msgspec import Struct

from combe.errors import Stopped, ToolError

LOOK_S = 0.05
"""How often a running process is looked at: stopping takes a few of these."""
PIECE = 1 << 16
GUARD = '(read -r _ <&{end}; kill -KILL 0) >/dev/null 2>&1 & guard=$!; "$@" {end}<&-; status=$?; kill -KILL $guard; exit $status'
"""A shell that runs a command beside a guard. The guard waits for a pipe to close whose other end only we hold: when we end,
however we end, it takes the whole group with it, children of children too."""


def _shell(end: int) -> str:
    """A shell that can name a handle: a plain one knows single digits only, and a window soon has more than ten open."""
    if end < 10:
        return "/bin/sh"
    return shutil.which("bash") or shutil.which("zsh") or shutil.which("ksh") or "/bin/sh"


_stopping: ContextVar[Callable[[], bool]] = ContextVar("stopping", default=lambda: False)
_alive: set[int] = set()
_lock = threading.Lock()


_politeness = 0


def be_polite(niceness: int = 10) -> None:
    """From now on give way to whoever else wants the processor: compilers and simulators beside a window would hold up its hand."""
    global _politeness
    _politeness = niceness


class Limits(Struct, frozen=True):
    """What a process may use: seconds, bytes of memory over its whole group, bytes of output."""

    seconds: float = 120.0
    memory: int = 8 << 30
    output: int = 256 << 20


class Ended(Struct, frozen=True):
    """How a process ended, and what it said."""

    status: int
    output: bytes
    errors: bytes


@contextlib.contextmanager
def stoppable(is_stopped: Callable[[], bool]) -> Iterator[None]:
    """Within, every process is stopped as soon as ``is_stopped`` says so; ``Stopped`` is raised then."""
    token = _stopping.set(is_stopped)
    try:
        yield
    finally:
        _stopping.reset(token)


def execute(command: list[str], folder: Path, stdin: bytes = b"", limits: Limits = Limits()) -> Ended:
    """Run a command to its end; no shell reads its words.

    Raises
    ------
    ToolError
        If it can't be started, or leaves its limits.
    Stopped
        If it was stopped.
    """
    name = Path(command[0]).name
    held, guarded = os.pipe()
    try:
        script = GUARD.format(end=held)
        process = subprocess.Popen(
            [_shell(held), "-c", script, "sh", *command], cwd=folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            stderr=subprocess.PIPE, start_new_session=True, pass_fds=(held,),
        )  # fmt: skip
    except OSError as error:
        os.close(guarded)
        raise ToolError(f"{name} can't be started ({error.strerror or error})", "proof") from None
    finally:
        os.close(held)
    with _lock:
        _alive.add(process.pid)
    if _politeness:
        with contextlib.suppress(OSError):
            os.setpriority(os.PRIO_PGRP, process.pid, _politeness)
    try:
        return _followed(process, name, stdin, limits)
    finally:
        _kill(process.pid)
        process.wait()
        for pipe in (process.stdin, process.stdout, process.stderr):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()
        os.close(guarded)
        with _lock:
            _alive.discard(process.pid)


def _followed(process: subprocess.Popen[bytes], name: str, stdin: bytes, limits: Limits) -> Ended:
    is_stopped = _stopping.get()
    output, errors = _Reader(process.stdout, limits.output), _Reader(process.stderr, limits.output)
    writer = threading.Thread(target=_write, args=(process.stdin, stdin), daemon=True)
    writer.start()
    end = time.monotonic() + limits.seconds
    while not _has_ended(process, LOOK_S):
        if is_stopped():
            raise Stopped
        if time.monotonic() > end:
            raise ToolError(f"{name} did not finish within {limits.seconds:g} seconds and was stopped", "proof")
        if output.is_over or errors.is_over:
            raise ToolError(f"{name} wrote more than {limits.output >> 20} MB and was stopped", "proof")
        if memory_of(process.pid) > limits.memory:
            raise ToolError(f"{name} took more than {limits.memory >> 20} MB of memory and was stopped", "proof")
    # What it started and left behind would keep the pipes open.
    _kill(process.pid)
    found = Ended(process.returncode, output.text(), errors.text())
    if output.is_over or errors.is_over:
        raise ToolError(f"{name} wrote more than {limits.output >> 20} MB and was stopped", "proof")
    return found


def _has_ended(process: subprocess.Popen[bytes], seconds: float) -> bool:
    """Wait for the end of a process, for so long at most. The system tells of it at once; Python by itself would look for it
    every now and then, and half of what a short command takes would go by after its end."""
    with contextlib.suppress(OSError):
        handle = os.pidfd_open(process.pid)
        try:
            waiting = select.poll()
            waiting.register(handle, select.POLLIN)
            if not waiting.poll(1000 * seconds):
                return False
            seconds = 1.0
        finally:
            os.close(handle)
    with contextlib.suppress(subprocess.TimeoutExpired):
        process.wait(seconds)
    return process.returncode is not None


class _Reader:
    """Takes in what a process writes, up to a limit; beyond it nothing is kept."""

    def __init__(self, pipe: IO[bytes] | None, limit: int) -> None:
        self.pieces: list[bytes] = []
        self.size = 0
        self.limit = limit
        self.is_over = False
        self.thread = threading.Thread(target=self._read, args=(pipe,), daemon=True)
        self.thread.start()

    def _read(self, pipe: IO[bytes] | None) -> None:
        assert pipe is not None
        with contextlib.suppress(OSError, ValueError):
            while piece := os.read(pipe.fileno(), PIECE):
                self.size += len(piece)
                if self.size > self.limit:
                    self.is_over = True
                    self.pieces.clear()
                    return
                self.pieces.append(piece)

    def text(self) -> bytes:
        """All of it."""
        self.thread.join(5)
        return b"".join(self.pieces)


def _write(pipe: IO[bytes] | None, stdin: bytes) -> None:
    assert pipe is not None
    with contextlib.suppress(OSError, ValueError):
        pipe.write(stdin)
    with contextlib.suppress(OSError, ValueError):
        pipe.close()


def memory_of(pid: int) -> int:
    """Bytes in memory of a process and all below it; 0 where the system doesn't tell."""
    total, waiting = 0, [pid]
    page = os.sysconf("SC_PAGE_SIZE")
    while waiting:
        one = waiting.pop()
        with contextlib.suppress(OSError, ValueError, IndexError):
            total += int(Path(f"/proc/{one}/statm").read_text(encoding="ascii").split()[1]) * page
            for thread in os.listdir(f"/proc/{one}/task"):
                children = Path(f"/proc/{one}/task/{thread}/children")
                waiting += [int(word) for word in children.read_text(encoding="ascii").split()]
    return total


def _kill(group: int) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(group, signal.SIGKILL)


def end_all() -> None:
    """End every process that still runs."""
    with _lock:
        groups = list(_alive)
    for group in groups:
        _kill(group)


atexit.register(end_all)
