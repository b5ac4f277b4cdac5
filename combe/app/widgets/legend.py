"""A stroke and a name for every curve."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from combe.app.plots.curve import Curve
from combe.app.theme.palette import SMALL, THEME, font


class Legend(QWidget):
    """A stroke and a name for every curve."""

    def __init__(self) -> None:
        super().__init__()
        self.curves: Sequence[Curve] = ()
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(20)

    def show_curves(self, curves: Sequence[Curve]) -> None:
        """Other curves."""
        before, self.curves = self.curves, curves
        if [_looks(curve) for curve in before] == [_looks(curve) for curve in curves]:
            return
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        """As wide as all names."""
        metrics = self.fontMetrics()
        return QSize(sum(metrics.horizontalAdvance(curve.name) + 38 for curve in self.curves), 20)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """From right to left."""
        painter = QPainter(self)
        painter.setFont(font(SMALL))
        x = float(self.width())
        for curve in reversed(self.curves):
            width = painter.fontMetrics().horizontalAdvance(curve.name)
            x -= width
            painter.setPen(THEME.color("ink"))
            painter.drawText(QRectF(x, 0, width + 1, 20), Qt.AlignmentFlag.AlignVCenter, curve.name)
            style = Qt.PenStyle.DashLine if curve.dashed else Qt.PenStyle.SolidLine
            painter.setPen(QPen(THEME.color(curve.role), 2, style))
            painter.drawLine(int(x) - 22, 10, int(x) - 6, 10)
            x -= 36


def _looks(curve: Curve) -> tuple[object, ...]:
    return curve.name, curve.role, curve.dashed
