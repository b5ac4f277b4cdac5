"""What stands above and the ledger below, the line between them moved by hand; and places of their own for what stands beside."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QSplitter, QWidget


class Niche(QWidget):
    """As high as there is room, at least as high as its part needs, and as wide as it is told, or as there is room for.

    In a layout every line of text that comes or goes would have the whole window measured again, 10 to 20 ms each time. Here only
    another least height does.
    """

    def __init__(self, part: QWidget, width: int = 0) -> None:
        super().__init__()
        self._part = part
        part.setParent(self)
        if width:
            self.setFixedWidth(width)
        self._follow()

    def event(self, event: QEvent | None) -> bool:
        """The part asks for another size."""
        if event is not None and event.type() == QEvent.Type.LayoutRequest:
            self._follow()
        return super().event(event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """The part fills it."""
        super().resizeEvent(event)
        self._part.setGeometry(self.rect())

    def _follow(self) -> None:
        needed = self._part.minimumSizeHint().height()
        if needed != self.minimumHeight():
            self.setMinimumHeight(needed)


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
