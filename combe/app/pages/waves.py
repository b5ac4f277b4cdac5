"""A circuit's ports over the first clocks of its simulation."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QMouseEvent, QPainter, QPaintEvent, QPen

from combe.app.pages.page import Page, Scene
from combe.app.theme.palette import SMALL, THEME, font
from combe.proof.waves import Wave


class WavesPage(Page):
    """Ports over the first clocks."""

    ROW, LEFT = 34, 84

    def __init__(self) -> None:
        super().__init__()
        self.waves: Sequence[Wave] = []
        self.clocks = 40.0
        self.sentence = ""
        self.setMinimumHeight(120)

    def show_scene(self, scene: Scene) -> None:
        """The excerpt of the last proof."""
        self.show_waves(scene.results.waves.waves, scene.results.waves.sentence)

    def show_waves(self, waves: Sequence[Wave], sentence: str = "") -> None:
        """Another excerpt, or why there is none."""
        self.waves, self.sentence = waves, sentence
        self.clocks = max((float(round(wave.changes[-1][0])) for wave in waves if wave.name == "clk"), default=40.0)
        self.update()

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """A line for every port: flags as steps, numbers as words between their changes."""
        painter = QPainter(self)
        painter.setFont(font(SMALL))
        painter.setPen(THEME.color("muted"))
        if not self.waves:
            painter.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                self.sentence or "Prove the circuit, and its first clocks are drawn here.",
            )
            return
        scale = (self.width() - self.LEFT - 12) / self.clocks
        for clock in range(0, int(self.clocks) + 1, 5 if self.clocks <= 60 else 20):
            x = self.LEFT + clock * scale
            painter.setPen(THEME.color("line"))
            painter.drawLine(int(x), 18, int(x), 18 + self.ROW * len(self.waves))
            painter.setPen(THEME.color("muted"))
            painter.drawText(int(x) - 12, 14, str(clock))
        for number, wave in enumerate(self.waves):
            top = 24.0 + number * self.ROW
            painter.setPen(THEME.color("ink"))
            painter.drawText(
                QRectF(0, top, self.LEFT - 10, self.ROW - 12),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                wave.name,
            )
            self._wave(painter, wave, top, scale)

    def _wave(self, painter: QPainter, wave: Wave, top: float, scale: float) -> None:
        low, high = top + self.ROW - 12, top
        ends = [*(time for time, _ in wave.changes[1:]), self.clocks]
        role = "river" if wave.name.startswith("in") else "ochre" if wave.name.startswith("out") else "muted"
        painter.setPen(QPen(THEME.color(role), 1.3))
        before = None
        for (start, digits), end in zip(wave.changes, ends):
            if start > self.clocks:
                break
            x0, x1 = self.LEFT + start * scale, self.LEFT + min(end, self.clocks) * scale
            if wave.bits == 1 and wave.name not in ("in_data", "out_data"):
                y = high if digits == "1" else low
                if before is not None and before != y:
                    painter.drawLine(QPointF(x0, before), QPointF(x0, y))
                painter.drawLine(QPointF(x0, y), QPointF(x1, y))
                before = y
                continue
            painter.drawLine(QPointF(x0, high), QPointF(x1, high))
            painter.drawLine(QPointF(x0, low), QPointF(x1, low))
            painter.drawLine(QPointF(x0, high), QPointF(x0, low))
            text = _number_text(digits, wave.bits)
            if QFontMetricsF(painter.font()).horizontalAdvance(text) < x1 - x0 - 4:
                painter.save()
                painter.setPen(THEME.color("ink"))
                painter.drawText(QRectF(x0 + 3, high, x1 - x0 - 4, low - high), Qt.AlignmentFlag.AlignVCenter, text)
                painter.restore()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Nothing to take hold of; kept from reaching what lies below."""
        if event is not None:
            event.accept()


def _number_text(digits: str, bits: int) -> str:
    if any(digit not in "01" for digit in digits):
        return "?"
    value = int(digits.rjust(bits, "0"), 2)
    return str(value - (1 << bits) if value >> (bits - 1) else value)
