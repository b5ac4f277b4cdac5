"""The stages of a change of rate as a row of boxes, rates between them, and a bar in each: its share of the work."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFont, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QScrollArea, QWidget

from combe.app.theme.palette import SMALL, THEME, font
from combe.designing.rates.parts import StagePart, padding_of, phases_of
from combe.requirement.quantities import rate_text, short

HIGH, LEAST, WIDEST = 84, 136, 230
"""Of a box; its least and its largest width."""
TIGHT, WIDE = 62, 92
"""Between two boxes, for a rate."""


def box_words(part: StagePart, format_words: str = "") -> tuple[str, ...]:
    """What stands in a box: what it does, what it is made of, what it costs."""
    stage = part.stage
    way = (
        f"×{stage.up} ÷{stage.down}"
        if stage.up > 1 < stage.down
        else f"×{stage.up}"
        if stage.up > 1
        else f"÷{stage.down}"
        if stage.down > 1
        else "same rate"
    )
    multiplies = "1 multiply" if part.multiplies == 1 else f"{short(part.multiplies, 4)} multiplies"
    if stage.kind == "cic":
        length = stage.factor * stage.delay
        made = f"order {stage.order} over {length}{', ' + format_words if format_words else ''}"
        return f"{way}   CIC", made, f"{short(part.adds, 4)} adds, no multiply"
    if stage.kind == "allpass":
        made = f"{len(stage.even)} and {len(stage.odd)} poles{', ' + format_words if format_words else ''}"
        return f"{way}   two allpasses", made, multiplies
    if stage.kind == "farrow":
        powers, samples = len(stage.branches), len(stage.branches[0])
        made = f"degree {powers - 1}, {samples} samples{', ' + format_words if format_words else ''}"
        return f"{way}   polynomials", made, multiplies
    phases, padding = phases_of(stage), padding_of(stage)
    zeros = sum(1 for tap in stage.taps if not tap)
    made = f"{len(stage.taps)} taps{f', {zeros} zero' if zeros else ''}{', ' + format_words if format_words else ''}"
    shape = f"{len(phases)} × {-(-len(stage.taps) // len(phases))}{f', {padding} padded' if padding else ''}"
    return f"{way}   {shape}", made, multiplies


class StageBoxes(QWidget):
    """Paints the row; its tip and its accessible text say the same."""

    def __init__(self) -> None:
        super().__init__()
        self.parts: tuple[StagePart, ...] = ()
        self.roles: tuple[str, ...] = ()
        self.words: list[tuple[str, ...]] = []
        self.setFixedHeight(HIGH + 8)

    def show_parts(self, parts: Sequence[StagePart], roles: Sequence[str], formats: Sequence[str] = ()) -> None:
        """Other stages; ``roles`` are the colours their curves have, ``formats`` those of their coefficients."""
        self.parts, self.roles = tuple(parts), tuple(roles)
        self.words = [box_words(part, formats[k] if k < len(formats) else "") for k, part in enumerate(parts)]
        self.setAccessibleName("; ".join(self._sentence(k) for k in range(len(parts))))
        self.setToolTip("\n".join(self._sentence(k) for k in range(len(parts))))
        self.setMinimumWidth(self.sizeHint().width())
        self.update()

    def _sentence(self, index: int) -> str:
        part = self.parts[index]
        ends = f"{rate_text(part.rate_in_hz)} to {rate_text(part.rate_out_hz)}"
        adds = "" if part.stage.kind == "cic" else f" and {short(part.adds, 4)} adds"
        return f"{ends}: {', '.join(self.words[index])}{adds} a sample, {part.share:.0%} of all operations"

    def sizeHint(self) -> QSize:
        """Room for every box at its least width."""
        count = len(self.parts)
        return QSize(count * LEAST + (count + 1) * TIGHT, HIGH + 8)

    @property
    def gap(self) -> float:
        """Between two boxes: what they leave, within limits."""
        count = len(self.parts)
        return min(max((self.width() - count * LEAST) / (count + 1), TIGHT), WIDE)

    def box(self, index: int) -> QRectF:
        """Where a stage is drawn."""
        count, gap = max(len(self.parts), 1), self.gap
        wide = min(max((self.width() - (count + 1) * gap) / count, LEAST), WIDEST)
        left = (self.width() - count * wide - (count + 1) * gap) / 2
        return QRectF(max(left, 0) + gap + index * (wide + gap), 4, wide, HIGH)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Boxes, arrows with rates, shares."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for index, part in enumerate(self.parts):
            box = self.box(index)
            self._arrow(painter, box.left() - self.gap, box.left(), part.rate_in_hz)
            self._box(painter, box, index)
        if self.parts:
            last = self.box(len(self.parts) - 1)
            self._arrow(painter, last.right(), last.right() + self.gap, self.parts[-1].rate_out_hz)

    def _arrow(self, painter: QPainter, left: float, right: float, rate_hz: float) -> None:
        y = 4 + HIGH / 2
        painter.setPen(QPen(THEME.color("river"), 1.6))
        painter.drawLine(QPointF(left + 6, y), QPointF(right - 7, y))
        painter.drawPolyline(QPolygonF([QPointF(right - 12, y - 4), QPointF(right - 7, y), QPointF(right - 12, y + 4)]))
        painter.setFont(font(SMALL))
        painter.setPen(THEME.color("ink"))
        painter.drawText(QRectF(left, y - 22, right - left, 18), Qt.AlignmentFlag.AlignCenter, rate_text(rate_hz))

    def _box(self, painter: QPainter, box: QRectF, index: int) -> None:
        painter.setPen(QPen(THEME.color("line"), 1))
        painter.setBrush(THEME.color("raised"))
        painter.drawRoundedRect(box, 6, 6)
        painter.fillRect(QRectF(box.left() + 10, box.top() + 12, 14, 3), THEME.color(self.roles[index]))
        for line, words in enumerate(self.words[index]):
            painter.setFont(font(SMALL, QFont.Weight.DemiBold if line == 0 else QFont.Weight.Normal))
            painter.setPen(THEME.color("ink" if line == 0 else "muted"))
            place = QRectF(
                box.left() + (30 if line == 0 else 10),
                box.top() + 4 + 20 * line,
                box.width() - (36 if line == 0 else 16),
                20,
            )
            fitting = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(place.width()))
            painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, fitting)
        whole = QRectF(box.left() + 10, box.bottom() - 13, box.width() - 56, 4)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(THEME.color("line"))
        painter.drawRoundedRect(whole, 2, 2)
        painter.setBrush(THEME.color(self.roles[index]))
        painter.drawRoundedRect(
            QRectF(whole.left(), whole.top(), max(whole.width() * self.parts[index].share, 2), 4), 2, 2
        )
        painter.setPen(THEME.color("muted"))
        share = QRectF(whole.right(), box.bottom() - 20, 40, 18)
        painter.drawText(
            share, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{self.parts[index].share:.0%}"
        )


class StageRow(QScrollArea):
    """The boxes, moved sideways where they are many."""

    def __init__(self) -> None:
        super().__init__()
        self.boxes = StageBoxes()
        self.setWidget(self.boxes)
        self.setWidgetResizable(True)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFixedHeight(HIGH + 20)
