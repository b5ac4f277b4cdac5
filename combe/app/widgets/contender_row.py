"""One contender as a card that paints all it says itself: dozens come and go while an edge is dragged, and a widget for every word is felt."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFont, QFontMetricsF, QPainter, QPaintEvent, QPen, QPixmap, QResizeEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from combe.app.theme.marks import VERDICT_COLORS, draw_verdict
from combe.app.theme.palette import BODY, SMALL, THEME, font
from combe.app.widgets.parts import Pickable

SIDE, ABOVE, MARK, GAP = 9, 7, 11, 6
"""Pixels: from the sides and the upper edge to the words, of the verdict's mark, and between what stands side by side."""


class ContenderRow(Pickable, QWidget):
    """Name and verdict above, with the ``margin`` at the right; then ``lines`` in small letters, each with the role of its color.

    What doesn't fit ends in an ellipsis; the tool tip tells such lines whole, and then ``more``.
    """

    picked = pyqtSignal()

    def __init__(self, name: str, verdict: str, margin: str, lines: Sequence[tuple[str, str]], more: str = "") -> None:
        super().__init__()
        self.name, self.verdict, self.margin, self.lines, self.more = name, verdict, margin, tuple(lines), more
        self.is_chosen = False
        self._picture: QPixmap | None = None
        self._painted: tuple[object, ...] = ()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(round(2 * ABOVE + _height(_strong()) + len(self.lines) * (_height(_small()) + 1)))

    def sizeHint(self) -> QSize:
        """As wide as there is room."""
        return QSize(120, self.height())

    def set_chosen(self, is_chosen: bool) -> None:
        """Mark it as the chosen one."""
        if is_chosen != self.is_chosen:
            self.is_chosen = is_chosen
            self.update()

    def told(self) -> str:
        """What the tool tip says."""
        room = self.width() - 2 * SIDE
        cut = [words for words, _ in self.lines if _width(words, _small()) > room]
        if _width(self.name, _strong()) > self._name_room():
            cut.insert(0, self.name)
        return "\n".join([*cut, *([self.more] if self.more else [])])

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """More or less of it is to be seen."""
        super().resizeEvent(event)
        self.setToolTip(self.told())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """As it was painted last, unless something has changed: a panel is painted with every move of a hand."""
        ratio = self.devicePixelRatioF()
        state = (self.width(), ratio, THEME.name, self.is_chosen, self.hasFocus())
        if self._picture is None or state != self._painted:
            self._picture = QPixmap(QSize(round(self.width() * ratio), round(self.height() * ratio)))
            self._picture.setDevicePixelRatio(ratio)
            self._picture.fill(THEME.color("card"))
            self._paint(QPainter(self._picture))
            self._painted = state
        QPainter(self).drawPixmap(0, 0, self._picture)

    def _paint(self, painter: QPainter) -> None:
        """The card, its mark and its words."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        edge = "river" if self.is_chosen or self.hasFocus() else "line"
        painter.setPen(QPen(THEME.color(edge), 1))
        painter.setBrush(THEME.color("shade" if self.is_chosen else "raised"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 5, 5)
        high = _height(_strong())
        draw_verdict(painter, self.verdict, QRectF(SIDE + 1, ABOVE + (high - MARK) / 2 + 1, MARK - 2, MARK - 2))
        _write(painter, _strong(), "ink", self.name, SIDE + MARK + GAP, ABOVE, self._name_room())
        left = self.width() - SIDE - _width(self.margin, _small())
        lower = QFontMetricsF(_strong()).ascent() - QFontMetricsF(_small()).ascent()
        _write(painter, _small(), VERDICT_COLORS[self.verdict], self.margin, left, ABOVE + lower, self.width())
        y = ABOVE + high + 1
        for words, role in self.lines:
            _write(painter, _small(), role, words, SIDE, y, self.width() - 2 * SIDE)
            y += _height(_small()) + 1
        painter.end()

    def _name_room(self) -> float:
        return self.width() - 2 * SIDE - MARK - 2 * GAP - _width(self.margin, _small())


def _strong() -> QFont:
    return font(BODY, QFont.Weight.DemiBold)


def _small() -> QFont:
    return font(SMALL)


def _height(of: QFont) -> float:
    return QFontMetricsF(of).height()


def _width(words: str, of: QFont) -> float:
    return QFontMetricsF(of).horizontalAdvance(words)


def _write(painter: QPainter, of: QFont, role: str, words: str, x: float, y: float, room: float) -> None:
    """A line of words from its upper left corner, shortened to the room."""
    metrics = QFontMetricsF(of)
    painter.setFont(of)
    painter.setPen(THEME.color(role))
    painter.drawText(
        QPointF(x, y + metrics.ascent()), metrics.elidedText(words, Qt.TextElideMode.ElideRight, max(room, 0.0))
    )
