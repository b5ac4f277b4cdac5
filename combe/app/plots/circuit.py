"""Circuits in the window: the data path as a drawing to choose on, cost against rate, an excerpt of waveforms."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from combe.app.plots.axes import Plot
from combe.app.plots.widths import LOOKS
from combe.app.theme.palette import SMALL, THEME, font
from combe.app.widgets.parts import label
from combe.arithmetic.stages import Realization
from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import ARCHITECTURES, HardwareChoices
from combe.delivery.hdl.compare import Compared
from combe.delivery.hdl.diagram import Diagram, diagram_of
from combe.delivery.hdl.page import several
from combe.errors import CombeError
from combe.proof.synthesis import Synthesized
from combe.proof.waves import Wave
from combe.requirement.quantities import frequency_text

HEADS = (
    "Architecture",
    "Clocks",
    "Latency",
    "Highest rate",
    "Multipliers",
    "Adders",
    "Registers",
    "Memory",
    "Measured",
)


class PathView(QWidget):
    """A data path, scaled to the room there is."""

    def __init__(self) -> None:
        super().__init__()
        self.diagram: Diagram | None = None
        self.setMinimumHeight(160)

    def show_diagram(self, diagram: Diagram | None) -> None:
        """Another data path."""
        self.diagram = diagram
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Wires, then what they join."""
        if self.diagram is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        drawing = self.diagram
        unit = min((self.width() - 16) / drawing.width, (self.height() - 16) / drawing.height, 74.0)
        painter.translate((self.width() - unit * drawing.width) / 2, (self.height() - unit * drawing.height) / 2)
        painter.setFont(font(max(int(min(unit * 0.2, SMALL + 1)), 7)))
        for wire in drawing.wires:
            self._wire(painter, [QPointF(x * unit, y * unit) for x, y in wire.points], wire.bits)
        for shape in drawing.shapes:
            area = QRectF(
                (shape.x - shape.width / 2) * unit,
                (shape.y - shape.height / 2) * unit,
                shape.width * unit,
                shape.height * unit,
            )
            painter.setPen(QPen(THEME.color("river"), 1.4))
            painter.setBrush(THEME.color("raised"))
            if shape.kind == "box":
                painter.drawRoundedRect(area, 4, 4)
            elif shape.kind == "circle":
                painter.drawEllipse(area)
            painter.setPen(THEME.color("ink" if shape.kind != "word" else "muted"))
            wide = area.adjusted(-unit * 2, 0, unit * 2, 0) if shape.kind == "word" else area
            painter.drawText(wide, Qt.AlignmentFlag.AlignCenter, shape.text)

    def _wire(self, painter: QPainter, points: list[QPointF], bits: int) -> None:
        painter.setPen(QPen(THEME.color("muted"), 1.2))
        painter.drawPolyline(QPolygonF(points))
        last, before = points[-1], points[-2]
        turn = math.atan2(last.y() - before.y(), last.x() - before.x())
        for side in (2.7, -2.7):
            painter.drawLine(last, QPointF(last.x() + 5 * math.cos(turn + side), last.y() + 5 * math.sin(turn + side)))
        if bits:
            first, second = points[0], points[1]
            middle = QPointF((first.x() + second.x()) / 2, (first.y() + second.y()) / 2)
            painter.setPen(THEME.color("ochre"))
            text = str(bits)
            width = QFontMetricsF(painter.font()).horizontalAdvance(text)
            is_level = abs(first.y() - second.y()) < 1
            place = (
                QPointF(middle.x() - width / 2, middle.y() - 4) if is_level else QPointF(middle.x() + 4, middle.y() + 4)
            )
            painter.drawText(place, text)


class PathPage(QWidget):
    """``picked`` carries the name of an architecture."""

    picked = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        row = QHBoxLayout()
        row.setSpacing(4)
        self.buttons: dict[str, QToolButton] = {}
        for name in ARCHITECTURES:
            button = QToolButton()
            button.setObjectName("tab")
            button.setText(name)
            button.setCheckable(True)
            button.clicked.connect(lambda _, name=name: self.picked.emit(name))
            self.buttons[name] = button
            row.addWidget(button)
        row.addStretch(1)
        self.words = label("", "muted", wrap=True)
        self.view = PathView()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(row)
        column.addWidget(self.words)
        column.addWidget(self.view, 1)

    def show_circuit(self, realization: Realization | None, choices: HardwareChoices) -> None:
        """The data path of the architecture in force."""
        self.view.show_diagram(None)
        if realization is None:
            return
        try:
            built = build_circuit(realization, "filter_drawn", choices)
        except CombeError as error:
            self.words.setText(error.sentence())
            return
        for name, button in self.buttons.items():
            button.setChecked(name == built.architecture)
        count = built.count
        self.words.setText(
            f"{built.architecture}{'' if choices.architecture else ', chosen by itself'}: latency {built.latency} clocks, "
            f"{several(built.clocks, 'clock')} a sample; {several(count.multipliers, 'multiplier')}, {several(count.adders, 'adder')}, "
            f"{count.registers} register bits, {count.memory_bits} bits of memory. Figures on wires are bits."
        )
        self.view.show_diagram(diagram_of(realization, built))

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.view.update()


