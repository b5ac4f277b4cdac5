"""Background work: one lane per kind of work, the newest request wins, stale answers are dropped."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from typing import Any

from PyQt6.QtCore import QObject, Qt, QThreadPool, pyqtSignal

from combe.app.calm import CALM
from combe.errors import CombeError, Stopped
from combe.log import log_failure

Job = Callable[[Callable[[], bool]], Iterator[Any]]


QUICK_S = 0.008
"""Work of up to so many seconds is done sooner than a thread is woken, shares the interpreter and is heard."""
PATIENCE_S = 0.03
"""How long work that was quick before may hold the interface thread this time."""
FADING = 0.7
"""Work that took long once may do so again: it has to be quick so often that this share, as often taken, makes it quick."""


class Pace:
    """How long work of a kind took when it was last done, wherever that was, or what is left of when it took longer."""

    def __init__(self) -> None:
        self.seconds = float("inf")

    @property
    def is_quick(self) -> bool:
        """Whether it may be done on the interface thread."""
        return self.seconds <= QUICK_S

    def timed(self, job: Job) -> Job:
        """The same work, whose time is kept once it is done: that of its own thread, without what others do with it."""

        def work(is_stopped: Callable[[], bool]) -> Iterator[Any]:
            spent = 0.0
            reports = job(is_stopped)
            while True:
                begun = time.thread_time()
                report = next(reports, None)
                spent += time.thread_time() - begun
                if report is None:
                    self.seconds = max(spent, FADING * self.seconds) if self.seconds < float("inf") else spent
                    return
                yield report

        return work

    def at_once(self, job: Job) -> list[Any] | None:
        """What work yields that is done here and now; None where it takes longer than it took, for a lane to do it over."""
        begun = time.monotonic()
        was_late = False

        def is_late() -> bool:
            nonlocal was_late
            was_late = was_late or time.monotonic() > begun + PATIENCE_S
            return was_late

        try:
            reports = list(self.timed(job)(is_late))
        except Stopped:
            reports = []
        except CombeError:
            if not was_late:
                raise
            reports = []
        if was_late:  # asked to stop, it may have ended with less than it would have found
            self.seconds = time.monotonic() - begun
            return None
        return reports


class Lane(QObject):
    """Runs one job at a time on its own thread.

    A job is a generator function that takes ``is_stopped``; whatever it yields arrives, on the interface thread,
    as ``arrived``; an error the user can act on as ``failed``; its end as ``finished``. A job submitted later
    replaces one that waits, stops one that runs, and makes whatever the older still yields disappear. In a patient lane
    a job begins once the interface has painted what it was asked to.
    """

    arrived = pyqtSignal(object)
    failed = pyqtSignal(object)
    finished = pyqtSignal()
    _from_thread = pyqtSignal(int, str, object)

    def __init__(self, name: str, parent: QObject | None = None, is_patient: bool = False) -> None:
        super().__init__(parent)
        self._is_patient = is_patient
        self._ticket = 0
        self._waiting: tuple[int, Job] | None = None
        self._busy = False
        self._closing = False
        self._condition = threading.Condition()
        self._from_thread.connect(self._sort_out, Qt.ConnectionType.QueuedConnection)  # type: ignore[call-arg]
        self._thread = threading.Thread(target=self._work, name=f"combe-{name}", daemon=True)
        self._thread.start()

    @property
    def is_busy(self) -> bool:
        """Whether an answer is still to come."""
        return self._busy

    def submit(self, job: Job) -> None:
        """Run a job in place of all before it."""
        if self._is_patient:
            CALM.ask()
        with self._condition:
            self._ticket += 1
            self._waiting = (self._ticket, job)
            self._busy = True
            self._condition.notify()

    def stop(self) -> None:
        """Forget the running job and the waiting one."""
        with self._condition:
            self._ticket += 1
            self._waiting = None
            self._busy = False

    def close(self) -> None:
        """End the thread."""
        self.stop()
        with self._condition:
            self._closing = True
            self._condition.notify()
        self._thread.join(5)

    def _work(self) -> None:
        while True:
            with self._condition:
                while self._waiting is None and not self._closing:
                    self._condition.wait()
                if self._closing:
                    return
                assert self._waiting is not None
                ticket, job = self._waiting
                self._waiting = None
            self._run(ticket, job)

    def _run(self, ticket: int, job: Job) -> None:
        def is_stopped() -> bool:
            return ticket != self._ticket

        if self._is_patient:
            CALM.wait(is_stopped)
        try:
            for value in job(is_stopped):
                if is_stopped():
                    return
                self._from_thread.emit(ticket, "arrived", value)
            self._from_thread.emit(ticket, "finished", None)
        except Stopped:
            return
        except CombeError as error:
            self._from_thread.emit(ticket, "failed", error)
        except Exception:
            path = log_failure("background work")
            self._from_thread.emit(ticket, "failed", CombeError(f"a fault in Combe itself, recorded in {path}"))

    def _sort_out(self, ticket: int, what: str, value: object) -> None:
        if ticket != self._ticket:
            return
        if what == "arrived":
            self.arrived.emit(value)
            return
        self._busy = False
        if what == "failed":
            self.failed.emit(value)
        self.finished.emit()


class Errand(QObject):
    """Fetches what a view draws, away from the interface thread: one piece of work at a time on Qt's pool, of those that
    wait only the newest; where it is patient, once the interface has painted what it was asked to.

    What a piece of work returns arrives, on the interface thread, as ``arrived``. Without a parent on purpose: what is
    still under way when a window closes keeps its errand until it is done.
    """

    arrived = pyqtSignal(object)
    _returned = pyqtSignal(object)

    def __init__(self, is_patient: bool = False) -> None:
        super().__init__()
        self.is_patient = is_patient
        self._running = False
        self._waiting: Callable[[], object] | None = None
        self._returned.connect(self._take, Qt.ConnectionType.QueuedConnection)  # type: ignore[call-arg]

    def send(self, work: Callable[[], object]) -> None:
        """Do a piece of work in place of all that wait."""
        if self._running:
            self._waiting = work
            return
        self._running = True
        _out.add(self)
        if self.is_patient:
            CALM.ask()
        pool = QThreadPool.globalInstance()
        assert pool is not None
        # One after another on a thread that stays: two would take the interpreter from the interface twice as often.
        pool.setMaxThreadCount(1)
        pool.setExpiryTimeout(-1)
        is_patient = self.is_patient
        pool.start(lambda: self._fetch(work, is_patient))

    def _fetch(self, work: Callable[[], object], is_patient: bool) -> None:
        if is_patient:
            CALM.wait()
        try:
            self._returned.emit(work())
        except Exception:
            log_failure("background work")
            self._returned.emit(None)

    def _take(self, found: object) -> None:
        self._running = False
        work, self._waiting = self._waiting, None
        if found is not None:
            self.arrived.emit(found)
        if work is not None:
            self.send(work)
        elif not self._running:
            _out.discard(self)


_out: set[Errand] = set()
"""Those that work, or whose result hasn't arrived."""


def is_any_errand_out() -> bool:
    """Whether views still wait for what they draw."""
    return bool(_out)
