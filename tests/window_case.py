"""A window on the demo project, off screen, and a hand that types and drags."""

from __future__ import annotations

import tempfile
import time
import unittest
from pathlib import Path

from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from combe.app.picture import settle
from combe.app.plots.axes import Plot
from combe.app.plots.handle import Handle
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.theme.palette import THEME
from combe.app.widgets.figure import Figure
from combe.app.window import MainWindow
from combe.project.demo import demo_project
from tests import memory

application = QApplication.instance() or QApplication(["combe"])
assert isinstance(application, QApplication)
application.setStyle("Fusion")
THEME.use("light", application)


def type_over(figure: Figure, text: str, enter: bool = True) -> None:
    """Click a figure, type, press Enter."""
    QTest.mouseClick(figure, Qt.MouseButton.LeftButton)
    figure.setFocus()
    figure.selectAll()
    QTest.keyClicks(figure, text)
    if enter:
        QTest.keyClick(figure, Qt.Key.Key_Return)


def drag(plot: Plot, handle: Handle, dx: int, dy: int, steps: int = 6) -> None:
    """Take a handle with the left button and move it by pixels."""
    view = plot.viewport()
    start = plot.mapFromScene(handle.scenePos())

    def send(kind: QEvent.Type, place: QPoint, button: Qt.MouseButton, buttons: Qt.MouseButton) -> None:
        spot = QPointF(place)
        event = QMouseEvent(
            kind, spot, QPointF(view.mapToGlobal(place)), button, buttons, Qt.KeyboardModifier.NoModifier
        )
        QApplication.sendEvent(view, event)
        QApplication.processEvents()

    none, left = Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton
    send(QEvent.Type.MouseMove, start, none, none)
    send(QEvent.Type.MouseButtonPress, start, left, left)
    for step in range(1, steps + 1):
        send(QEvent.Type.MouseMove, start + QPoint(dx * step // steps, dy * step // steps), none, left)
        time.sleep(0.02)
    send(QEvent.Type.MouseButtonRelease, start + QPoint(dx, dy), left, none)


class WindowCase(unittest.TestCase):
    """A window on the demo project, everything worked out."""

    follows: tuple[str, ...] = ()
    """What every brief gets, beside the demo's, of ``memory.BESIDE``: it takes seconds, and few tests look at it."""

    def setUp(self) -> None:
        memory.remember_all(self, demo_project().requirement, self.follows)
        self.session = Session(demo_project())
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.window = MainWindow(self.session, Settings(path=self.folder / "settings.json"))
        self.window.resize(1280, 800)
        self.window.show()
        self.session.start()
        self.settle()

    def tearDown(self) -> None:
        self.session.saved = self.session.project
        self.window.close()
        self.window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)

    def settle(self) -> None:
        settle(self.session)

    @property
    def bands(self) -> tuple[object, ...]:
        return self.session.project.requirement.bands

    def handle(self, band: int, kind: str) -> Handle:
        return next(h for h in self.window.plots.magnitude._handles if (h.band, h.kind) == (band, kind))
