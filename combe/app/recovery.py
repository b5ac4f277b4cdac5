"""A copy of unsaved work, so that nothing is lost when the machine goes down."""

from __future__ import annotations

from pathlib import Path

import platformdirs
from PyQt6.QtCore import QObject, QTimer

from combe.app.session import Session
from combe.errors import CombeError
from combe.log import log_failure
from combe.project.document import Project
from combe.project.file import read_project, save_project

WAIT_MS = 3000


def recovery_path() -> Path:
    """Where the copy is kept."""
    return Path(platformdirs.user_state_dir("combe")) / "unsaved.combe"


def recovered() -> Project | None:
    """Work left behind by a session that didn't end in order."""
    try:
        return read_project(recovery_path()) if recovery_path().exists() else None
    except CombeError:
        return None


class Recovery(QObject):
    """Keeps a copy of a session's unsaved project, a few seconds behind; none once it's saved or left in order."""

    def __init__(self, session: Session, path: Path | None = None) -> None:
        super().__init__(session)
        self.session = session
        self.path = path or recovery_path()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(WAIT_MS)
        self._timer.timeout.connect(self.keep)
        session.project_changed.connect(lambda _: self._timer.start())
        session.file_changed.connect(self._timer.start)

    def keep(self) -> None:
        """Write the copy, or remove it where there is nothing unsaved."""
        if not self.session.is_modified:
            self.forget()
            return
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            save_project(self.session.project, self.path)
        except (OSError, CombeError):
            log_failure("keeping a copy of unsaved work")

    def forget(self) -> None:
        """Remove the copy."""
        self._timer.stop()
        try:
            self.path.unlink(missing_ok=True)
        except OSError:
            log_failure("removing the copy of unsaved work")
