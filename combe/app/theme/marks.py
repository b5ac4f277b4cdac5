"""One family of drawn marks: verdicts by shape as well as colour, icons for actions, and Combe's own sign."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QIcon, QPainter, QPainterPath, QPen, QPixmap, QPolygonF

from combe.app.theme.palette import THEME

VERDICTS = ("kept", "close", "missed", "unknown")
VERDICT_COLORS = {"kept": "moss", "close": "amber", "missed": "clay", "unknown": "muted"}


def draw_verdict(painter: QPainter, verdict: str, box: QRectF) -> None:
    """A leaf for kept, half a leaf for close, a split for missed, a ring for not known."""
    color = THEME.color(VERDICT_COLORS[verdict])
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color)
    if verdict == "kept":
        painter.drawPath(_leaf(box))
    elif verdict == "close":
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(color, 1.4))
        painter.drawPath(_leaf(box.adjusted(0.7, 0.7, -0.7, -0.7)))
        painter.setClipRect(QRectF(box.left(), box.center().y(), box.width(), box.height() / 2))
        painter.fillPath(_leaf(box), color)
    elif verdict == "missed":
        painter.setPen(QPen(color, 2.2, cap=Qt.PenCapStyle.RoundCap))
        inner = box.adjusted(1.5, 1.5, -1.5, -1.5)
        painter.drawLine(inner.topLeft(), inner.bottomRight())
        painter.drawLine(inner.topRight(), inner.bottomLeft())
    else:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(color, 1.4))
        painter.drawEllipse(box.adjusted(1.5, 1.5, -1.5, -1.5))
    painter.restore()


def draw_seal(painter: QPainter, verdict: str, box: QRectF) -> None:
    """A ring around a verdict: it's proved, not only measured."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(THEME.color(VERDICT_COLORS[verdict]), 1.0))
    painter.drawEllipse(box.adjusted(-3.5, -3.5, 3.5, 3.5))
    painter.restore()


def _leaf(box: QRectF) -> QPainterPath:
    path = QPainterPath(box.bottomLeft())
    path.cubicTo(box.topLeft(), QPointF(box.center().x(), box.top()), box.topRight())
    path.cubicTo(box.bottomRight(), QPointF(box.center().x(), box.bottom()), box.bottomLeft())
    return path


SHAPES: dict[str, list[list[tuple[float, float]]]] = {
    "more": [[(3, 8), (3.1, 8)], [(8, 8), (8.1, 8)], [(13, 8), (13.1, 8)]],
    "plus": [[(8, 3), (8, 13)], [(3, 8), (13, 8)]],
    "remove": [[(4, 4), (12, 12)], [(12, 4), (4, 12)]],
    "export": [[(8, 2), (8, 10)], [(5, 7), (8, 10), (11, 7)], [(3, 11), (3, 14), (13, 14), (13, 11)]],
    "prove": [[(2, 13), (5, 13), (5, 8), (8, 8), (8, 4), (11, 4)], [(9, 12), (11, 14), (15, 9)]],
    "lowpass": [[(1, 5), (8, 5), (11, 12), (15, 12)]],
    "highpass": [[(1, 12), (5, 12), (8, 5), (15, 5)]],
    "bandpass": [[(1, 12), (4, 12), (6, 5), (10, 5), (12, 12), (15, 12)]],
    "bandstop": [[(1, 5), (4, 5), (6, 12), (10, 12), (12, 5), (15, 5)]],
}


def icon(name: str, role: str = "river") -> QIcon:
    """A line icon by name."""
    pen = QPen(THEME.color(role), 1.6, cap=Qt.PenCapStyle.RoundCap, join=Qt.PenJoinStyle.RoundJoin)
    if name == "more":
        pen.setWidthF(2.4)

    def draw(painter: QPainter) -> None:
        painter.setPen(pen)
        for stroke in SHAPES[name]:
            painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in stroke]))

    return _icon(draw)


def _icon(draw: object) -> QIcon:
    pixmap = QPixmap(32, 32)
    pixmap.setDevicePixelRatio(2.0)
    pixmap.fill(QColor(0, 0, 0, 0))
    painter = QPainter(pixmap)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    draw(painter)  # type: ignore[operator]
    painter.end()
    return QIcon(pixmap)


def draw_sign(painter: QPainter, size: float) -> None:
    """Combe's sign: a valley between two chalk hills, a river through it that is also a stopband."""
    s = size / 64
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    ground = QPainterPath()
    ground.addRoundedRect(QRectF(0, 0, size, size), 14 * s, 14 * s)
    painter.setClipPath(ground)
    painter.fillPath(ground, QColor("#EFEDE6"))
    hill = QPainterPath(QPointF(0, 14 * s))
    hill.cubicTo(QPointF(22 * s, 14 * s), QPointF(20 * s, 48 * s), QPointF(32 * s, 48 * s))
    hill.cubicTo(QPointF(44 * s, 48 * s), QPointF(42 * s, 14 * s), QPointF(64 * s, 14 * s))
    hill.lineTo(64 * s, 64 * s)
    hill.lineTo(0, 64 * s)
    painter.fillPath(hill, QColor("#2E6A43"))
    painter.setPen(QPen(QColor("#17608F"), 5 * s, cap=Qt.PenCapStyle.RoundCap))
    river = QPainterPath(QPointF(32 * s, 50 * s))
    river.cubicTo(QPointF(26 * s, 54 * s), QPointF(40 * s, 57 * s), QPointF(30 * s, 66 * s))
    painter.drawPath(river)
    painter.setPen(QPen(QColor("#B9751A"), 4 * s, cap=Qt.PenCapStyle.RoundCap))
    painter.drawLine(QPointF(24 * s, 22 * s), QPointF(40 * s, 22 * s))


def sign_icon() -> QIcon:
    """The sign as an icon in several sizes."""
    made = QIcon()
    for size in (16, 32, 64, 128):
        pixmap = QPixmap(size, size)
        pixmap.fill(QColor(0, 0, 0, 0))
        painter = QPainter(pixmap)
        draw_sign(painter, size)
        painter.end()
        made.addPixmap(pixmap)
    return made
