"""A circuit's data path, drawn."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from combe.app.theme.palette import SMALL, THEME, font
from combe.delivery.hdl.diagram import Diagram


class PathView(QWidget):
    """A data path, scaled to the room there is."""

    def __init__(self) -> None:
        super().__init__()
        self.diagram: Diagram | None = None
        self.setMinimumHeight(160)

    def show_diagram(self, diagram: Diagram | None) -> None:
        """Another data path."""
        self.diagram = diagram
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Wires, then what they join."""
        if self.diagram is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        drawing = self.diagram
        unit = min((self.width() - 16) / drawing.width, (self.height() - 16) / drawing.height, 74.0)
        painter.translate((self.width() - unit * drawing.width) / 2, (self.height() - unit * drawing.height) / 2)
        painter.setFont(font(max(int(min(unit * 0.2, SMALL + 1)), 7)))
        for wire in drawing.wires:
            self._wire(painter, [QPointF(x * unit, y * unit) for x, y in wire.points], wire.bits)
        for shape in drawing.shapes:
            area = QRectF(
                (shape.x - shape.width / 2) * unit,
                (shape.y - shape.height / 2) * unit,
                shape.width * unit,
                shape.height * unit,
            )
            painter.setPen(QPen(THEME.color("river"), 1.4))
            painter.setBrush(THEME.color("raised"))
            if shape.kind == "box":
                painter.drawRoundedRect(area, 4, 4)
            elif shape.kind == "circle":
                painter.drawEllipse(area)
            painter.setPen(THEME.color("ink" if shape.kind != "word" else "muted"))
            wide = area.adjusted(-unit * 2, 0, unit * 2, 0) if shape.kind == "word" else area
            painter.drawText(wide, Qt.AlignmentFlag.AlignCenter, shape.text)

    def _wire(self, painter: QPainter, points: list[QPointF], bits: int) -> None:
        painter.setPen(QPen(THEME.color("muted"), 1.2))
        painter.drawPolyline(QPolygonF(points))
        last, before = points[-1], points[-2]
        turn = math.atan2(last.y() - before.y(), last.x() - before.x())
        for side in (2.7, -2.7):
            painter.drawLine(last, QPointF(last.x() + 5 * math.cos(turn + side), last.y() + 5 * math.sin(turn + side)))
        if bits:
            first, second = points[0], points[1]
            middle = QPointF((first.x() + second.x()) / 2, (first.y() + second.y()) / 2)
            painter.setPen(THEME.color("ochre"))
            text = str(bits)
            width = QFontMetricsF(painter.font()).horizontalAdvance(text)
            is_level = abs(first.y() - second.y()) < 1
            place = (
                QPointF(middle.x() - width / 2, middle.y() - 4) if is_level else QPointF(middle.x() + 4, middle.y() + 4)
            )
            painter.drawText(place, text)
