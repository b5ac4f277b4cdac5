"""Designs made side by side in processes of their own.

A process is started once, as ``python -m combe.designing.worker``, waits for tasks on its standard input and answers on
its standard output, both pickled. It ends when its input does, so nothing is left behind whatever becomes of us. Threads
would not do: the searches hold the interpreter, and with it the hand that drags an edge.
"""

from __future__ import annotations

import atexit
import contextlib
import functools
import os
import pickle
import signal
import struct
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import Any, BinaryIO, TypeVar, cast

from combe.designing.forked import Forked, can_fork
from combe.errors import CombeError, Stopped

MOST_WORKERS, MOST_STILLBORN = 4, 4
"""Where so many have ended before they were ready, no more are started."""
LOOK_S, ALONE_S, PATIENT_S = 0.05, 1.5, 3.0
"""How often results are looked for; how long this process is at it alone: loading others takes longer than a quick race;
how long a window waits for the first of them."""
URGENT_S, QUEUED_S = 5.0, 15.0
"""How long what a hand waits for is held back, and anything else, while all processes are busy with other things: done on a
thread of the window it would be slower still, and the hand with it."""
STUBBORN_S = 0.6
"""A process that was told to stop and is still at its task after so long is ended, and a fresh one takes its place."""
MOST_MEMORY = 400 << 20
"""Bytes beyond which a process makes place for a fresh one between two tasks."""
HEAD = struct.Struct("<Q")
IN_WORKER = "COMBE_WORKER"
"""Set in a process that we started: to the module it is to load, or to 1."""


Stop = Callable[[], bool]
Function = Callable[..., Any]
"""One of a module of ours, which the process finds by its name; it takes ``is_stopped`` last."""

F = TypeVar("F", bound=Callable[..., Iterator[Any]])


class WorkerGoneError(Exception):
    """A process ended before it answered."""


