"""Points by the thousand on a plot: one dot is painted, and stamped wherever there is one."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPixmap
from pyqtgraph.Qt.internals import PrimitiveArray

Array = NDArray[np.float64]


class Dots(pg.GraphicsObject):
    """Round dots of so many pixels, in any order; what isn't finite is left out."""

    def __init__(self, size: float) -> None:
        super().__init__()
        self.size = size
        self.x: Array = np.zeros(0)
        self.y: Array = np.zeros(0)
        self._color = QColor()
        self._bounds = QRectF()
        self._stamp = QPixmap()
        self._stamped: tuple[int, float] = (0, 0.0)
        self._places = PrimitiveArray(QPainter.PixmapFragment, 10)

    def show_points(self, x: Array, y: Array) -> None:
        """Others."""
        finite = np.isfinite(x) & np.isfinite(y)
        self.prepareGeometryChange()
        self.x, self.y = np.asarray(x[finite], dtype=np.float64), np.asarray(y[finite], dtype=np.float64)
        self._bounds = QRectF()
        if len(self.x):
            left, low = float(np.min(self.x)), float(np.min(self.y))
            self._bounds = QRectF(left, low, float(np.max(self.x)) - left, float(np.max(self.y)) - low)
        self.update()

    def set_color(self, color: QColor) -> None:
        """What they are painted in."""
        if color != self._color:
            self._color = color
            self.update()

    def boundingRect(self) -> QRectF:
        """The points, and a dot's width around them."""
        view = self.getViewBox()
        if view is None:
            return self._bounds
        across, up = view.viewPixelSize()
        return self._bounds.adjusted(-self.size * across, -self.size * up, self.size * across, self.size * up)

    def dataBounds(self, *_: Any) -> tuple[None, None]:
        """Dots never set the range."""
        return (None, None)

    def paint(self, painter: QPainter, *_: Any) -> None:
        """Those that can be seen, in pixels."""
        transform = painter.worldTransform()
        (left, right), (low, high) = self.getViewBox().viewRange()
        across, up = self.size / abs(transform.m11()), self.size / abs(transform.m22())
        seen = (self.x >= left - across) & (self.x <= right + across) & (self.y >= low - up) & (self.y <= high + up)
        x, y = self.x[seen], self.y[seen]
        if not len(x):
            return
        device = painter.device()
        fine = device.devicePixelRatioF() if device is not None else 1.0
        side = self._stamp_for(fine)
        self._places.resize(len(x))
        places = self._places.ndarray()
        places[:, 0] = transform.m11() * x + transform.dx()
        places[:, 1] = transform.m22() * y + transform.dy()
        places[:, 2:] = (0, 0, side, side, 1 / fine, 1 / fine, 0, 1)  # from where in the stamp, scales, angle, opacity
        painter.save()
        painter.resetTransform()
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawPixmapFragments(*self._places.drawargs(), self._stamp)  # type: ignore[call-arg]
        painter.restore()

    def _stamp_for(self, fine: float) -> int:
        """Make the stamp ready, of so many pixels of the screen to one of the window; its sides."""
        side = math.ceil(self.size * fine) + 2
        if self._stamped != (self._color.rgba(), fine):
            self._stamped = self._color.rgba(), fine
            self._stamp = QPixmap(side, side)
            self._stamp.fill(Qt.GlobalColor.transparent)
            painter = QPainter(self._stamp)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self._color)
            painter.drawEllipse(QPointF(side / 2, side / 2), self.size * fine / 2, self.size * fine / 2)
            painter.end()
        return side
