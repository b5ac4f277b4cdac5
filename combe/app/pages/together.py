"""All filters of the project on one core or one device: a bar for each thing they share, and what each filter takes."""

from __future__ import annotations

import math

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QHelpEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from combe.app.pages.page import Page, Scene
from combe.app.theme.palette import SMALL, THEME, font
from combe.app.widgets.parts import Choice, label
from combe.app.widgets.quiet_table import Cell, QuietTable
from combe.proof.device_budget import CAPACITY
from combe.proof.together import Taker, Together, percent
from combe.requirement.quantities import frequency_text

DEVICE = "ice40-up5k"
ROW, BAR, LEFT, RIGHT = 34, 20, 96, 84
ROLES = ("river", "ochre", "moss", "heather", "clay", "muted", "ink")
"""Colors of filters, one after another."""


class Bars(QWidget):
    """A bar for each thing that is shared: the filters one after another, and where there is no more of it."""

    def __init__(self) -> None:
        super().__init__()
        self.found = Together()
        self.setAccessibleName("shares of all filters")
        self.setMinimumHeight(ROW + 20)

    def show_found(self, found: Together) -> None:
        """Other filters, or more of them."""
        self.found = found
        self.setFixedHeight(ROW * max(len(found.parts), 1) + 20)
        self.update()

    @property
    def reach(self) -> float:
        """The share at the right end."""
        known = [share for share in self.found.totals if not math.isinf(share)]
        return max(1.0, *known, 0.0) * 1.02

    def _place(self, share: float) -> float:
        width = self.width() - LEFT - RIGHT
        return LEFT + width * min(share / self.reach, 1.0)

    def boxes(self) -> list[tuple[QRectF, Taker, int]]:
        """Where each filter's share of each part lies."""
        found: list[tuple[QRectF, Taker, int]] = []
        for part in range(len(self.found.parts)):
            start, top = 0.0, 16.0 + part * ROW
            for taker in self.found.takers:
                if not taker.shares:
                    continue
                end = start + taker.shares[part]
                left, right = self._place(start), self._place(end)
                if right > left:
                    found.append((QRectF(left, top, right - left, BAR), taker, part))
                start = end
        return found

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Names left, what is taken in all right, the edge of what there is across all bars."""
        painter = QPainter(self)
        painter.setFont(font(SMALL))
        names = [taker.name for taker in self.found.takers]
        for part, total in zip(range(len(self.found.parts)), self.found.totals):
            top = 16.0 + part * ROW
            painter.setPen(THEME.color("ink"))
            name = QRectF(0, top, LEFT - 10, BAR)
            painter.drawText(name, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, self.found.parts[part])
            painter.fillRect(QRectF(LEFT, top, self._place(1.0) - LEFT, BAR), THEME.color("line"))
            painter.setPen(THEME.color("clay" if total > 1 else "ink"))
            words = percent(total) if not math.isinf(total) else "none there"
            where = QRectF(self.width() - RIGHT + 8, top, RIGHT - 8, BAR)
            painter.drawText(where, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)
        for box, taker, _ in self.boxes():
            number = names.index(taker.name)
            color = THEME.color(ROLES[number % len(ROLES)])
            painter.fillRect(box.adjusted(0, 0, -1 if box.width() > 3 else 0, 0), color)
        if self.found.parts:
            painter.setPen(QPen(THEME.color("ink"), 1.4))
            edge = self._place(1.0)
            painter.drawLine(int(edge), 6, int(edge), 16 + ROW * len(self.found.parts) - ROW + BAR + 6)

    def words_at(self, x: float, y: float) -> str:
        """What lies under a point."""
        for box, taker, part in self.boxes():
            if box.contains(x, y):
                return f"{taker.name}: {taker.amounts[part]}, {percent(taker.shares[part])} of the {self.found.parts[part]}"
        return ""

    def event(self, event: object) -> bool:
        """Tell whose share it is."""
        if isinstance(event, QHelpEvent):
            words = self.words_at(event.pos().x(), event.pos().y())
            QToolTip.showText(event.globalPos(), words, self)
            return True
        return super().event(event)  # type: ignore[arg-type]


class TogetherPage(Page):
    """Asks for all filters by ``together``, with the device they are to stand on."""

    def __init__(self) -> None:
        super().__init__()
        self.found = Together()
        head = QHBoxLayout()
        self.words = label("", "muted", wrap=True)
        self.device = Choice()
        self.device.addItems(list(CAPACITY))
        self.device.setAccessibleName("device")
        self.device.setToolTip("The device all circuits are to find room on")
        self.measure = QPushButton("Put together")
        self.measure.clicked.connect(lambda _: self.asked.emit("together", self.device.currentText()))
        head.addWidget(self.words, 1)
        head.addWidget(self.device)
        head.addWidget(self.measure)
        self.bars = Bars()
        self.table = QuietTable("filters together", (), 24)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addLayout(head)
        column.addWidget(self.bars)
        column.addWidget(self.table, 1)

    def show_scene(self, scene: Scene) -> None:
        """All filters as far as they are built or counted."""
        is_circuit = scene.project.code.written_in.is_circuit
        is_running = "together" in scene.results.pending
        self.device.setVisible(is_circuit)
        self.measure.setEnabled(not is_running)
        count, core = len(scene.project.members), scene.project.processor
        place = (
            "one device: each is synthesized" if is_circuit else f"one {core.core} at {frequency_text(core.clock_hz)}"
        )
        how = "" if is_circuit else f" in blocks of {core.block}, by instructions counted on the emulator"
        self.measure.setToolTip(f"All {count} filters of the project on {place}{how}")
        found = scene.results.together or Together()
        trouble = scene.trouble("together")
        if trouble:
            self.words.setText(trouble)
        elif is_running or found.count:
            self.words.setText(found.sentence() if found.count else "working…")
        else:
            self.words.setText(f"Not yet put together: all {count} filters of the project on {place}{how}.")
        if found != self.found or not self.table.columnCount():
            self.show_found(found)

    def show_found(self, found: Together) -> None:
        """Bars and rows."""
        self.found = found
        self.bars.show_found(found)
        heads = ["Filter", "Rate", *(part[0].upper() + part[1:] for part in found.parts), "How"]
        if not any(taker.how or taker.failure for taker in found.takers):
            heads.pop()
        rows = []
        for row, taker in enumerate(found.takers):
            amounts = [
                f"{amount}  ({percent(share)})" if share and not math.isinf(share) else amount
                for amount, share in zip(taker.amounts, taker.shares)
            ] or [""] * len(found.parts)
            texts = [
                taker.name,
                frequency_text(taker.sample_rate_hz),
                *amounts,
                "; ".join(filter(None, (taker.how, taker.failure))),
            ]
            role = "clay" if taker.failure else "ink"
            name, *others = texts[: len(heads)]
            rows.append([
                Cell(name, ROLES[row % len(ROLES)]),
                *(Cell(text, role, text if text is texts[-1] else "") for text in others),
            ])  # fmt: skip
        self.table.show_cells(rows, heads)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.bars.update()
        self.show_found(self.found)
