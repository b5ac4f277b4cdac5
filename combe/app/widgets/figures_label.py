"""A rich text of many figures that may change many times a second."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QSize
from PyQt6.QtWidgets import QLabel

from combe.app.plots.frame import InTurn

LEAST_WIDTH = 460


class FiguresLabel(InTurn, QLabel):
    """As high as it is at the width it has: a label would lay it out at twenty widths, in search of a
    handsome one, each time it changes."""

    def __init__(self) -> None:
        super().__init__()
        self._heights: dict[int, int] = {}
        self.take_turns()

    def setText(self, text: str | None) -> None:
        """Another text."""
        self._heights.clear()
        super().setText(text)

    def changeEvent(self, event: QEvent | None) -> None:
        """Another font, another theme."""
        self._heights.clear()
        super().changeEvent(event)

    def heightForWidth(self, width: int) -> int:
        """Laid out once at each width: a layout asks for it four times over."""
        if width not in self._heights:
            self._heights[width] = super().heightForWidth(width)
        return self._heights[width]

    def sizeHint(self) -> QSize:
        """At the width it has."""
        return QSize(LEAST_WIDTH, self.heightForWidth(max(self.width(), LEAST_WIDTH)))

    def minimumSizeHint(self) -> QSize:
        """Likewise."""
        return self.sizeHint()
