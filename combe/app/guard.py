"""Faults of Combe's own while the window is open: written down once with what was done last, told in a sentence, and the work
is kept aside at once."""

from __future__ import annotations

import sys
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from combe import log

if TYPE_CHECKING:
    from combe.app.recovery import Recovery
    from combe.app.window import MainWindow

LAST = 5


class Guard(QObject):
    """Stands over slots and lanes for as long as the window is there."""

    happened = pyqtSignal(str)

    def __init__(self, window: MainWindow, recovery: Recovery | None = None) -> None:
        super().__init__(window)
        self.window, self.recovery = window, recovery
        self.happened.connect(self._on_fault)
        self._before = sys.excepthook

    def stand(self) -> None:
        """From now on."""
        sys.excepthook = self._hook
        log.context.append(self.done_last)
        log.noticed.append(self._on_noticed)

    def leave(self) -> None:
        """No more."""
        sys.excepthook = self._before
        if self.done_last in log.context:
            log.context.remove(self.done_last)
        if self._on_noticed in log.noticed:
            log.noticed.remove(self._on_noticed)

    def done_last(self) -> str:
        """The filter, the step and the page that were open, and the last changes."""
        session = self.window.session
        entry = self.window.entry
        page = entry.name if entry is not None else "a file"
        changes = ", ".join(session.changes[-LAST:]) or "nothing yet"
        return f"{session.project.code_name} was open, step {self.window.step}, page {page}\nchanged last: {changes}"

    def _hook(self, kind: type[BaseException], value: BaseException, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, value, trace)
            return
        try:
            raise value.with_traceback(trace)
        except BaseException:
            log.log_failure("in the window")

    def _on_noticed(self, path: Path) -> None:
        # A fault may come from any thread; the window belongs to one.
        self.happened.emit(str(path))

    def _on_fault(self, path: str) -> None:
        if self.recovery is not None:
            self.recovery.keep()
        self.window.tell(f"a fault in Combe itself, recorded in {path}; your work is still here, and kept aside")
