"""Hankel singular values as bars: where they fall off is the order to take, and a click takes it."""

from __future__ import annotations

from math import log10

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from combe.app.theme.palette import THEME

SHOWN, DECADES = 48, 6.0


class HankelChart(QWidget):
    """``order_picked`` carries the order a bar stands for."""

    order_picked = pyqtSignal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.values: tuple[float, ...] = ()
        self.order = 0
        self.setFixedHeight(92)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Hankel singular values")
        self._under: int | None = None

    def show_values(self, values: tuple[float, ...], order: int) -> None:
        """Other values, and the order taken from them."""
        self.values, self.order = values[:SHOWN], order
        self.update()

    def order_at(self, x: float) -> int:
        """The order the bar at a place stands for."""
        width = max(self.width() / max(len(self.values), 1), 1e-6)
        return min(max(int(x / width) + 1, 1), len(self.values))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Tell what the bar under the pointer stands for."""
        if event is not None and self.values:
            self._under = self.order_at(event.position().x())
            bound = 2 * sum(self.values[self._under :])
            self.setToolTip(f"order {self._under}: no more than {bound:.3g} away from the FIR at any frequency")
            self.update()

    def leaveEvent(self, event: object) -> None:
        """Nothing is pointed at."""
        self._under = None
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """A click takes an order."""
        if event is not None and self.values and event.button() == Qt.MouseButton.LeftButton:
            self.order_picked.emit(self.order_at(event.position().x()))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right take a lower or higher order."""
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key())) if event is not None else None
        if step is None or not self.values:
            super().keyPressEvent(event)
            return
        self.order_picked.emit(min(max(self.order + step, 1), len(self.values)))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Bars on a logarithmic scale; those kept stand in the chosen colour, hatched ones are dropped."""
        if not self.values:
            return
        painter = QPainter(self)
        painter.setPen(QPen(THEME.color("muted")))
        painter.drawText(
            QRectF(0, 0, self.width(), 16), Qt.AlignmentFlag.AlignLeft, f"Hankel values · order {self.order}"
        )
        width, top = self.width() / len(self.values), 20.0
        largest = max(self.values)
        for index, value in enumerate(self.values):
            share = max(1 + log10(max(value / largest, 1e-30)) / DECADES, 0.02)
            height = share * (self.height() - top)
            bar = QRectF(index * width + 0.5, self.height() - height, max(width - 1.5, 1.0), height)
            kept = index < self.order
            painter.fillRect(bar, THEME.color("river" if kept else "line"))
            if self._under == index + 1:
                painter.setPen(QPen(THEME.color("ink"), 1.0))
                painter.drawRect(bar)
        x = self.order * width
        painter.setPen(QPen(THEME.color("ink"), 1.0, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, top), QPointF(x, self.height()))
