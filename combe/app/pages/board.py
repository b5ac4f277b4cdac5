"""The code on a made-up board: when halves of its buffer fill, are worked on and played, and what its converters see."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.curve import NOTHING, Curve
from combe.app.plots.stroke import Stroke
from combe.app.theme.palette import SMALL, THEME, font
from combe.app.widgets.legend import Legend
from combe.app.widgets.parts import Choice, field, label
from combe.benching.board.run import BoardRun
from combe.benching.board.schedule import MOST_BLOCK
from combe.delivery.code_choices import CodeChoices
from combe.errors import CombeError
from combe.project import edits
from combe.requirement.quantities import duration_text, frequency_text, short

USUAL = "12"
SAME, MOST_FADE = "no other filter", 1 << 20
PERIODS = 8
"""Halves of a buffer that are drawn."""
TOP, LEFT, RIGHT, ROW, GAP = 20, 96, 8, 22, 10
ROWS = ("fills", "is worked on", "is played")


class Timeline(QWidget):
    """Three rows over time: which half fills, which is worked on, which is played."""

    def __init__(self) -> None:
        super().__init__()
        self.found: BoardRun | None = None
        self.first = 0
        self.setFixedHeight(TOP + len(ROWS) * (ROW + GAP) + 4)
        self.setAccessibleName("timeline of interrupts")

    def show_run(self, found: BoardRun | None) -> None:
        """Another run: drawn from the first block that is late, around a change, or from the beginning."""
        self.found = found
        self.first = 0
        if found is not None and found.late:
            self.first = max(found.late[0] - 2, 0)
        elif found is not None and found.click is not None:
            self.first = max(found.click.at // found.pace.block - 2, 0)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Bars with their blocks' numbers; a late one is hatched, its deadline is a line."""
        painter = QPainter(self)
        painter.setFont(font(SMALL))
        if self.found is None:
            return
        pace = self.found.pace
        start = self.first * pace.period_s
        scale = (self.width() - LEFT - RIGHT) / (PERIODS * pace.period_s)
        for number, name in enumerate(ROWS):
            painter.setPen(THEME.color("muted"))
            box = QRectF(0, TOP + number * (ROW + GAP), LEFT - 8, ROW)
            painter.drawText(box, int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter), name)
        painter.setClipRect(QRectF(LEFT, 0, self.width() - LEFT - RIGHT, self.height()))
        late = set(self.found.late)
        blocks = len(self.found.inputs) // pace.block
        for block in range(max(self.first - 3, 0), min(self.first + PERIODS + 1, blocks)):
            for row, lag in ((0, 0), (2, 2)):
                left = LEFT + ((block + lag) * pace.period_s - start) * scale
                self._bar(painter, row, left, pace.period_s * scale, block, block in late and row == 2)
            x = LEFT + ((block + 1) * pace.period_s - start) * scale
            painter.setPen(QPen(THEME.color("line"), 1))
            painter.drawLine(int(x), TOP - 6, int(x), self.height() - 4)
        for each in self.found.schedule.served:
            left = LEFT + (each.start_s - start) * scale
            if left < self.width() and LEFT + (each.stop_s - start) * scale > LEFT:
                self._bar(painter, 1, left, pace.work_s * scale, each.block, each.block in late)

    def _bar(self, painter: QPainter, row: int, left: float, width: float, block: int, is_late: bool) -> None:
        box = QRectF(left + 1, TOP + row * (ROW + GAP), max(width - 2, 2), ROW)
        color = THEME.color("river" if block % 2 else "moss", 70)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.fillRect(box, color)
        if is_late:
            painter.setPen(QPen(THEME.color("clay"), 1.5))
            for x in np.arange(box.left() - ROW, box.right(), 6):
                low, high = max(x, box.left()), min(x + ROW, box.right())
                if high > low:
                    painter.drawLine(int(low), int(box.bottom() - (low - x)), int(high), int(box.bottom() - (high - x)))
        painter.setPen(THEME.color("ink"))
        if box.width() > 26:
            if is_late:
                plate = QRectF(0, 0, painter.fontMetrics().horizontalAdvance(str(block)) + 10, ROW - 4)
                plate.moveCenter(box.center())
                painter.fillRect(plate, THEME.color("card"))
            painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), str(block))


