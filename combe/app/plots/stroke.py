"""A curve on a plot: the points the eye can see, painted as separate strokes."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import QLineF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QTransform
from pyqtgraph.Qt.internals import PrimitiveArray

from combe.app.plots.seen import dashes, strokes

Array = NDArray[np.float64]


class Stroke(pg.GraphicsObject):
    """A line through points in the coordinates of its plot.

    It is mapped to pixels before it is painted: there a thick smooth stroke costs a fifth of what it costs under a
    transformation, and there it shows which points matter.
    """

    moves = True
    """Whether its lines stay what they are when the view moves sideways."""

    def __init__(self) -> None:
        super().__init__()
        self.x: Array = np.zeros(0)
        self.y: Array = np.zeros(0)
        self._look: tuple[QColor, float, bool, bool] = (QColor(), 1.0, False, True)
        self._bounds = QRectF()
        self._key: tuple[Any, ...] = ()
        self._at: tuple[Any, ...] = ()
        self._ends: Array = np.zeros((0, 4))
        self._lines = PrimitiveArray(QLineF, 4)
        self.is_bundled = False

    def show_points(self, x: Array, y: Array) -> None:
        """Other points, in order of x; what isn't finite is left out."""
        finite = np.isfinite(x) & np.isfinite(y)
        x, y = (x, y) if np.all(finite) else (x[finite], y[finite])
        self.prepareGeometryChange()
        self.x, self.y = np.asarray(x, dtype=np.float64), np.asarray(y, dtype=np.float64)
        self._bounds = QRectF()
        if len(x):
            left, low = float(self.x[0]), float(np.min(self.y))
            self._bounds = QRectF(left, low, float(self.x[-1]) - left, float(np.max(self.y)) - low)
        self._key = ()
        self.update()

    def set_look(self, color: QColor, width: float, dashed: bool = False, is_smooth: bool = True) -> None:
        """How it is drawn."""
        look = (color, width, dashed, is_smooth)
        if look != self._look:
            self._look = look
            self._key = ()
            self.update()

    def value_at(self, x: float) -> float | None:
        """The value of the point nearest to a place; None without points."""
        return float(self.y[int(np.argmin(np.abs(self.x - x)))]) if len(self.x) else None

    def boundingRect(self) -> QRectF:
        """The points, and the width of the stroke around them."""
        view = self.getViewBox()
        if view is None:
            return self._bounds
        across, up = view.viewPixelSize()
        room = self._look[1] + 1
        return self._bounds.adjusted(-room * across, -room * up, room * across, room * up)

    def dataBounds(self, *_: Any) -> tuple[None, None]:
        """A curve never sets the range."""
        return (None, None)

    def paint(self, painter: QPainter, *_: Any) -> None:
        """In pixels; nothing where a bundle does it."""
        if self.is_bundled:
            return
        lines = self.lines(painter.worldTransform())
        pen, is_smooth = self.look()
        painter.save()
        painter.resetTransform()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, is_smooth)
        painter.setPen(pen)
        painter.drawLines(*lines.drawargs())
        self._mark(painter)
        painter.restore()

    def look(self) -> tuple[QPen, bool]:
        """The pen, and whether its edges are smoothed."""
        color, width, _, is_smooth = self._look
        pen = QPen(color, width)
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        return pen, is_smooth

    def lines(self, transform: QTransform) -> PrimitiveArray:
        """What can be seen under a transformation, in pixels and from left to right."""
        width, dashed = self._look[1:3]
        (left, right), (low, high) = self.getViewBox().viewRange()
        key = (transform.m11(), transform.m22(), low, high, *(() if self.moves else (left, right)))
        if key != self._key:
            self._key, self._at = key, ()
            self._ends = self._strokes(transform, low, high, dashed)
        at = (transform.dx(), transform.dy(), left, right)
        if at != self._at:
            # What moves sideways keeps its lines: those that can be seen are moved, no point is looked at again.
            self._at = at
            first, last = (transform.m11() * edge for edge in (left, right))
            begin = int(np.searchsorted(self._ends[:, 2], first - width - 1))
            end = int(np.searchsorted(self._ends[:, 0], last + width + 1))
            self._lines.resize(max(end - begin, 0))
            dx, dy = transform.dx(), transform.dy()
            np.add(self._ends[begin:end], (dx, dy, dx, dy), out=self._lines.ndarray())
        return self._lines

    def _mark(self, painter: QPainter) -> None:
        """What else is to be painted, in pixels."""

    def _strokes(self, transform: QTransform, low: float, high: float, dashed: bool) -> Array:
        """Both ends of each line to be painted, in pixels from the axes' own zero and from left to right; what leaves the view is
        cut a view's height away."""
        if len(self.x) < 2:
            return np.zeros((0, 4))
        span = high - low
        ends = strokes(self.x, self.y, transform.m11(), transform.m22(), low - span, high + span)
        if dashed and len(ends):
            x, y, is_on = dashes(np.append(ends[:, 0], ends[-1, 2]), np.append(ends[:, 1], ends[-1, 3]))
            ends = np.column_stack([x[:-1], y[:-1], x[1:], y[1:]])[is_on]
        return ends
