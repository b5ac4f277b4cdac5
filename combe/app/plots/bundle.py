"""Many thin curves painted together, one upright strip of the plot after the other."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter

from combe.app.plots.stroke import Stroke

STRIP = 256
"""Pixels. A steep line touches a piece of memory for every pixel of its height; all curves of a strip touch the same ones, while
they are still at hand: half the time of curves painted one by one in a window of 3840 x 2160."""


class Bundle(pg.GraphicsObject):
    """Paints other strokes, the last on top; they paint nothing themselves."""

    def __init__(self) -> None:
        super().__init__()
        self.strokes: list[Stroke] = []

    def hold(self, strokes: list[Stroke]) -> None:
        """From now on these, or what has become of them."""
        self.prepareGeometryChange()
        for stroke in self.strokes:
            stroke.is_bundled = False
        for stroke in strokes:
            stroke.is_bundled = True
        self.strokes = strokes

    def boundingRect(self) -> QRectF:
        """All of them."""
        found = QRectF()
        for stroke in self.strokes:
            found = found.united(stroke.boundingRect())
        return found

    def dataBounds(self, *_: Any) -> tuple[None, None]:
        """Curves never set the range."""
        return (None, None)

    def paint(self, painter: QPainter, *_: Any) -> None:
        """Strip by strip, in each of them one curve after the other."""
        shown = [(stroke, stroke.lines(painter.worldTransform())) for stroke in self.strokes if stroke.isVisible()]
        starts = [lines.ndarray()[:, 0] for _, lines in shown]
        ends = [(x[0], x[-1]) for x in starts if len(x)]
        if not ends:
            return
        first, last = min(a for a, _ in ends), max(b for _, b in ends)
        edges = np.arange(first, last + STRIP, STRIP)
        places = [np.append(np.searchsorted(x, edges), len(x)) for x in starts]
        looks = [(*stroke.look(), lines.instances()) for stroke, lines in shown]
        painter.save()
        painter.resetTransform()
        for k in range(len(edges)):
            for (pen, is_smooth, lines), own in zip(looks, places):
                if own[k] < own[k + 1]:
                    painter.setRenderHint(QPainter.RenderHint.Antialiasing, is_smooth)
                    painter.setPen(pen)
                    painter.drawLines(lines[own[k] : own[k + 1]])
        painter.restore()