class Worker:
    """One process."""

    def __init__(
        self, copy: Forked | None = None, loads: str = "1", on_ready: Callable[[], None] | None = None
    ) -> None:  # fmt: skip
        self.on_ready = on_ready
        self.stubborn_s = STUBBORN_S if on_ready is not None else float("inf")
        environment = os.environ | {IN_WORKER: loads, "OPENBLAS_NUM_THREADS": "1"}
        self.process: subprocess.Popen[bytes] | Forked = copy or subprocess.Popen(
            [sys.executable, "-m", "combe.designing.worker"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL, env=environment, start_new_session=True, cwd=_home(),
        )  # fmt: skip
        self.is_ready = False
        if copy is None:
            threading.Thread(target=self._greeted, daemon=True).start()
        else:
            self._greeted()

    def _greeted(self) -> None:
        with contextlib.suppress(OSError, EOFError):
            assert self.process.stdout is not None
            self.is_ready = read_piece(self.process.stdout) == "ready"
        if self.is_ready and self.on_ready is not None:
            self.on_ready()

    def call(
        self, function: Function, words: tuple[Any, ...], is_stopped: Stop,
        hear: Callable[[Any], None] = lambda _: None,
    ) -> Any:  # fmt: skip
        """What a function returns for these arguments; what a generator function yields is heard as it comes.

        Raises
        ------
        Stopped
            If that was asked for meanwhile; the process goes on to the next task.
        WorkerGoneError
            If the process has ended.
        """
        stdin, stdout = self.process.stdin, self.process.stdout
        assert stdin is not None and stdout is not None
        answer: list[tuple[str, Any]] = []

        def wait() -> None:
            with contextlib.suppress(OSError, ValueError, EOFError, pickle.UnpicklingError):
                while (piece := read_piece(stdout))[0] == "report":
                    hear(piece[1])
                answer.append(piece)

        try:
            write_piece(stdin, (function, words))
        except OSError as error:
            raise WorkerGoneError from error
        reader = threading.Thread(target=wait, daemon=True)
        reader.start()
        told_at: float | None = None
        while reader.is_alive():
            reader.join(LOOK_S)
            if told_at is None and is_stopped():
                told_at = time.monotonic()
                with contextlib.suppress(ProcessLookupError):
                    self.process.send_signal(signal.SIGUSR1)
            elif told_at is not None and time.monotonic() - told_at > self.stubborn_s:
                # In the middle of a long step of a library. Its pipe is at its end before anybody closes it.
                self.process.kill()
                reader.join(URGENT_S)
                break
        if not answer:
            raise WorkerGoneError
        kind, value = answer[0]
        if told_at is not None:
            with contextlib.suppress(OSError):
                write_piece(stdin, (None, ()))
        if kind == "stopped" or told_at is not None:
            raise Stopped
        if kind == "failed":
            raise value
        return value

    @property
    def memory(self) -> int:
        """Bytes it holds; 0 where that isn't told."""
        try:
            return int(Path(f"/proc/{self.process.pid}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")
        except (OSError, ValueError, IndexError):
            return 0

    def end(self) -> None:
        """End the process."""
        with contextlib.suppress(OSError):
            self.process.kill()
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()
        self.process.wait()


class Workers:
    """As many processes as there are processors to run them, started when first asked for."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._free: list[Worker] = []
        self._count = self._stillborn = 0
        self._has_copies = False
        self._loads = "1"
        self.serves_window = False
        """Whether a hand is to be kept free: one more process than there are processors does what would otherwise be done
        on threads of ours, and none is waited for."""

    @property
    def most(self) -> int:
        """How many processes at most."""
        if self._has_copies:
            return count() - 1  # and we do our share
        return count() + (self.serves_window and count() > 0)

    def serve_window(self, module: str = "") -> None:
        """Start them now, for a window whose work is in a module, which they load before they are ready."""
        self.serves_window = True
        self._loads = module or self._loads
        self.start()

    def start(self) -> None:
        """Begin to start those that are missing; returns at once. Beside a window one after another: loading takes all that a
        processor has, and the hand would feel three of them."""
        with self._lock, contextlib.suppress(OSError):
            while self._count < self.most and self._stillborn < MOST_STILLBORN:
                if self.serves_window and not all(worker.is_ready for worker in self._free):
                    break
                self._free.append(Worker(None, self._loads, self.start if self.serves_window else None))
                self._count += 1

    def copy_us(self) -> None:
        """Copies of this process at once, where that can be, in place of fresh ones: as many as there are processors beside
        our own."""
        with self._lock, contextlib.suppress(OSError):
            if self._count == 0 and can_fork():
                while self._count < count() - 1:
                    self._free.append(Worker(Forked()))
                    self._count += 1
                    self._has_copies = True

    def take(self, spare: int = 0) -> Worker | None:
        """One that has everything loaded and nothing to do; None where there is none, or where so many would not be left."""
        if self._without_dead() and self.serves_window:
            self.start()
        with self._lock:
            ready = [worker for worker in self._free if worker.is_ready]
            if len(ready) <= max(min(spare, self._count - 1), 0):
                return None
            self._free.remove(ready[0])
        return ready[0]

    def _without_dead(self) -> int:
        """How many have ended by themselves; they are counted out."""
        with self._lock:
            dead = [worker for worker in self._free if worker.process.poll() is not None]
            for worker in dead:
                self._free.remove(worker)
                self._count -= 1
                self._stillborn += not worker.is_ready
        return len(dead)

    @property
    def spare(self) -> int:
        """How many a window keeps free for what its hand waits for."""
        return int(self.serves_window)

    def awaited(self, haste: str, is_stopped: Stop) -> Worker | None:
        """As ``take``, with some patience: what is urgent doesn't wait for the first to be loaded, what is wanted soon does, and
        the rest leaves one free for them."""
        begun = time.monotonic()
        while (found := self.take(0 if haste else self.spare)) is None and not is_stopped():
            patience = self.patience_s
            if patience == QUEUED_S and haste:
                patience = URGENT_S
            elif haste == URGENT:
                patience = 0.0
            if time.monotonic() - begun >= patience:
                return None
            time.sleep(LOOK_S / 5)
        return found

    @property
    def patience_s(self) -> float:
        """How long what isn't urgent waits for a process: until the first are loaded, or those that are busy are free."""
        with self._lock:
            if self._count == 0:
                return 0.0
            return QUEUED_S if all(worker.is_ready for worker in self._free) else PATIENT_S

    def give_back(self, worker: Worker, is_gone: bool = False) -> None:
        """It has nothing more to do, or has gone."""
        is_worn = not is_gone and worker.memory > MOST_MEMORY
        if is_gone or is_worn:
            worker.end()
        with self._lock:
            if is_gone or is_worn:
                self._count -= 1
            else:
                self._free.append(worker)
        if is_worn or (is_gone and self.serves_window):
            self.start()

    def reports(self, worker: Worker, function: Function, words: tuple[Any, ...], is_stopped: Stop) -> Iterator[Any]:
        """What a generator function yields in a process that was taken, as it comes. The process is given back once it has
        stopped, which nobody waits for.

        Raises
        ------
        Stopped
            If that was asked for meanwhile.
        WorkerGoneError
            If the process has ended.
        """
        heard: SimpleQueue[tuple[str, Any]] = SimpleQueue()
        is_over = False

        def work() -> None:
            is_gone = False
            try:
                worker.call(
                    function, words, lambda: is_over or is_stopped(), lambda value: heard.put(("report", value))
                )  # fmt: skip
                heard.put(("done", None))
            except BaseException as error:
                is_gone = isinstance(error, WorkerGoneError)
                heard.put(("failed", error))
            self.give_back(worker, is_gone)

        threading.Thread(target=work, daemon=True).start()
        try:
            while not is_stopped():
                try:
                    kind, value = heard.get(timeout=LOOK_S)
                except Empty:
                    continue
                if kind == "done":
                    return
                if kind == "failed":
                    raise value
                yield value
            raise Stopped
        finally:
            is_over = True

    def end(self) -> None:
        """End all that wait."""
        with self._lock:
            gone, self._free = self._free, []
            self._count -= len(gone)
        for worker in gone:
            worker.end()


URGENT, SOON = "urgent", "soon"


def apart(function: F, haste: str = "") -> F:
    """A decorator for work that only a window asks for: a generator function that takes ``is_stopped`` last runs in a process
    of its own where one is free, or else here.

    What it yields are copies then; arguments and reports are pickled, so both should be small beside the work.
    """

    @functools.wraps(function)
    def away(*words: Any) -> Iterator[Any]:
        worker = None
        if WORKERS.serves_window:
            worker = WORKERS.awaited(haste, words[-1])
        if worker is not None:
            try:
                yield from WORKERS.reports(worker, away, words[:-1], words[-1])
                return
            except WorkerGoneError:
                pass
        yield from function(*words)

    return cast(F, away)


def urgent(function: F) -> F:
    """The same for what a hand waits for: it isn't held back until the first process is loaded."""
    return apart(function, URGENT)


def soon(function: F) -> F:
    """The same for what follows that: at the start of a window, beside the loading of others, it would only hold up the hand."""
    return apart(function, SOON)


def count() -> int:
    """How many processes at most; none beside one processor, or for a process that we started."""
    if os.environ.get(IN_WORKER):
        return 0
    try:
        own = len(os.sched_getaffinity(0))
    except (AttributeError, OSError):
        own = os.cpu_count() or 1
    return min(own, MOST_WORKERS) if own > 1 else 0


def side_by_side(function: Function, tasks: list[tuple[Any, ...]], is_stopped: Stop) -> Iterator[Any]:
    """What a function returns for each task, as it is ready.

    Until the processes have started this one works too. Half of them begin with the last task, so that a long one doesn't
    come at the very end.
    """
    if count() == 0 or len(tasks) < 2:
        for task in tasks:
            if is_stopped():
                return
            yield function(*task, is_stopped)
        return
    yield from _Race(function, tasks, is_stopped).results()


class _Race:
    """Tasks that several processes take from both ends."""

    def __init__(self, function: Function, tasks: list[tuple[Any, ...]], is_stopped: Stop) -> None:
        self.function = function
        self.is_over, self.is_asked = False, is_stopped
        self.waiting = deque(tasks)
        self.left = len(tasks)
        self.found: SimpleQueue[tuple[str, Any]] = SimpleQueue()
        self.helpers = 0

    def is_stopped(self) -> bool:
        """Whether nobody wants the results any more."""
        return self.is_over or self.is_asked()

    def results(self) -> Iterator[Any]:
        """As they come."""
        begun = time.monotonic()
        WORKERS.copy_us()
        # A window's processes are about to be ready, and its hand is not to wait for ours.
        is_here = not WORKERS.serves_window
        if is_here:
            threading.Thread(target=self._here, daemon=True).start()
        try:
            while self.left and not self.is_stopped():
                if not is_here and not self.helpers and time.monotonic() - begun > WORKERS.patience_s:
                    is_here = True
                    threading.Thread(target=self._here, daemon=True).start()
                if self.waiting and time.monotonic() - begun > ALONE_S:
                    WORKERS.start()
                while self.waiting and self.helpers < count() and (worker := WORKERS.take(WORKERS.spare)) is not None:
                    self.helpers += 1
                    threading.Thread(target=self._there, args=(worker, self.helpers % 2), daemon=True).start()
                try:
                    kind, value = self.found.get(timeout=LOOK_S)
                except Empty:
                    continue
                self.left -= 1
                if kind == "failed":
                    raise value
                yield value
        finally:
            self.is_over = True

    def _next(self, from_end: bool) -> tuple[Any, ...] | None:
        try:
            return None if self.is_stopped() else self.waiting.pop() if from_end else self.waiting.popleft()
        except IndexError:
            return None

    def _here(self) -> None:
        """In this process, until there are enough others."""
        while self.helpers < count() and (task := self._next(False)) is not None:
            try:
                self.found.put(("done", self.function(*task, self.is_stopped)))
            except Stopped:
                return
            except Exception as error:
                self.found.put(("failed", error))

    def _there(self, worker: Worker, from_end: int) -> None:
        while (task := self._next(bool(from_end))) is not None:
            try:
                self.found.put(("done", worker.call(self.function, task, self.is_stopped)))
            except Stopped:
                break
            except CombeError as error:
                self.found.put(("failed", error))
            except WorkerGoneError:
                WORKERS.give_back(worker, True)
                self.helpers -= 1
                self.waiting.append(task)
                if not self.helpers:
                    self._here()
                return
        WORKERS.give_back(worker)


def write_piece(pipe: BinaryIO | Any, value: Any) -> None:
    """One pickled value with its length before it."""
    content = pickle.dumps(value, protocol=pickle.HIGHEST_PROTOCOL)
    pipe.write(HEAD.pack(len(content)) + content)
    pipe.flush()


def read_piece(pipe: BinaryIO | Any) -> Any:
    """The next one."""
    head = pipe.read(HEAD.size)
    if len(head) < HEAD.size:
        raise EOFError
    return pickle.loads(pipe.read(HEAD.unpack(head)[0]))


def _home() -> str:
    """Where ``combe`` is found by a process that starts there."""
    return str(Path(__file__).resolve().parent.parent.parent)


WORKERS = Workers()
atexit.register(WORKERS.end)
