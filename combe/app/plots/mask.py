"""The requirement drawn: what is forbidden is hatched, each limit a line."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QPainter, QPen, QPixmap, QPolygonF, QTransform

from combe.app.theme.palette import THEME
from combe.requirement import Band, Requirement
from combe.requirement.bands import Limit
from combe.requirement.rates import landings

FAR = 1e4
TILE = 128
"""Pixels after which the tile repeats, a multiple of the eight after which the hatch does: of the size of the hatch alone
it takes three times as long to fill with."""


@lru_cache(maxsize=8)
def _landing_bands(requirement: Requirement) -> tuple[Band, ...]:
    """Stretches of which copies or aliases land on what is protected, as bands that are blocked."""
    return tuple(
        Band(landing.name, start, stop, Limit.level(landing.level_db, start, stop))
        for landing in landings(requirement)
        for start, stop in landing.pieces
    )


class Mask(pg.GraphicsObject):
    """All limits of a requirement. ``about`` gives the level that counts as zero at each band (the loupe)."""

    def __init__(self, passbands_only: bool = False) -> None:
        super().__init__()
        self.requirement: Requirement | None = None
        self.passbands_only = passbands_only
        self.centers: dict[int, float] = {}
        self.linear = False
        self.x_of: Callable[[float], float] = float
        self.is_log = False
        self.setZValue(-10)

    def set_axis(self, x_of: Callable[[float], float], is_log: bool) -> None:
        """How frequencies lie on the axis."""
        self.prepareGeometryChange()
        self.x_of, self.is_log = x_of, is_log
        self.update()

    def show_requirement(
        self, requirement: Requirement, linear: bool = False, centers: dict[int, float] | None = None
    ) -> None:
        """Draw another requirement."""
        self.prepareGeometryChange()
        self.requirement, self.linear, self.centers = requirement, linear, centers or {}
        self.update()

    def boundingRect(self) -> QRectF:
        """All of the axis, as high as anybody looks."""
        if self.requirement is None:
            return QRectF()
        left, right = self.x_of(0.0), self.x_of(self.requirement.nyquist_hz)
        return QRectF(left, -FAR, right - left, 2 * FAR)

    def dataBounds(self, *_: Any) -> tuple[None, None]:
        """The mask never sets the range."""
        return (None, None)

    def paint(self, painter: QPainter, *_: Any) -> None:
        """Hatch the forbidden, draw the limits: in pixels, where a tile is filled many times faster."""
        if self.requirement is None:
            return
        transform = painter.worldTransform()
        view = transform.mapRect(self.getViewBox().viewRect())
        painter.save()
        painter.resetTransform()
        for index, band in enumerate(self.requirement.bands):
            if band.is_passband or not self.passbands_only:
                self._paint_band(painter, transform, band, self.centers.get(index, 0.0), view)
        for band in () if self.passbands_only else _landing_bands(self.requirement):
            self._paint_band(painter, transform, band, 0.0, view)
        painter.restore()

    def _paint_band(self, painter: QPainter, transform: QTransform, band: Band, center: float, view: QRectF) -> None:
        color = "mask" if not band.is_passband else "moss"
        # Under a passband all is forbidden down to nothing: hatched faintly, or it would shout down the curve.
        strong = not band.is_passband or self.passbands_only
        tile = QBrush(_tile(THEME.name, color, strong))
        for limit, outside in ((band.upper, view.top()), (band.lower, view.bottom())):
            if limit is None:
                continue
            points = [transform.map(point) for point in self._points(limit, center)]
            first, last = points[0], points[-1]
            if all(point.y() == first.y() for point in points):
                area = QRectF(first, QPointF(last.x(), outside)).normalized()
                is_outside = (first.y() < outside) == (limit is band.upper)
                if not is_outside:
                    painter.fillRect(area.intersected(view), tile)
            else:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(tile)
                painter.drawPolygon(QPolygonF([*points, QPointF(last.x(), outside), QPointF(first.x(), outside)]))
            painter.setPen(QPen(THEME.color(color), 1.4))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF(points))

    def _points(self, limit: Limit, center: float) -> list[QPointF]:
        if not self.linear and not self.is_log:
            return [QPointF(hz, db - center) for hz, db in limit.points]

        def level(db: float) -> float:
            return float(10 ** (db / 20)) if self.linear else db - center

        found = []
        for start, stop, a, b in limit.pieces():
            for k in range(1 if a == b else 24):
                share = k / 24
                found.append(QPointF(self.x_of(start + share * (stop - start)), level(a + share * (b - a))))
            found.append(QPointF(self.x_of(stop), level(b)))
        return found


class Outline(Mask):
    """The bands a design has made for itself, where levels and cut-offs were given: dashed, nothing forbidden, with the
    edges its transition ends at."""

    def __init__(self) -> None:
        super().__init__()
        self.setZValue(-5)

    def _paint_band(self, painter: QPainter, transform: QTransform, band: Band, center: float, view: QRectF) -> None:
        painter.setPen(QPen(THEME.color("muted"), 1.2, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        own = [limit for limit in (band.upper, band.lower) if limit is not None]
        drawn = [[transform.map(point) for point in self._points(limit, center)] for limit in own]
        for points in drawn:
            painter.drawPolyline(QPolygonF(points))
        assert self.requirement is not None
        for end, hz in ((0, band.start_hz), (-1, band.stop_hz)):
            if 0 < hz < self.requirement.nyquist_hz:
                x = drawn[0][end].x()
                painter.drawLine(QPointF(x, view.top()), QPointF(x, view.bottom()))


@lru_cache(maxsize=8)
def _tile(theme: str, color: str, strong: bool) -> QPixmap:
    """The tint and the hatch of what is forbidden, once for each theme."""
    found = QPixmap(TILE, TILE)
    found.fill(THEME.color(color, 16 if strong else 8))
    painter = QPainter(found)
    painter.fillRect(found.rect(), QBrush(THEME.color(color, 90 if strong else 34), Qt.BrushStyle.BDiagPattern))
    painter.end()
    return found
