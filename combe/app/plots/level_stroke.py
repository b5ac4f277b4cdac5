"""A signal on a plot: of any part as many points as the eye can tell apart."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QTransform

from combe.app.plots.stroke import Stroke
from combe.benching.levels import Levels

Array = NDArray[np.float64]
NEAR = 16
SPARE = 1.5
"""Stretches a pixel: fewer would show, more couldn't be seen."""


class LevelStroke(Stroke):
    """Samples at even distances, taken at the level of detail that the view asks for whenever it is painted anew."""

    moves = False

    def __init__(self) -> None:
        super().__init__()
        self.levels = Levels(0)
        self.first, self.step, self.height = 0.0, 1.0, 1.0

    def show_levels(self, levels: Levels, first: float, step: float, height: float) -> None:
        """Another signal: its first sample stands at ``first``, the next ``step`` further on, values times ``height``."""
        self.prepareGeometryChange()
        self.levels, self.first, self.step, self.height = levels, first, step, height
        reach = levels.peak * height
        self._bounds = QRectF(first, -reach, max(levels.count - 1, 1) * step, 2 * reach)
        self._key = ()
        self.update()

    def value_at(self, x: float) -> float | None:
        """Of the whole signal, whatever part is in view."""
        place = round((x - self.first) / self.step)
        places, values = self.levels.points(place, place, NEAR)
        return float(values[int(np.argmin(np.abs(places - place)))] * self.height) if len(places) else None

    def _strokes(self, transform: QTransform, low: float, high: float, dashed: bool) -> Array:
        (left, right), _ = self.getViewBox().viewRange()
        most = max(int(SPARE * abs(transform.m11()) * (right - left)), 16)
        places, values = self.levels.points((left - self.first) / self.step, (right - self.first) / self.step, most)
        self.x, self.y = self.first + places * self.step, values * self.height
        return super()._strokes(transform, low, high, dashed)
