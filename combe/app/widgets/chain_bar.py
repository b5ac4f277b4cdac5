"""The chain across the top: six steps, each with its own live margin; a click opens one."""

from __future__ import annotations

from msgspec import Struct
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from combe.app.theme.marks import VERDICT_COLORS, draw_verdict
from combe.app.theme.palette import BODY, SMALL, THEME, font
from combe.project.document import STEPS

TITLES = {
    "brief": "Brief",
    "ideal": "Ideal",
    "rounded": "Rounded",
    "arithmetic": "Arithmetic",
    "code": "Code",
    "bench": "Bench",
}
HEIGHT = 66


class StepState(Struct, frozen=True):
    """What a step says of itself: a verdict, what it is, and its margin in words."""

    verdict: str = "unknown"
    what: str = ""
    margin: str = ""


class Step(QWidget):
    """One step."""

    opened = pyqtSignal(str)

    def __init__(self, name: str, number: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.name, self.number = name, number
        self.state = StepState()
        self.is_open = False
        self._hovered = False
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setToolTip(f"{TITLES[name]}  (Ctrl+{number})")

    def show_state(self, state: StepState) -> None:
        """What it says now."""
        if state == self.state:
            return
        self.state = state
        self.setAccessibleName(f"{TITLES[self.name]}: {state.verdict}, {state.what}, {state.margin}")
        self.update()

    def set_open(self, is_open: bool) -> None:
        """Whether its page is the one shown."""
        if is_open != self.is_open:
            self.is_open = is_open
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Open."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            self.opened.emit(self.name)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Open with Enter or space."""
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit(self.name)
            return
        super().keyPressEvent(event)

    def enterEvent(self, event: object) -> None:
        """Light up."""
        self._hovered = True
        self.update()

    def leaveEvent(self, event: object) -> None:
        """Back to normal."""
        self._hovered = False
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Title, what it is, margin; the open one stands on the river."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(QPen(THEME.color("river" if self.hasFocus() or self._hovered else "line"), 1))
        painter.setBrush(THEME.color("raised" if self.is_open else "card"))
        painter.drawRoundedRect(box, 6, 6)
        if self.is_open:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(THEME.color("river"))
            painter.drawRoundedRect(QRectF(box.left() + 12, box.bottom() - 3, box.width() - 24, 3), 1.5, 1.5)
        draw_verdict(painter, self.state.verdict, QRectF(12, 11, 11, 11))
        self._write(painter)

    def _write(self, painter: QPainter) -> None:
        width = self.width() - 24
        align = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.setPen(THEME.color("ink"))
        painter.setFont(font(BODY, font().Weight.DemiBold))
        painter.drawText(QRectF(30, 7, width - 18, 18), align, TITLES[self.name])
        painter.setFont(font(SMALL))
        painter.setPen(THEME.color(VERDICT_COLORS[self.state.verdict]))
        room = painter.fontMetrics()
        left = width - 18 - painter.fontMetrics().horizontalAdvance(TITLES[self.name]) * BODY // SMALL - 14
        painter.drawText(QRectF(12, 7, width, 18), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                         room.elidedText(self.state.margin, Qt.TextElideMode.ElideRight, max(left, width - 90)))  # fmt: skip
        painter.setPen(THEME.color("muted"))
        for row, line in enumerate(self.state.what.split("\n")[:2]):
            painter.drawText(
                QRectF(12, 26 + 16 * row, width, 16), align, room.elidedText(line, Qt.TextElideMode.ElideRight, width)
            )


class ChainBar(QWidget):
    """All six, joined by a thread."""

    opened = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(16)
        self.steps: dict[str, Step] = {}
        for number, name in enumerate(STEPS, 1):
            step = Step(name, number)
            step.opened.connect(self.opened)
            row.addWidget(step, 1)
            self.steps[name] = step

    def show_state(self, name: str, state: StepState) -> None:
        """One step's state."""
        self.steps[name].show_state(state)

    def set_open(self, name: str) -> None:
        """The step whose page is shown."""
        for other, step in self.steps.items():
            step.set_open(other == name)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The thread between the steps."""
        painter = QPainter(self)
        painter.setPen(QPen(THEME.color("river", 150), 2))
        places = [step.geometry() for step in self.steps.values()]
        for left, right in zip(places, places[1:]):
            y = left.center().y()
            painter.drawLine(left.right() + 3, y, right.left() - 3, y)
