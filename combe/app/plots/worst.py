"""The mark at a point where a limit is missed or nearly missed, with its figure."""

from __future__ import annotations

from typing import Any

import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen, QPolygonF

from combe.app.theme.palette import SMALL, THEME, font
from combe.ledger import Line
from combe.requirement.quantities import level_text

WIDE, HIGH = 110.0, 34.0


class WorstMark(pg.GraphicsObject):
    """A small flag that points at the worst place and says by how much."""

    def __init__(self, plot: Any, line: Line, level: float) -> None:
        super().__init__()
        self.plot = plot
        self.line = line
        self.setFlag(self.GraphicsItemFlag.ItemIgnoresTransformations)
        self.setPos(plot.frequency_axis.x_of(line.at_hz or 0.0), level)
        self.setZValue(25)
        self.setToolTip(f"{line.band}: margin {level_text(line.margin, 4)}")

    def boundingRect(self) -> QRectF:
        """Room for the flag on either side."""
        return QRectF(-WIDE, -HIGH, 2 * WIDE, 2 * HIGH)

    def dataBounds(self, *_: Any) -> tuple[None, None]:
        """A mark never sets the range."""
        return (None, None)

    def paint(self, painter: QPainter, *_: Any) -> None:
        """A pointed stroke from the outside of the limit, and the margin beside it."""
        missed = self.line.margin < 0
        color = THEME.color("clay" if missed else "amber")
        up = self.line.limit == "max_db"
        way = -1.0 if up else 1.0
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(color, 1.4))
        painter.setBrush(color if missed else Qt.BrushStyle.NoBrush)
        painter.drawPolygon(QPolygonF([QPointF(0, way * 2), QPointF(-4, way * 9), QPointF(4, way * 9)]))
        words = level_text(self.line.margin, 3)
        painter.setFont(font(SMALL))
        width = QFontMetricsF(painter.font()).horizontalAdvance(words)
        right = self.plot.view.mapViewToScene(self.pos()).x() > self.plot.width() - width - 40
        box = QRectF(-width - 12 if right else 8, way * 13 - 8, width + 4, 16)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(THEME.color("card", 220))
        painter.drawRoundedRect(box, 2, 2)
        painter.setPen(color)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