class CodesPlot(Plot):
    """Converter codes over time."""

    def __init__(self) -> None:
        super().__init__("code", frequency=False)
        self.plain_unit = "ms"
        self.axis("left").setWidth(LEFT)  # under the timeline
        self.strokes = {"input": Stroke(), "output": Stroke()}
        for stroke in self.strokes.values():
            self.add(stroke)
        self.ends = [pg.InfiniteLine(angle=0, movable=False) for _ in range(2)]
        for line in self.ends:
            self.add(line)
        self.change = pg.InfiniteLine(angle=90, movable=False)
        self.add(self.change)
        self.label_axes()

    def show_run(self, found: BoardRun, first: int) -> None:
        """Both over the same stretch as the timeline, in steps as converters hold them."""
        pace = found.pace
        low, high = first * pace.block, min((first + PERIODS) * pace.block, len(found.inputs))
        time = 1e3 * np.arange(low, high) / pace.sample_rate_hz
        for name, role, values in (("input", "muted", found.inputs), ("output", "ochre", found.outputs)):
            part = values[low:high].astype(np.float64)
            self.strokes[name].set_look(THEME.color(role), 1.4)
            self.strokes[name].show_points(np.repeat(time, 2)[1:], np.repeat(part, 2)[:-1])
        self.change.setVisible(found.click is not None)
        if found.click is not None:
            # Where it is heard: two halves after the sample it began with.
            self.change.setValue(1e3 * (found.click.at + found.delay_samples) / pace.sample_rate_hz)
            self.change.setPen(pg.mkPen(THEME.color("heather"), width=1.5))
        most = max(converter.most for converter in found.converters)
        for line, value in zip(self.ends, (0, found.converters[1].most)):
            line.setValue(value)
            line.setPen(pg.mkPen(THEME.color("clay"), width=1, style=Qt.PenStyle.DashLine))
        if high > low:
            end = 1e3 * (first + PERIODS) * pace.block / pace.sample_rate_hz
            self.set_home(1e3 * low / pace.sample_rate_hz, end, -0.06 * most, 1.06 * most)


