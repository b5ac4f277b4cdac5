"""Starting the application."""

from __future__ import annotations

import gc
import os
import signal
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from combe.app.display import check_display, check_qt
from combe.designing.workers import WORKERS
from combe.errors import CombeError
from combe.project.demo import recorder_project
from combe.project.document import Project
from combe.project.unsaved import left_behind
from combe.proof.process import be_polite, end_all

if TYPE_CHECKING:
    from PyQt6.QtWidgets import QApplication

    from combe.app.recovery import Recovery

TURN_S = 0.0001
"""The interface thread gets its turn so soon, whatever runs on other threads: building a page asks for the interpreter a thousand
times, each time after Qt had the processor. At a millisecond a page took ten times as long beside two busy threads; now three."""


def open_application(file: str | None) -> int:
    """Open the window on a file, or on the demo project when none is named."""
    from combe.project.file import read_project

    try:
        project = read_project(file) if file else recorder_project()
        return _run(project, Path(file) if file and file.endswith(".combe") else None)
    except CombeError as error:
        print(f"combe: {error.sentence()}", file=sys.stderr)
        return 2


def open_demo() -> int:
    """Open the window on the demo project."""
    return _run(recorder_project(), None)


def _run(project: Project, path: Path | None) -> int:
    gc.disable()  # the window collects by itself, once it stands
    check_display()
    check_qt()
    from PyQt6.QtCore import QTimer
    from PyQt6.QtWidgets import QApplication

    from combe.app.ahead import Ahead
    from combe.app.collector import keep_heaps_small
    from combe.app.guard import Guard
    from combe.app.looked_at import WORK
    from combe.app.recovery import Recovery
    from combe.app.session import Session
    from combe.app.settings import Settings
    from combe.app.theme.marks import sign_icon
    from combe.app.theme.palette import THEME
    from combe.app.window import MainWindow

    keep_heaps_small()
    sys.setswitchinterval(TURN_S)
    be_polite()
    settings = Settings.load()
    settings.find_tools()
    if settings.scale != 100:
        os.environ.setdefault("QT_SCALE_FACTOR", f"{settings.scale / 100:g}")
    application = QApplication([sys.argv[0]])
    application.setApplicationName("combe")
    application.setDesktopFileName("combe")
    application.setStyle("Fusion")
    THEME.use(settings.theme, application)
    application.setWindowIcon(sign_icon())
    left = left_behind()
    session = Session(project, path)
    recovery = Recovery(session)
    window = MainWindow(session, settings)
    Guard(window, recovery).stand()
    window.show()
    session.start()
    QTimer.singleShot(0, lambda: WORKERS.serve_window(WORK))
    QTimer.singleShot(0, lambda: Ahead(window))
    if left:
        # Once the first picture stands there.
        QTimer.singleShot(0, lambda: window.dialogs.offer_left_behind(left, recovery))
    interrupted = _stop_in_order(application, recovery)
    status = application.exec()
    if interrupted:
        return 130
    # The window has asked about unsaved work before it closed.
    recovery.forget()
    return status


def _stop_in_order(application: QApplication, recovery: Recovery) -> list[int]:
    """Asked to stop from outside: unsaved work is kept, compilers and simulators end with us. Which signals came."""
    from PyQt6.QtCore import QTimer

    came: list[int] = []

    def stop(number: int, _: object) -> None:
        came.append(number)
        recovery.keep()
        end_all()
        application.exit(130)

    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, stop)
    # Python hears of a signal only when it has its turn.
    turn = QTimer(application)
    turn.timeout.connect(lambda: None)
    turn.start(200)
    return came
