"""What stands above and the ledger below, the line between them moved by hand."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QSplitter, QWidget


class Shelf(QSplitter):
    """Gives the lower part its height and the upper one the rest, however high the window is."""

    def __init__(self, upper: QWidget, lower: QWidget, height: int, gap: int) -> None:
        super().__init__(Qt.Orientation.Vertical)
        self._height = height
        self.addWidget(upper)
        self.addWidget(lower)
        self.setHandleWidth(gap)
        self.setStretchFactor(0, 1)
        self.setCollapsible(0, False)
        self._is_laid_out = False

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """The first time, heights are known only now; later Qt keeps the lower one as it is."""
        super().resizeEvent(event)
        if not self._is_laid_out and self.isVisible():
            self._is_laid_out = True
            self.setSizes([max(1, self.height() - self._height - self.handleWidth()), self._height])
