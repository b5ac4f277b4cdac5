"""A hand that drags, however often its mouse tells of it: moves in quick succession are taken together, the last counts."""

from __future__ import annotations

import pyqtgraph as pg
from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QMouseEvent

PACE_MS = 4
"""A mouse may tell of a thousand moves a second; each changes the project."""

# The scene itself would drop each move within ten milliseconds of another, the last of all too: what is dragged, or lit under
# the pointer, would be left where the hand no longer is.
pg.setConfigOptions(mouseRateLimit=0)


class Paced(pg.GraphicsView):
    """A view in which nothing is dragged more often than it can be followed."""

    def __init__(self, *words: object) -> None:
        self._kept: QMouseEvent | None = None
        super().__init__(*words)
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.timeout.connect(self._go_on)

    @property
    def is_dragged(self) -> bool:
        """Whether the hand holds something in it."""
        return self.scene().dragItem is not None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Now, or soon."""
        if self.is_dragged and self._pause.isActive():
            self._kept = event.clone()
            return
        super().mouseMoveEvent(event)
        if self.is_dragged:
            self._pause.start(PACE_MS)

    def _go_on(self) -> None:
        kept, self._kept = self._kept, None  # of a hand that has let go nothing waits: where it did was told
        if kept is not None and self.is_dragged:
            self.mouseMoveEvent(kept)
