"""Samples as stems from the zero line, each with a dot where there is room for one."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QTransform
from pyqtgraph.Qt.internals import PrimitiveArray

from combe.app.plots.stroke import Array, Stroke

DOT, ROOM = 4.5, 3.0
"""Pixels of a dot, and those from one sample to the next from which on dots are painted."""


class Stems(Stroke):
    """As many as there are, painted with two calls; of those that share a column of pixels the outermost."""

    def __init__(self) -> None:
        super().__init__()
        self._dots = PrimitiveArray(QPointF, 2)

    def show_points(self, x: Array, y: Array) -> None:
        """Other samples; the zero line, from which they rise, belongs to them."""
        super().show_points(x, y)
        bounds = self._bounds
        self._bounds = bounds.united(QRectF(bounds.left(), min(0.0, bounds.top()), bounds.width(), abs(bounds.top())))

    def _strokes(self, transform: QTransform, low: float, high: float, dashed: bool) -> Array:
        span = high - low
        x = transform.m11() * self.x
        y = transform.m22() * np.clip(self.y, low - span, high + span)
        zero = transform.m22() * min(max(0.0, low - span), high + span)
        has_room = len(x) < 2 or (x[-1] - x[0]) / (len(x) - 1) >= ROOM
        points = np.column_stack([x, y]) if has_room else np.zeros((0, 2))
        self._dots.resize(len(points))
        self._dots.ndarray()[:] = points
        if not has_room:
            x, y = outermost(x, y, zero)
        return np.column_stack([x, np.full_like(x, zero), x, y])

    def _mark(self, painter: QPainter) -> None:
        pen = QPen(self._look[0], DOT)
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(pen)
        painter.translate(*self._at[:2])
        painter.drawPoints(*self._dots.drawargs())


def outermost(x: Array, y: Array, zero: float) -> tuple[Array, Array]:
    """For each column of pixels the points furthest above and furthest below the zero line; x ascends."""
    column = np.floor(x)
    first = np.flatnonzero(np.append(True, column[1:] != column[:-1]))
    tops, bottoms = np.minimum.reduceat(y, first), np.maximum.reduceat(y, first)
    at = np.repeat(x[first], 2)
    ends = np.column_stack([np.minimum(tops, zero), np.maximum(bottoms, zero)]).ravel()
    return at, ends
