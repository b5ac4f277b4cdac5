"""Figures over widths as points, a look for each structure; a click on a point takes it."""

from __future__ import annotations

import math
from typing import Any

import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent

from combe.app.plots.axes import LevelAxis, Plot
from combe.app.theme.palette import THEME
from combe.requirement.quantities import short

LOOKS = (
    ("river", "o"), ("ochre", "s"), ("moss", "t"), ("heather", "d"), ("clay", "t1"), ("amber", "p"), ("muted", "h"),
    ("ink", "star"),
)  # fmt: skip
NEAR = 14.0


RING = "\0ring"
"""The item around the chosen point: no structure's name."""


class BentAxis(LevelAxis):
    """A scale that is even near zero and logarithmic far from it, ticks told in dB."""

    def __init__(self) -> None:
        super().__init__()
        self.even = 0.05

    def bent(self, value: float) -> float:
        """Where a level lies."""
        return math.asinh(value / self.even)

    def straight(self, place: float) -> float:
        """The level that lies somewhere."""
        return self.even * math.sinh(place)

    def tickValues(self, least: float, most: float, size: float) -> Any:
        """Ones and threes by decades, on both sides of zero."""
        levels = [0.0] + [sign * step * 10.0**k for k in range(-4, 3) for step in (1, 3) for sign in (1, -1)]
        places = sorted(self.bent(level) for level in levels if abs(level) >= self.even or level == 0)
        return [(1.0, [place for place in places if least <= place <= most])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """Labels of the ticks."""
        return [short(float(f"{self.straight(value):.2g}"), 6) if abs(value) > 1e-9 else "0" for value in values]


class PointPlot(Plot):
    """``taken`` carries the structure and width of the point that was clicked."""

    taken = pyqtSignal(str, int)

    def __init__(self, unit: str, counted: str, is_bent: bool = False) -> None:
        self.bent = BentAxis() if is_bent else None
        super().__init__(unit, frequency=False, left=self.bent)
        self.plain_unit = counted
        self.label_axes()
        self.points: list[tuple[str, int, float]] = []
        self.drawn: dict[str, tuple[tuple[str, str], list[tuple[float, float]], pg.PlotDataItem]] = {}
        """By name: look, points and item of what stands in the plot."""
        self.chosen: tuple[str, int] | None = None
        self._pressed: QPointF | None = None
        self.zero = pg.InfiniteLine(pos=0, angle=0)
        self.add(self.zero)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_points(
        self, points: list[tuple[str, int, float]], chosen: tuple[str, int] | None, names: list[str]
    ) -> None:
        """A line and marks for every structure; the chosen point ringed."""
        self.points, self.chosen = points, chosen
        self.zero.setPen(pg.mkPen(THEME.color("clay"), width=1, style=Qt.PenStyle.DashLine))
        for index, name in enumerate(names):
            role, symbol = LOOKS[index % len(LOOKS)]
            color = THEME.color(role).name()
            self._draw(
                name, (color, symbol), [(float(bits), value) for structure, bits, value in points if structure == name],
                pen=pg.mkPen(color, width=1.2), symbol=symbol, symbolSize=7, symbolBrush=color, symbolPen=None, antialias=True,
            )  # fmt: skip
        for name in set(self.drawn) - {*names, RING}:
            self._draw(name, ("", ""), [])
        ink = THEME.color("ink").name()
        ring = [(float(b), v) for structure, b, v in points if (structure, b) == chosen][:1]
        self._draw(
            RING,
            (ink, "o"),
            ring,
            pen=None,
            symbol="o",
            symbolSize=15,
            symbolBrush=None,
            symbolPen=pg.mkPen(ink, width=2),
        )

    def _draw(self, name: str, look: tuple[str, str], points: list[tuple[float, float]], **style: Any) -> None:
        """One item as it has to be now: points come by the dozen, and an item is dearer to make than to move."""
        before = self.drawn.get(name)
        if before is not None and before[:2] == (look, points):
            return
        if before is not None and before[0] == look and points:
            item = before[2]
            item.setData([x for x, _ in points], [y for _, y in points])
        else:
            if before is not None:
                self.take_out(self.drawn.pop(name)[2])
            if not points:
                return
            item = pg.PlotDataItem([x for x, _ in points], [y for _, y in points], **style)
            self.add(item)
            item.setZValue(1 if name == RING else 0)
        self.drawn[name] = look, points, item

    def point_at(self, pixel: QPointF) -> tuple[str, int, float] | None:
        """The nearest point within reach of the pointer."""
        box = self.view
        best, least = None, NEAR
        for point in self.points:
            place = box.mapViewToScene(QPointF(float(point[1]), point[2]))
            away = math.hypot(place.x() - pixel.x(), place.y() - pixel.y())
            if away < least:
                best, least = point, away
        return best

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Remember where, to tell a click from a drag."""
        self._pressed = event.position()
        super().mousePressEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """A click takes the point under it."""
        super().mouseReleaseEvent(event)
        pressed, self._pressed = self._pressed, None
        if pressed is None or (event.position() - pressed).manhattanLength() > 4:
            return
        point = self.point_at(QPointF(self.mapToScene(event.position().toPoint())))
        if point is not None:
            self.taken.emit(point[0], point[1])

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Tell the point under the pointer."""
        super().mouseMoveEvent(event)
        point = self.point_at(QPointF(self.mapToScene(event.position().toPoint())))
        if point is not None:
            value = self.bent.straight(point[2]) if self.bent is not None else point[2]
            sign = "+" if value >= 0 else "−"
            self.tell(f"{point[0]}, {point[1]} bits: {sign}{abs(value):.3f} dB · click takes it")
