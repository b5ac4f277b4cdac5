"""Copies of unsaved work: one for each window, written while one works, found again after whatever ended it.

A window holds a lock on its copy for as long as it lives, however it ends; a copy whose lock is free was left behind.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import time
from pathlib import Path
from typing import Any

import platformdirs
from msgspec import Struct

from combe.errors import CombeError
from combe.files import encoded, json_text, make_folder, read_json
from combe.placing import write_files
from combe.project.document import Project
from combe.project.file import project_document, project_from

FORMAT, VERSION = "combe-unsaved", 1
CHANGES_KEPT = 8


def unsaved_folder() -> Path:
    """Where copies are kept."""
    return Path(platformdirs.user_state_dir("combe")) / "unsaved"


class Copy(Struct, frozen=True):
    """Work left behind: when it was last kept, the file it belongs to (if any), what was changed last.

    ``project`` is None where the copy can't be read, and ``trouble`` says why; the copy itself stays where it is.
    """

    path: Path
    when: float
    name: str = ""
    file: str = ""
    changes: tuple[str, ...] = ()
    project: Project | None = None
    trouble: str = ""

    def sentence(self) -> str:
        """Name, time and what changed."""
        at = time.strftime("%d %b %H:%M:%S", time.localtime(self.when))
        if self.project is None:
            return f"A copy of {at} can't be read ({self.trouble}); it stays in {self.path}"
        where = f", of {self.file}" if self.file else ", never saved"
        last = f"; last: {', '.join(self.changes[-3:])}" if self.changes else ""
        return f"{self.name}, {at}{where}{last}"


class Keeper:
    """Keeps the copy of one window."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder or unsaved_folder()
        self.path = self.folder / f"{os.getpid()}-{os.urandom(4).hex()}.json"
        self._lock = -1

    def keep(self, project: Project, file: str, changes: tuple[str, ...]) -> None:
        """Write the copy, whole or not at all.

        Raises
        ------
        CombeError
            If it can't be written.
        """
        document: dict[str, Any] = {
            "format": FORMAT, "version": VERSION, "file": file, "changes": list(changes[-CHANGES_KEPT:]),
            "project": project_document(project),
        }  # fmt: skip
        make_folder(self.folder)
        if self._lock < 0:
            self._lock = _locked(_lock_of(self.path))
        write_files([(self.path, encoded(json_text(document), str(self.path)))])

    def forget(self) -> None:
        """Remove the copy: it is saved, or the user said so."""
        with contextlib.suppress(OSError):
            self.path.unlink(missing_ok=True)
        if self._lock >= 0:
            with contextlib.suppress(OSError):
                _lock_of(self.path).unlink(missing_ok=True)
            os.close(self._lock)
            self._lock = -1


def left_behind(folder: Path | None = None) -> list[Copy]:
    """Copies whose window is gone, the newest first."""
    place = folder or unsaved_folder()
    found = []
    for path in place.glob("*.json"):
        handle = _locked(_lock_of(path))
        if handle < 0:
            continue
        os.close(handle)
        with contextlib.suppress(OSError):
            found.append(_read(path))
    return sorted(found, key=lambda copy: -copy.when)


def drop(copy: Copy) -> None:
    """Remove a copy: it was taken up, or the user said so."""
    for path in (copy.path, _lock_of(copy.path)):
        with contextlib.suppress(OSError):
            path.unlink(missing_ok=True)


def _read(path: Path) -> Copy:
    when = path.stat().st_mtime
    try:
        document = read_json(path)
        if not isinstance(document, dict) or document.get("format") != FORMAT:
            return Copy(path, when, trouble="it is no copy of Combe's")
        if document.get("version") != VERSION:
            return Copy(path, when, trouble="it is of a newer version")
        project = project_from(document.get("project"))
    except CombeError as error:
        return Copy(path, when, trouble=error.sentence().removeprefix(f"{path}: "))
    changes = document.get("changes")
    words = tuple(str(each) for each in changes) if isinstance(changes, list) else ()
    return Copy(path, when, project.name, str(document.get("file") or ""), words, project)


def _lock_of(path: Path) -> Path:
    return path.with_suffix(".lock")


def _locked(path: Path) -> int:
    """A handle that holds the lock; -1 where another holds it, or it can't be had."""
    try:
        handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    except OSError:
        return -1
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(handle)
        return -1
    return handle


class Opened:
    """Tells whether a project file is open in another window, too; holds it for this one."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder or unsaved_folder()
        self._lock = -1

    def take(self, file: Path | None) -> bool:
        """Hold a file (none: let go of the last). False where another window has it open."""
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1
        if file is None:
            return True
        key = hashlib.sha256(os.fsencode(os.path.realpath(file))).hexdigest()[:24]
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError:
            return True
        self._lock = _locked(self.folder / f"open-{key}.held")
        return self._lock >= 0