class BoardPage(Page):
    """The length of half a buffer and the converters are chosen here; clock and core on *Budget*."""

    def __init__(self) -> None:
        super().__init__()
        self.found: BoardRun | None = None
        self.code = CodeChoices()
        self.block = field("samples of half a buffer", width=64)
        self.block.setToolTip("Samples of half a buffer: an interrupt comes for each half")
        self.entry, self.result = (
            field(f"{name} converter", hint=hint, width=84) for name, hint in (("input", USUAL), ("output", "the same"))
        )
        for box in (self.entry, self.result):
            box.setToolTip("Bits, and the code the program takes for zero: 12 (the middle) or 12@0")
        self.block.editingFinished.connect(self._offer_block)
        for box in (self.entry, self.result):
            box.editingFinished.connect(self._offer_converters)
        head = QHBoxLayout()
        head.setSpacing(8)
        for part in (
            label("Half a buffer"), self.block, label("samples, converters"), self.entry, label("to"), self.result,
        ):  # fmt: skip
            head.addWidget(part)
        self.then = Choice()
        self.then.setAccessibleName("filter that takes over")
        self.then.setToolTip(
            "A pinned filter takes over in the middle of the run: where its coefficients change it may click"
        )
        self.then.activated.connect(lambda _: self._offer_change())
        self.fade = field("samples of the change", hint="at once", width=64)
        self.fade.setToolTip("Samples over which both run while one gives way to the other")
        self.fade.editingFinished.connect(self._offer_change)
        more: tuple[QWidget, ...] = (label("then"), self.then, label("over"), self.fade)
        for widget in more:
            head.addWidget(widget)
        head.addStretch(1)
        self.words = label("", "muted", wrap=True)
        self.trouble = label("", "clay", wrap=True)
        self.timeline = Timeline()
        self.codes = CodesPlot()
        self.strokes = Legend()
        self.strokes.show_curves([Curve("input", NOTHING, "muted"), Curve("output", NOTHING, "ochre")])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(head)
        column.addWidget(self.words)
        column.addWidget(self.trouble)
        column.addWidget(self.timeline)
        column.addWidget(self.strokes)
        column.addWidget(self.codes, 1)

    @property
    def plot(self) -> Plot:
        """Codes over time."""
        return self.codes

    def show_scene(self, scene: Scene) -> None:
        """What the board did last, or why it can't do anything."""
        self.code = code = scene.project.code
        for box, text in (
            (self.block, str(scene.project.processor.block)), (self.entry, code.converter_in), (self.result, code.converter_out),
        ):  # fmt: skip
            if not (box.hasFocus() and box.isModified()):
                box.setText(text)
        names = [SAME, *(pin.name for pin in scene.project.pins)]
        if names != [self.then.itemText(k) for k in range(self.then.count())]:
            chosen = self.then.currentText()
            self.then.clear()
            self.then.addItems(names)
            self.then.setCurrentText(chosen if chosen in names else SAME)
            if chosen and chosen not in names:
                self._offer_change()
        self.then.setEnabled(len(names) > 1)
        self.show_run(scene.results.board, scene.trouble("board"))

    def show_run(self, found: BoardRun | None, trouble: str = "") -> None:
        """Another run."""
        self.found = found
        self.timeline.show_run(None if trouble else found)
        for part in (self.timeline, self.codes, self.strokes):
            part.setVisible(found is not None and not trouble)
        self.trouble.setText(trouble or ("\n".join(_remedies(found)) if found is not None else ""))
        self.trouble.setVisible(bool(self.trouble.text()))
        self.words.setText(_words(found) if found is not None and not trouble else "")
        if found is not None and not trouble:
            self.codes.show_run(found, self.timeline.first)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.codes.dress()
        self.show_run(self.found, "" if self.found is not None else self.trouble.text())

    def _offer_change(self) -> None:
        place = self.then.currentIndex() - 1
        text = self.fade.text().strip()
        if text and not (text.isdigit() and int(text) <= MOST_FADE):
            self.told.emit(f"{text[:40]!r} is no number of samples; take 0 to {MOST_FADE:,}")
            return
        self.asked.emit("board", (place if place >= 0 else None, int(text or 0)))

    def _offer_block(self) -> None:
        try:
            self.block.setModified(False)
            self.edited.emit(edits.choose_block(int(self.block.text())))
        except (ValueError, CombeError):
            self.told.emit(f"{self.block.text()[:40]!r} is no number of samples; take 1 to {MOST_BLOCK:,}")

    def _offer_converters(self) -> None:
        entry, result = self.entry.text().strip(), self.result.text().strip()
        for box in (self.entry, self.result):
            box.setModified(False)
        if (entry, result) == (self.code.converter_in, self.code.converter_out):
            return
        entry = entry or (result and USUAL)
        try:
            made = edits.with_converter(self.code, entry, entry and (result or entry))
        except CombeError as error:
            self.told.emit(error.sentence())
            return
        self.edited.emit(edits.choose_code(made, "converters"))


def _words(found: BoardRun) -> str:
    pace = found.pace
    late = f"{len(found.late)} too late" if found.late else "none too late"
    spare = f"{duration_text(found.slack_s)} left at least"
    if found.slack_s < 0:
        spare = f"by up to {duration_text(-found.slack_s)}"
    return (
        f"{100 * pace.load:.1f} % of {frequency_text(pace.clock_hz)} ({short(pace.cycles_per_sample, 4)} cycles a sample). "
        f"{len(found.schedule.served)} interrupts, {late}, {spare}. "
        f"{found.delay_samples} samples, {duration_text(found.delay_samples / pace.sample_rate_hz)}, from converter to converter."
        + (
            f" Changed at {duration_text(found.click.at / pace.sample_rate_hz)}: {found.click.told()}."
            if found.click
            else ""
        )
    )


def _remedies(found: BoardRun) -> Sequence[str]:
    return [f"{remedy[0].upper()}{remedy[1:]}." for remedy in found.remedies]
