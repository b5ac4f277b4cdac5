"""Nothing is lost: a copy of unsaved work a moment behind, and an eye on the file it belongs to."""

from __future__ import annotations

import hashlib
import threading
from pathlib import Path

from PyQt6.QtCore import QFileSystemWatcher, QObject, QTimer, pyqtSignal

from combe.app.session import Session
from combe.errors import CombeError
from combe.log import log_failure
from combe.project.unsaved import Keeper, Opened

WAIT_MS = 1200
"""After the first change that is not in the copy; more changes don't put it off."""
LOOK_MS = 200
"""Editors write a file in several steps: what it says is read once it is quiet."""


class Recovery(QObject):
    """Keeps the copy of a session's unsaved project; none once it's saved, or given up by the user's own word."""

    def __init__(self, session: Session, folder: Path | None = None) -> None:
        super().__init__(session)
        self.session = session
        self.keeper = Keeper(folder)
        self._busy = threading.Lock()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(WAIT_MS)
        self._timer.timeout.connect(self._keep_aside)
        session.project_changed.connect(lambda _: self._soon())
        session.file_changed.connect(self._soon)

    def _soon(self) -> None:
        if not self._timer.isActive():
            self._timer.start()

    def _keep_aside(self) -> None:
        """Write the copy without holding up the hand."""
        if not self.session.is_modified:
            self.forget()
            return
        if not self._busy.acquire(blocking=False):
            self._soon()  # a slow disk still writes the last one
            return
        arguments = self.session.project, self._file(), self.session.changes
        threading.Thread(target=self._write, args=arguments, daemon=True).start()

    def _write(self, *arguments: object) -> None:
        try:
            self.keeper.keep(*arguments)  # type: ignore[arg-type]
        except (OSError, CombeError):
            log_failure("keeping a copy of unsaved work")
        finally:
            self._busy.release()

    def keep(self) -> None:
        """Write the copy now, or remove it where there is nothing unsaved."""
        self._timer.stop()
        if not self.session.is_modified:
            self.forget()
            return
        with self._busy:
            try:
                self.keeper.keep(self.session.project, self._file(), self.session.changes)
            except (OSError, CombeError):
                log_failure("keeping a copy of unsaved work")

    def forget(self) -> None:
        """Remove the copy."""
        self._timer.stop()
        with self._busy:
            self.keeper.forget()

    def _file(self) -> str:
        return str(self.session.path) if self.session.path is not None else ""


class FileWatch(QObject):
    """``changed`` tells that the open project's file is another than this window knows: ``changed`` or ``deleted``;
    ``shared`` that another window has it open."""

    changed = pyqtSignal(str)
    shared = pyqtSignal()

    def __init__(self, session: Session, folder: Path | None = None) -> None:
        super().__init__(session)
        self.session = session
        self.known: str | None = None
        self._told: str | None = None
        self._opened = Opened(folder)
        self._watcher = QFileSystemWatcher(self)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self.look)
        for signal in (self._watcher.fileChanged, self._watcher.directoryChanged):
            signal.connect(lambda _: self._timer.start())
        session.file_changed.connect(self.follow)
        self.follow()

    def follow(self) -> None:
        """The session has another file, or has just written its own: what lies there now is known."""
        paths = [*self._watcher.files(), *self._watcher.directories()]
        if paths:
            self._watcher.removePaths(paths)
        path = self.session.path
        self.known = self._told = fingerprint(path)
        if path is not None:
            self._watcher.addPaths([str(each) for each in (path, path.parent) if each.exists()])
        if not self._opened.take(path):
            self.shared.emit()

    @property
    def state(self) -> str:
        """``changed`` or ``deleted`` where the file is not what this window knows, else empty."""
        now = fingerprint(self.session.path)
        if now == self.known or self.known is None:
            return ""
        return "deleted" if now is None else "changed"

    def look(self) -> None:
        """Compare, and tell what is new once."""
        now = fingerprint(self.session.path)
        path = self.session.path
        if path is not None and path.exists() and str(path) not in self._watcher.files():
            self._watcher.addPath(str(path))  # replaced by another file of the same name
        if now != self._told:
            self._told = now
            if self.state:
                self.changed.emit(self.state)

    def stop(self) -> None:
        """The window closes: nothing is told any more, and the file is let go."""
        self.blockSignals(True)
        self._timer.stop()
        paths = [*self._watcher.files(), *self._watcher.directories()]
        if paths:
            self._watcher.removePaths(paths)
        self._opened.take(None)

    def accept(self) -> None:
        """What lies there now is known: the user has said what is to happen."""
        self.known = self._told = fingerprint(self.session.path)


def fingerprint(path: Path | None) -> str | None:
    """What a file holds, as a checksum; None where there is none."""
    if path is None:
        return None
    try:
        return hashlib.sha256(path.read_bytes()).hexdigest()
    except OSError:
        return None