class CostPlot(Plot):
    """Multipliers and register bits against the highest sample rate, one mark an architecture."""

    def __init__(self) -> None:
        super().__init__("multipliers + adders", frequency=False)
        self.plain_unit = "highest sample rate, Hz"
        self.items: list[object] = []
        self.label_axes()

    def show_rows(self, rows: Sequence[Compared], asked_hz: float) -> None:
        """All that can be had; a line at the rate that's asked."""
        for item in self.items:
            self.removeItem(item)
        self.items = []
        possible = [row for row in rows if row.built is not None]
        if not possible:
            return
        xs, ys = [], []
        for row in possible:
            assert row.built is not None
            x, y = math.log10(row.rate_hz), float(row.built.count.multipliers + row.built.count.adders)
            xs.append(x)
            ys.append(y)
            role, symbol = LOOKS[ARCHITECTURES.index(row.architecture) % len(LOOKS)]
            dot = pg.ScatterPlotItem([x], [y], size=11, symbol=symbol, brush=THEME.color(role), pen=None)
            self.addItem(dot, ignoreBounds=True)
            self.items.append(dot)
        self._names(possible, max(ys))
        line = pg.InfiniteLine(
            pos=math.log10(asked_hz), angle=90, pen=pg.mkPen(THEME.color("clay"), style=Qt.PenStyle.DashLine)
        )
        self.addItem(line, ignoreBounds=True)
        self.items.append(line)
        low, high = min([*xs, math.log10(asked_hz)]), max([*xs, math.log10(asked_hz)])
        ticks = [(float(k), frequency_text(10.0**k, 1e12, "hz")) for k in range(math.floor(low), math.ceil(high) + 1)]
        self.plotItem.getAxis("bottom").setTicks([ticks])
        self.set_home(low - 0.4, high + 0.4, 0.0, max(ys) * 1.25 + 1)

    def _names(self, possible: Sequence[Compared], top: float) -> None:
        """Names beside their marks, those at one rate kept apart."""
        taken: dict[float, float] = {}
        middle = sum(math.log10(row.rate_hz) for row in possible) / len(possible)
        for row in sorted(
            possible, key=lambda each: each.built.count.multipliers + each.built.count.adders if each.built else 0
        ):
            assert row.built is not None
            x = round(math.log10(row.rate_hz), 1)
            y = max(float(row.built.count.multipliers + row.built.count.adders), taken.get(x, -top) + 0.13 * top)
            taken[x] = y
            words = pg.TextItem(row.architecture, color=THEME.color("ink"), anchor=(1.12 if x > middle else -0.12, 0.5))
            words.setPos(math.log10(row.rate_hz), y)
            self.addItem(words, ignoreBounds=True)
            self.items.append(words)


class CostPage(QWidget):
    """``wanted`` asks for synthesis of every architecture; ``picked`` carries one."""

    wanted = pyqtSignal()
    picked = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.rows: Sequence[Compared] = []
        self.asked_hz = 1.0
        self.measure = QPushButton("Measure")
        self.measure.setToolTip("Synthesize every architecture (ECP5 and iCE40), and place it where that's possible")
        self.measure.clicked.connect(self.wanted)
        self.words = label("", "muted", wrap=True)
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        head.addWidget(self.measure)
        self.plot = CostPlot()
        self.table = QTableWidget(0, len(HEADS))
        self.table.setHorizontalHeaderLabels(list(HEADS))
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        self.table.setAccessibleName("architectures")
        self.table.cellClicked.connect(lambda row, _: self.picked.emit(self.rows[row].architecture))
        rows_head, columns_head = self.table.verticalHeader(), self.table.horizontalHeader()
        if rows_head is not None and columns_head is not None:
            rows_head.hide()
            rows_head.setDefaultSectionSize(22)
            columns_head.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            columns_head.setStretchLastSection(True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(head)
        column.addWidget(self.plot, 3)
        column.addWidget(self.table, 3)

    def show_rows(
        self, rows: Sequence[Compared], asked_hz: float, clock_hz: float, measured: Mapping[str, Sequence[Synthesized]], running: bool
    ) -> None:  # fmt: skip
        """Architectures at a clock, counted and as far as measured."""
        self.rows, self.asked_hz = rows, asked_hz
        self.measure.setEnabled(not running)
        clock = frequency_text(float(f"{clock_hz:.4g}"), 1e12, "hz")
        self.words.setText(
            f"All architectures at a clock of {clock}; the dashed line is the sample rate that's asked. A click takes one."
        )
        self.plot.show_rows(rows, asked_hz)
        self.table.setRowCount(len(rows))
        for index, row in enumerate(rows):
            cells = [row.architecture]
            if row.built is None:
                cells += ["", "", "", "", "", "", "", row.sentence]
            else:
                count = row.built.count
                told = row.sentence or "; ".join(_short(each) for each in measured.get(row.architecture, []))
                cells += [
                    str(row.built.clocks), str(row.built.latency), frequency_text(float(f"{row.rate_hz:.4g}"), 1e12, "hz"),
                    str(count.multipliers), str(count.adders), str(count.registers), str(count.memory_bits), told,
                ]  # fmt: skip
            for place, word in enumerate(cells):
                item = QTableWidgetItem(word)
                if 0 < place < len(HEADS) - 1:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                if row.built is None or row.sentence:
                    item.setForeground(THEME.color("clay" if place == len(HEADS) - 1 else "muted"))
                item.setToolTip(word if place == len(HEADS) - 1 else "")
                self.table.setItem(index, place, item)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.plot.dress()
        self.plot.show_rows(self.rows, self.asked_hz)


def _short(cost: Synthesized) -> str:
    if cost.failure:
        return f"{cost.device}: {cost.failure}"
    clock = f", {cost.clock_hz / 1e6:.0f} MHz" if cost.clock_hz else f", {cost.remark}" if cost.remark else ""
    return f"{cost.device} {cost.luts} LUT {cost.registers} FF {cost.multipliers} mult{clock}"


class WavesPage(QWidget):
    """Ports over the first clocks."""

    ROW, LEFT = 34, 84

    def __init__(self) -> None:
        super().__init__()
        self.waves: Sequence[Wave] = []
        self.clocks = 40.0
        self.sentence = ""
        self.setMinimumHeight(120)

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
