"""Pages are made before they are looked at, one at a time, while nothing is worked out and no hand moves: the first look at one then
takes no longer than the second."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QPoint, QTimer
from PyQt6.QtGui import QCursor
from PyQt6.QtWidgets import QApplication, QLineEdit

from combe.app.pages.register import BY_NAME

if TYPE_CHECKING:
    from combe.app.window import MainWindow
    from combe.project.document import Project

TURN_MS = 250
"""Between looks whether everything rests; one page is made where nothing has moved from one to the next."""


class Ahead(QObject):
    """Makes what isn't there yet, and rests when all of it is."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window = window
        self._seen: tuple[Project, str, QPoint, str] | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(TURN_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()
        window.session.stepped.connect(self._on_stepped)

    @property
    def is_done(self) -> bool:
        """Whether all pages stand."""
        return not self._timer.isActive()

    def _on_stepped(self, name: str) -> None:
        """Code of another kind has pages of its own."""
        if name == "package" and self.is_done and self._left():
            self._timer.start()

    def _left(self) -> list[str]:
        """Pages to be made."""
        return self._window.unmade(self._window.session.project.code.written_in.kind)

    def look(self) -> None:
        """One page more, if everything rests."""
        window = self._window
        field = QApplication.focusWidget()
        typed = field.text() if isinstance(field, QLineEdit) else ""
        now = (window.session.project, window.step, QCursor.pos(), typed)
        before, self._seen = self._seen, now
        session = window.session
        if now != before or session.is_busy or session.is_dragging:
            return
        left = self._left()
        # Modules are loaded on another thread; until then there is nothing to make a page from.
        ready = next((name for name in left if BY_NAME[name].is_loaded), "")
        if ready:
            window.make_page(ready)
        elif not left:
            project = session.project
            window.bench.show_setup(project.bench, project.requirement)  # its rows are as dear as a page
            self._timer.stop()
