"""A hand on the real window: mouse events go in, and the time until the plot has painted the new filter is taken."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from PyQt6.QtCore import QEvent, QEventLoop, QPointF, Qt, QTimer
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication

from combe.app.ahead import Ahead
from combe.app.collector import keep_heaps_small
from combe.app.looked_at import WORK
from combe.app.picture import settle
from combe.app.plots.axes import Plot
from combe.app.plots.handle import Handle
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.start import TURN_S
from combe.app.theme.palette import THEME
from combe.app.window import MainWindow
from combe.designing.workers import WORKERS
from combe.project.document import Project
from combe.proof.process import be_polite
from combe.values import replace

WAY = 30
"""Pixels that a hand moves to and fro."""
Paint = tuple[Plot, float, float, object]
"""Which plot, when it began and ended, and the rounded filter there was at the time."""


class Clocked(QApplication):
    """An application that knows how long each event took on the interface thread."""

    longest = 0.0
    worst = ""

    def notify(self, receiver: Any, event: Any) -> bool:
        """Take the time of an event."""
        started = time.perf_counter()
        kind = event.type()
        done = super().notify(receiver, event)
        spent = time.perf_counter() - started
        if spent > self.longest:
            self.longest, self.worst = spent, f"{type(receiver).__name__} {kind.name}"
        return done


def application(kind: type[QApplication] = QApplication) -> QApplication:
    """The one application of this process."""
    found = QApplication.instance() or kind([])
    assert isinstance(found, kind)
    found.setStyle("Fusion")
    THEME.use("light", found)
    return found


def as_the_application() -> None:
    """Threads take turns, and long work runs apart, as in the application."""
    keep_heaps_small()
    sys.setswitchinterval(TURN_S)
    be_polite()
    WORKERS.serve_window(WORK)


@contextmanager
def opened(project: Project, width: int = 1280, height: int = 800) -> Iterator[tuple[MainWindow, list[Paint]]]:
    """A window with everything worked out, and a list that tells when its plots have painted."""
    app = application()
    paints: list[Paint] = []
    plain = Plot.paintEvent

    def paint(plot: Plot, event: Any) -> None:
        started = time.perf_counter()
        plain(plot, event)
        paints.append((plot, started, time.perf_counter(), session.results.rounded))

    session = Session(project)
    Plot.paintEvent = paint  # type: ignore[method-assign]
    window = MainWindow(session, Settings())
    window.resize(width, height)
    window.show()
    session.start()
    settle(session)
    idle(app, 0.3)
    ahead = Ahead(window)
    while not ahead.is_done:
        idle(app, 0.3)
    try:
        yield window, paints
    finally:
        Plot.paintEvent = plain  # type: ignore[method-assign]
        session.saved = session.project
        window.close()
        for lane in session.lanes.values():
            lane._thread.join()  # what is still being raced would slow down whatever is measured next


def idle(app: QApplication, seconds: float) -> None:
    """Let events come for a while."""
    end = time.perf_counter() + seconds
    while time.perf_counter() < end:
        app.processEvents()
        time.sleep(0.0005)


def edge(window: MainWindow, band: int, kind: str) -> Handle:
    """The grip of an edge or a level."""
    handles = window.plots.magnitude._handles
    return next(one for one in handles if (one.band, one.kind) == (band, kind))


class Hand:
    """Holds an edge of the main plot and moves it pixel by pixel."""

    def __init__(self, window: MainWindow, paints: list[Paint], handle: Handle) -> None:
        self.window, self.paints = window, paints
        self.plot = window.plots.magnitude.main
        self.app = application()
        self.known: list[float] = []
        window.session.stepped.connect(lambda name: name == "rounded" and self.known.append(time.perf_counter()))
        self.place = QPointF(self.plot.mapFromScene(handle.scenePos()))
        self._send(QEvent.Type.MouseMove, Qt.MouseButton.NoButton)
        self._send(QEvent.Type.MouseButtonPress, Qt.MouseButton.LeftButton)
        self.place += QPointF(-8, 0)  # only now it's a drag, not a click
        self._send(QEvent.Type.MouseMove, Qt.MouseButton.LeftButton)
        idle(self.app, 0.2)

    def _send(self, kind: QEvent.Type, held: Qt.MouseButton) -> None:
        button = Qt.MouseButton.NoButton if kind == QEvent.Type.MouseMove else Qt.MouseButton.LeftButton
        spot = QPointF(self.place)
        screen = QPointF(self.plot.mapToGlobal(spot.toPoint()))
        self.app.sendEvent(
            self.plot.viewport(), QMouseEvent(kind, spot, screen, button, held, Qt.KeyboardModifier.NoModifier)
        )

    def move(self, pixels: float) -> tuple[float, float, float]:
        """Milliseconds until the new filter is known, until it is painted, and of that the painting itself."""
        QTimer.singleShot(2100, lambda: None)  # the wait ends even if nothing comes
        self.place += QPointF(pixels, 0)
        del self.paints[:]
        del self.known[:]
        before = self.window.session.results.rounded
        started = time.perf_counter()
        self._send(QEvent.Type.MouseMove, Qt.MouseButton.LeftButton)
        while time.perf_counter() < started + 2:
            self.app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
            done = [row for row in self.paints if row[0] is self.plot and row[3] is not before]
            if done and self.known:
                painting = sum(end - at for _, at, end, _ in self.paints)
                known = min(self.known[0], done[0][1])
                return 1e3 * (known - started), 1e3 * (done[0][2] - started), 1e3 * painting
        raise RuntimeError("the plot didn't follow the hand")

    def steadily(self, seconds: float, every_ms: float) -> list[float]:
        """Moves without a rest, to and fro; milliseconds between one painted filter and the next."""
        del self.paints[:]
        start = due = time.perf_counter()
        middle = QPointF(self.place)
        while due < start + seconds:
            now = time.perf_counter()
            if now >= due:
                swing = (now - start) % 0.5 / 0.25
                self.place = middle + QPointF(WAY * (min(swing, 2 - swing) - 0.5), 0)
                self._send(QEvent.Type.MouseMove, Qt.MouseButton.LeftButton)
                due = max(due + every_ms / 1e3, now)
            self.app.processEvents()
        self.place = middle
        seen = [start]
        last: object = None
        for plot, _, end, made in self.paints:
            if plot is self.plot and made is not last:
                last = made
                seen.append(end)
        return [1e3 * (after - before) for before, after in zip(seen, [*seen[1:], time.perf_counter()])]

    def release(self) -> None:
        """Let go."""
        self._send(QEvent.Type.MouseButtonRelease, Qt.MouseButton.NoButton)


def timed(run: Callable[[], object], count: int) -> list[float]:
    """Milliseconds of each of some runs."""
    found = []
    for _ in range(count):
        started = time.perf_counter()
        run()
        found.append(1e3 * (time.perf_counter() - started))
    return found


def demo_with(**changes: Any) -> Project:
    """The demo project, changed."""
    from combe.project.demo import demo_project

    return replace(demo_project(), **changes)
