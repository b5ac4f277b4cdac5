"""Views drawn off screen: for reports, for the README, for a machine without a monitor."""

from __future__ import annotations

import os
import time
from typing import TYPE_CHECKING

from combe.delivery.languages import CIRCUITS
from combe.errors import FileError
from combe.files import write_bytes
from combe.project.document import Project
from combe.project.edits import choose_language

if TYPE_CHECKING:
    from PyQt6.QtGui import QPixmap

    from combe.app.session import Session
    from combe.app.window import MainWindow

PATIENCE_S = 60.0


def draw_view(view: str, project: Project, path: str, size: tuple[int, int], theme: str, prove: bool = False) -> None:
    """Draw one view of a project as a PNG.

    ``prove`` runs the proof first, so that the code step shows it.
    """
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QBuffer, QByteArray, QEvent, QIODevice
    from PyQt6.QtWidgets import QApplication

    from combe.app.pages.register import BY_NAME, CODE, PLOTS
    from combe.app.pages.together import DEVICE
    from combe.app.session import Session
    from combe.app.settings import Settings
    from combe.app.theme.palette import THEME
    from combe.app.window import MainWindow

    application = QApplication.instance()
    if application is None:
        application = QApplication(["combe"])
        application.setStyle("Fusion")
    assert isinstance(application, QApplication)
    THEME.use(theme, application)
    entry = BY_NAME[view]
    if entry.of not in ("", project.code.written_in.kind):
        project = choose_language("verilog" if entry.of == CIRCUITS else "c").make(project)
    session = Session(project)
    window = MainWindow(session, Settings(theme=theme))
    window.resize(*size)
    window.show()
    session.start()
    settle(session)
    if prove or (entry.runs == "prove" and entry.place == CODE):
        session.prove()
        settle(session)
    if entry.runs == "count":
        session.count()
        settle(session)
    if entry.runs == "synthesize":
        session.synthesize(False)
        settle(session)
    if entry.runs == "capture":
        session.capture()
        settle(session)
    if entry.runs == "together":
        session.put_together(DEVICE)
        settle(session)
    if entry.place == PLOTS:
        window.plots.open_tab(view)
        settle(session)
        _process()
        ends = time.monotonic() + PATIENCE_S
        while window.plots.current_page.is_working and time.monotonic() < ends:
            _process()
            time.sleep(0.01)
        pixmap = _alone(window, size)
    else:
        window.open_step("code" if entry.place == CODE else view)
        if entry.place == CODE:
            window.code_view.open_page(view)
        settle(session)
        _process()
        pixmap = window.grab()
    content = QByteArray()
    buffer = QBuffer(content)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    if not pixmap.save(buffer, "PNG"):
        raise FileError("the picture could not be made", path)
    session.saved = session.project
    window.close()
    # Widgets are taken down here and now: left to the garbage collector, their parts may go in the wrong order.
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    write_bytes(path, bytes(content.data()))


def _alone(window: MainWindow, size: tuple[int, int]) -> QPixmap:
    """The plots without what stands around them, at the full size."""
    from PyQt6.QtCore import QSize

    window.show_plots_only()
    for _ in range(2):
        around = window.size() - window.plots.size()
        window.resize(QSize(*size) + around)
        _process()
    return window.plots.grab()


def _process() -> None:
    from PyQt6.QtWidgets import QApplication

    for _ in range(5):
        QApplication.processEvents()


def settle(session: Session) -> None:
    """Let background work arrive, at most ``PATIENCE_S``."""
    from PyQt6.QtWidgets import QApplication

    from combe.app.jobs import is_any_errand_out

    end = time.monotonic() + PATIENCE_S
    while time.monotonic() < end:
        QApplication.processEvents()
        if not session.is_busy and not is_any_errand_out():
            for _ in range(3):
                QApplication.processEvents()
                time.sleep(0.002)
            return
        time.sleep(0.005)
