"""What the hand takes hold of on a plot: edges go sideways, levels up and down."""

from __future__ import annotations

from typing import Any

import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPainterPath, QPen

from combe.app.theme.palette import THEME

REACH = 9.0


class Handle(pg.GraphicsObject):
    """A grip at a place of the plot; ``moved`` tells where the hand wants it.

    ``is_whole`` says that Shift was held: the whole band is meant. A double click asks to type the figure instead.
    """

    moved = pyqtSignal(float, float)
    released = pyqtSignal()
    typing_wanted = pyqtSignal()

    def __init__(self, sideways: bool, tip: str, band: int = -1, kind: str = "") -> None:
        super().__init__()
        self.sideways = sideways
        self.band, self.kind = band, kind
        self._hovered = False
        self._held = False
        self.is_whole = False
        self._offset = QPointF()
        self.setFlag(self.GraphicsItemFlag.ItemIgnoresTransformations)
        self.setCursor(Qt.CursorShape.SizeHorCursor if sideways else Qt.CursorShape.SizeVerCursor)
        self.setToolTip(tip)
        self.setZValue(30)

    @property
    def is_held(self) -> bool:
        """Whether the hand has it."""
        return self._held

    def boundingRect(self) -> QRectF:
        """Larger than what's drawn, so that it's easy to catch."""
        return QRectF(-REACH, -REACH, 2 * REACH, 2 * REACH)

    def shape(self) -> QPainterPath:
        """The whole reach."""
        path = QPainterPath()
        path.addRect(self.boundingRect())
        return path

    def dataBounds(self, *_: Any) -> tuple[None, None]:
        """A handle never sets the range."""
        return (None, None)

    def paint(self, painter: QPainter, *_: Any) -> None:
        """Two short bars across the way it moves, like a gate."""
        lit = self._hovered or self._held
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.sideways:
            painter.rotate(90)
        painter.setPen(QPen(THEME.color("river" if lit else "ink"), 1.2))
        painter.setBrush(THEME.color("river", 255) if lit else THEME.color("raised"))
        painter.drawRoundedRect(QRectF(-3.5, -6.5, 7, 13), 2, 2)
        painter.setPen(QPen(THEME.color("raised" if lit else "muted"), 1.0))
        painter.drawLine(QPointF(-1, -3), QPointF(-1, 3))
        painter.drawLine(QPointF(1, -3), QPointF(1, 3))

    def hoverEvent(self, event: Any) -> None:
        """Light up, and claim the drag before the plot pans."""
        entered = not event.isExit() and event.acceptDrags(Qt.MouseButton.LeftButton)
        if entered != self._hovered:
            self._hovered = entered
            self.update()

    def mouseDoubleClickEvent(self, event: Any) -> None:
        """Type the figure instead."""
        event.accept()
        self.typing_wanted.emit()

    def mouseDragEvent(self, event: Any) -> None:
        """Follow the hand."""
        if event.button() != Qt.MouseButton.LeftButton:
            event.ignore()
            return
        event.accept()
        box = self.getViewBox()
        place = box.mapSceneToView(event.scenePos())
        if event.isStart():
            grabbed = box.mapSceneToView(event.buttonDownScenePos())
            self._offset = self.pos() - grabbed
            self._held = True
        if event.isFinish():
            self._held = False
        wanted = place + self._offset
        self.is_whole = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.moved.emit(wanted.x(), wanted.y())
        if event.isFinish():
            self.update()
            self.released.emit()
