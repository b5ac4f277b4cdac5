"""The z-plane: zeros as rings, poles as diamonds, both taken hold of by hand."""

from __future__ import annotations

import cmath
import math
from functools import lru_cache

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QWheelEvent,
)
from PyQt6.QtWidgets import QMenu, QWidget

from combe.app.plots.frame import InTurn
from combe.app.theme.palette import SMALL, THEME, font
from combe.filters import Roots
from combe.filters.by_hand import LARGEST_POLE, Mark, added, doubled, marks_of, moved, near_pairs, removed, without_pair
from combe.requirement.quantities import frequency_text, short

GRIP, SNAP = 9.0, 7.0
HOME = 1.28
LABEL_RADII = (1.17, 1.24, 0.85, 0.74, 1.1, 0.64, 0.5)
"""Where a frequency may be written, best first."""
LEGEND_HEIGHT = 24
PICTURED = 9
"""Pixels from the middle of a mark's picture to its edges."""


class RootsPlot(InTurn, QWidget):
    """``edited`` carries changed roots and the name of the change, ``released`` tells that the hand let go.

    Nothing moves before the design is unlocked: ``unlock_wanted`` asks for that.
    """

    edited = pyqtSignal(object, str, str)
    released = pyqtSignal()
    unlock_wanted = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.roots = Roots((), (), 1.0)
        self.behind: Roots | None = None
        self.is_unlocked = False
        self.sample_rate_hz = 2.0
        self.counted = "hz"
        self.tool = "move"
        self.held: Mark | None = None
        self.chosen: Mark | None = None
        self.pointer_hz: float | None = None
        self.reach = HOME
        self.center = 0j
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("roots in the z-plane")
        self.setMinimumSize(240, 240)
        self.take_turns()

    @property
    def is_held(self) -> bool:
        """While a root is carried."""
        return self.held is not None

    def show_roots(
        self, roots: Roots, is_unlocked: bool, sample_rate_hz: float, counted: str, behind: Roots | None = None
    ) -> None:
        """Other roots; ``behind`` are drawn faintly (the rounded ones)."""
        self.roots, self.is_unlocked, self.behind = roots, is_unlocked, behind
        self.sample_rate_hz, self.counted = sample_rate_hz, counted
        if self.chosen is not None and self.held is None:
            self.chosen = next((m for m in marks_of(roots) if abs(m.place - self.chosen.place) < 1e-9), None)
        self.update()

    # -- places ----------------------------------------------------------------------------------------------

    @property
    def _scale(self) -> float:
        return min(self.width(), self.height()) / (2 * self.reach)

    def to_pixel(self, place: complex) -> QPointF:
        """Where a place of the plane lies on the widget."""
        away = (place - self.center) * self._scale
        return QPointF(self.width() / 2 + away.real, self.height() / 2 - away.imag)

    def to_place(self, pixel: QPointF) -> complex:
        """The place under a pixel."""
        return complex(pixel.x() - self.width() / 2, self.height() / 2 - pixel.y()) / self._scale + self.center

    def mark_at(self, pixel: QPointF) -> Mark | None:
        """The root under a pixel, poles first."""
        best, nearest = None, GRIP
        for mark in marks_of(self.roots):
            away = self.to_pixel(mark.place) - pixel
            distance = math.hypot(away.x(), away.y()) - (0.5 if mark.kind == "pole" else 0.0)
            if distance < nearest:
                best, nearest = mark, distance
        return best

    def words_of(self, kind: str, place: complex) -> str:
        """Radius, angle, frequency and Q of a root."""
        radius, angle = abs(place), abs(cmath.phase(place))
        hz = frequency_text(
            float(f"{angle / (2 * math.pi) * self.sample_rate_hz:.5g}"), self.sample_rate_hz, self.counted
        )
        words = f"{kind}: radius {radius:.5f}, angle {angle / math.pi:.4f}π, {hz}"
        if kind == "pole" and 0 < radius < 1 and 0 < angle < math.pi:
            damping = -math.log(radius)
            words += f", Q {short(math.hypot(damping, angle) / (2 * damping), 4)}"
        return words

    # -- the hand --------------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take hold of a root, or put a new one down."""
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        mark = self.mark_at(event.position())
        if not self.is_unlocked:
            self.unlock_wanted.emit()
            return
        if self.tool in ("zero", "pole") and mark is None:
            place = self._snapped(self.to_place(event.position()), self.tool)
            self.edited.emit(added(self.roots, self.tool, place), f"add a {self.tool}", "")
            self.told.emit(self.words_of(self.tool, place))
            return
        self.held = self.chosen = mark
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Carry a root, or tell what lies under the pointer."""
        if event is None:
            return
        place = self.to_place(event.position())
        if self.held is None:
            self._point(event.position(), place)
            return
        if self.held.kind == "pole" and abs(place) > LARGEST_POLE:
            self.told.emit("a pole on or outside the unit circle would never settle: it is held just inside")
        place = self._snapped(place, self.held.kind)
        mark = self.held
        after = moved(self.roots, mark, place)
        self.roots = after
        kept = (after.zeros if mark.kind == "zero" else after.poles)[mark.index]
        self.held = self.chosen = Mark(mark.kind, mark.index, kept)
        self.edited.emit(after, f"move a {mark.kind}", f"{mark.kind}{mark.index}")
        if not (mark.kind == "pole" and abs(place) > LARGEST_POLE):
            self.told.emit(self.words_of(mark.kind, kept))
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Let go, or open what can be done with a root."""
        if self.held is not None:
            self.held = None
            self.released.emit()
        if event is not None and event.button() == Qt.MouseButton.RightButton and self.is_unlocked:
            mark = self.mark_at(event.position())
            if mark is not None:
                self.menu_of(mark).exec(event.globalPosition().toPoint())

    def menu_of(self, mark: Mark) -> QMenu:
        """What can be done with a root."""
        menu = QMenu(self)
        menu.addAction(
            f"Double this {mark.kind}", lambda: self._edit(doubled(self.roots, mark), f"double a {mark.kind}")
        )
        menu.addAction(f"Remove this {mark.kind}", lambda: self.remove(mark))
        for pair in near_pairs(self.roots):
            if mark in pair:
                menu.addAction(
                    "Remove the pair that nearly cancels",
                    lambda pair=pair: self._edit(without_pair(self.roots, pair), "remove a pair"),
                )
        return menu

    def remove(self, mark: Mark) -> None:
        """Take a root away."""
        self.chosen = None
        self._edit(removed(self.roots, mark), f"remove a {mark.kind}")

    def _edit(self, roots: Roots, what: str) -> None:
        self.edited.emit(roots, what, "")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows move the chosen root by a hair, Delete removes it, Tab goes to the next."""
        if event is None:
            return
        steps = {Qt.Key.Key_Left: (0, 1), Qt.Key.Key_Right: (0, -1), Qt.Key.Key_Up: (1, 0), Qt.Key.Key_Down: (-1, 0)}
        key = Qt.Key(event.key())
        if self.chosen is not None and self.is_unlocked and key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.remove(self.chosen)
        elif self.chosen is not None and self.is_unlocked and key in steps:
            out, turn = steps[key]
            place = self.chosen.place * (1 + 0.001 * out) * cmath.exp(0.002j * turn)
            after = moved(self.roots, self.chosen, place)
            kept = (after.zeros if self.chosen.kind == "zero" else after.poles)[self.chosen.index]
            self.chosen = Mark(self.chosen.kind, self.chosen.index, kept)
            self.told.emit(self.words_of(self.chosen.kind, kept))
            self._edit(after, f"move a {self.chosen.kind}")
        elif key == Qt.Key.Key_Space:
            marks = [mark for mark in marks_of(self.roots) if mark.place.imag >= 0]
            here = next((k for k, m in enumerate(marks) if self.chosen and m.place == self.chosen.place), -1)
            self.chosen = marks[(here + 1) % len(marks)] if marks else None
            if self.chosen is not None:
                self.told.emit(self.words_of(self.chosen.kind, self.chosen.place))
            self.update()
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Zoom about the pointer."""
        if event is None:
            return
        before = self.to_place(event.position())
        self.reach = min(max(self.reach * 0.85 ** (event.angleDelta().y() / 120), 1e-6), 20.0)
        self.center += before - self.to_place(event.position())
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """The whole circle again."""
        self.go_home()

    def go_home(self) -> None:
        """The whole circle."""
        self.reach, self.center = HOME, 0j
        self.update()

    def leaveEvent(self, event: object) -> None:
        """Nothing is pointed at."""
        self.pointer_hz = None
        self.update()

    def _snapped(self, place: complex, kind: str) -> complex:
        """Zeros near the circle come to lie on it."""
        if kind == "zero" and abs(abs(place) - 1) * self._scale < SNAP and place != 0:
            return place / abs(place)
        return place

    def _point(self, pixel: QPointF, place: complex) -> None:
        mark = self.mark_at(pixel)
        self.setCursor(Qt.CursorShape.OpenHandCursor if mark and self.is_unlocked else Qt.CursorShape.ArrowCursor)
        angle = abs(cmath.phase(place)) if place else 0.0
        self.pointer_hz = angle / (2 * math.pi) * self.sample_rate_hz
        self.told.emit(self.words_of(mark.kind, mark.place) if mark else "")
        self.update()

    # -- drawing ---------------------------------------------------------------------------------------------

    def paint_whole(self, event: QPaintEvent) -> None:
        """The circle, the axes, distances from the pointer's frequency, then the roots."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(SMALL))
        self._paint_plane(painter)
        if self.pointer_hz is not None:
            self._paint_distances(painter)
        if self.behind is not None:
            for mark in marks_of(self.behind):
                self._paint_mark(painter, mark, "ochre", 0.75)
        near = {(m.kind, m.index) for pair in near_pairs(self.roots) for m in pair}
        for mark in marks_of(self.roots):
            self._paint_mark(painter, mark, "amber" if (mark.kind, mark.index) in near else "river", 1.0)
        self._paint_labels(painter)
        if self.chosen is not None:
            painter.setPen(QPen(THEME.color("ink"), 1.2, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(self.to_pixel(self.chosen.place), 11, 11)

    def _paint_plane(self, painter: QPainter) -> None:
        painter.setPen(QPen(THEME.color("line"), 1))
        origin = self.to_pixel(0j)
        painter.drawLine(QPointF(0, origin.y()), QPointF(self.width(), origin.y()))
        painter.drawLine(QPointF(origin.x(), 0), QPointF(origin.x(), self.height()))
        painter.setPen(QPen(THEME.color("muted"), 1.2))
        painter.drawEllipse(origin, self._scale, self._scale)

    def label_boxes(self, metrics: QFontMetrics) -> list[tuple[str, QRectF]]:
        """Frequencies around the circle, each as near to it as no root stands under it."""
        places = [self.to_pixel(mark.place) for mark in marks_of(self.roots)]
        across, down = np.array([place.x() for place in places]), np.array([place.y() for place in places])
        found = []
        for share in (0.0, 0.125, 0.25, 0.375, 0.5):
            text = frequency_text(share * self.sample_rate_hz, self.sample_rate_hz, self.counted)
            boxes = [self._label_box(share, radius, metrics.horizontalAdvance(text) + 2.0) for radius in LABEL_RADII]
            covered = [
                int(np.count_nonzero(
                    (across >= box.left() - GRIP) & (across <= box.right() + GRIP)
                    & (down >= box.top() - GRIP) & (down <= box.bottom() + GRIP)
                )) for box in boxes
            ]  # fmt: skip
            found.append((text, boxes[covered.index(min(covered))]))
        return found

    def _label_box(self, share: float, radius: float, width: float) -> QRectF:
        place = self.to_pixel(radius * cmath.exp(2j * math.pi * share))
        left = min(max(place.x() - width / 2, 0.0), self.width() - width)
        top = min(max(place.y() - 9, 0.0), self.height() - LEGEND_HEIGHT - 18.0)
        return QRectF(left, top, width, 18)

    def _paint_labels(self, painter: QPainter) -> None:
        """Frequencies around the circle, and what the marks mean."""
        painter.setPen(THEME.color("muted"))
        for text, box in self.label_boxes(painter.fontMetrics()):
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
        words = [("zero", "zero", "river"), ("pole", "pole", "river")]
        if self.behind is not None:
            words.append(("zero", "rounded", "ochre"))
        left, middle = 14.0, self.height() - LEGEND_HEIGHT / 2
        for kind, text, role in words:
            self._paint_shape(painter, kind, QPointF(left, middle), role, 0.85)
            painter.setPen(THEME.color("muted"))
            width = painter.fontMetrics().horizontalAdvance(text) + 2
            painter.drawText(QRectF(left + 10, middle - 9, width, 18), Qt.AlignmentFlag.AlignVCenter, text)
            left += 10 + width + 18

    def _paint_distances(self, painter: QPainter) -> None:
        """A line from the pointer's frequency on the circle to each root: what the gain there is made of."""
        assert self.pointer_hz is not None
        place = cmath.exp(2j * math.pi * self.pointer_hz / self.sample_rate_hz)
        start = self.to_pixel(place)
        for mark in marks_of(self.roots)[:24]:
            painter.setPen(QPen(THEME.color("river" if mark.kind == "zero" else "clay", 110), 1))
            painter.drawLine(start, self.to_pixel(mark.place))
        painter.setPen(QPen(THEME.color("ink"), 1))
        painter.setBrush(THEME.color("card"))
        painter.drawEllipse(start, 3.5, 3.5)
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def _paint_mark(self, painter: QPainter, mark: Mark, role: str, size: float) -> None:
        place = self.to_pixel(mark.place)
        # A hundred rings drawn one by one would take five times as long as their pictures, each at its quarter of a pixel.
        (x, across), (y, down) = divmod(round(4 * place.x()), 4), divmod(round(4 * place.y()), 4)
        picture = _picture(THEME.name, mark.kind, role, size, across, down, self.devicePixelRatioF())
        painter.drawPixmap(QPointF(x - PICTURED, y - PICTURED), picture)
        if mark.times > 1 and size == 1.0:
            painter.setPen(THEME.color("ink"))
            painter.drawText(place + QPointF(-14, -8), str(mark.times))

    @staticmethod
    def _paint_shape(painter: QPainter, kind: str, place: QPointF, role: str, size: float) -> None:
        """A zero's ring, a pole's diamond."""
        painter.setPen(QPen(THEME.color(role), 1.8))
        painter.setBrush(THEME.color("card"))
        if kind == "zero":
            painter.drawEllipse(place, 5 * size, 5 * size)
        else:
            r = 6 * size
            painter.setBrush(THEME.color(role))
            painter.drawPolygon(QPolygonF([place + QPointF(dx, dy) for dx, dy in ((0, -r), (r, 0), (0, r), (-r, 0))]))
        painter.setBrush(Qt.BrushStyle.NoBrush)


@lru_cache(maxsize=256)
def _picture(theme: str, kind: str, role: str, size: float, across: int, down: int, ratio: float) -> QPixmap:
    """A root's mark with its middle so many quarters of a pixel beyond the picture's own."""
    side = round(2 * PICTURED * ratio)
    found = QPixmap(side, side)
    found.setDevicePixelRatio(ratio)
    found.fill(Qt.GlobalColor.transparent)
    painter = QPainter(found)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    RootsPlot._paint_shape(painter, kind, QPointF(PICTURED + across / 4, PICTURED + down / 4), role, size)
    painter.end()
    return found


def gain_at(roots: Roots, hz: float, sample_rate_hz: float) -> float:
    """The gain at one frequency, as the product of the distances the plot draws."""
    z = np.exp(2j * np.pi * hz / sample_rate_hz)
    top = np.prod(np.abs(z - np.array(roots.zeros))) if roots.zeros else 1.0
    bottom = np.prod(np.abs(z - np.array(roots.poles))) if roots.poles else 1.0
    return float(abs(roots.gain) * top / bottom)
