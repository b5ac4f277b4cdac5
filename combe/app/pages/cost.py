"""Every architecture of a circuit: cost against rate, counted and measured."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import pyqtgraph as pg
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.points import LOOKS
from combe.app.theme.palette import THEME
from combe.app.widgets.parts import label
from combe.app.widgets.quiet_table import Cell, QuietTable
from combe.delivery.hdl.choices import ARCHITECTURES, USUAL_CLOCK_HZ
from combe.delivery.hdl.circuit import Count
from combe.delivery.hdl.compare import Compared
from combe.project.document import hardware_of
from combe.project.edits import choose_architecture
from combe.proof.synthesis import Synthesized
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
    "ECP5",
    "iCE40 UP5K",
)
APART = 0.13
"""From one name to the next, as a share of the highest mark."""
MEASURED = {"ecp5": 8, "ice40-up5k": 9}
"""The columns of what synthesis counts."""


class CostPlot(Plot):
    """Multipliers and register bits against the highest sample rate, one mark an architecture."""

    def __init__(self) -> None:
        super().__init__("multipliers + adders", frequency=False)
        self.plain_unit = "highest sample rate, Hz"
        self.items: list[object] = []
        self._shown: tuple[object, ...] = ()
        self.label_axes()

    def show_rows(self, rows: Sequence[Compared], asked_hz: float) -> None:
        """All that can be had; a line at the rate that's asked."""
        shown = tuple(rows), asked_hz, THEME.name
        if shown == self._shown:
            return
        self._shown = shown
        for item in self.items:
            self.take_out(item)
        self.items = []
        possible = [row for row in rows if row.built is not None]
        if not possible:
            return
        xs, ys = [], []
        for row in possible:
            assert row.built is not None
            xs.append(math.log10(row.rate_hz))
            ys.append(float(row.built.count.multipliers + row.built.count.adders))
        looks = [LOOKS[ARCHITECTURES.index(row.architecture) % len(LOOKS)] for row in possible]
        brushes = [pg.mkBrush(THEME.color(role)) for role, _ in looks]
        dots = pg.ScatterPlotItem(xs, ys, size=11, symbol=[symbol for _, symbol in looks], brush=brushes, pen=None)
        self.add(dots)
        self.items.append(dots)
        self._names(possible, max(ys))
        line = pg.InfiniteLine(
            pos=math.log10(asked_hz), angle=90, pen=pg.mkPen(THEME.color("clay"), style=Qt.PenStyle.DashLine)
        )
        self.add(line)
        self.items.append(line)
        low, high = min([*xs, math.log10(asked_hz)]), max([*xs, math.log10(asked_hz)])
        ticks = [(float(k), frequency_text(10.0**k, 1e12, "hz")) for k in range(math.floor(low), math.ceil(high) + 1)]
        self.axis("bottom").setTicks([ticks])
        self.set_home(low - 0.4, high + 0.4, -0.1 * max(ys), max(ys) * 1.25 + 1)

    def _names(self, possible: Sequence[Compared], top: float) -> None:
        """Names beside their marks and in their colors, those at one rate kept apart."""
        columns: dict[float, list[tuple[float, str]]] = {}
        for row in possible:
            assert row.built is not None
            place = float(row.built.count.multipliers + row.built.count.adders), row.architecture
            columns.setdefault(round(math.log10(row.rate_hz), 1), []).append(place)
        rates = {row.architecture: math.log10(row.rate_hz) for row in possible}
        middle = sum(rates.values()) / len(rates)
        for column in columns.values():
            column.sort()
            for (_, name), y in zip(column, apart([y for y, _ in column], APART * top)):
                role, _ = LOOKS[ARCHITECTURES.index(name) % len(LOOKS)]
                side = 1.12 if rates[name] > middle else -0.12
                words = pg.TextItem(name, color=THEME.color(role), anchor=(side, 0.5))
                words.setPos(rates[name], y)
                self.add(words)
                self.items.append(words)


def apart(wanted: Sequence[float], gap: float) -> list[float]:
    """Places at least a gap apart, each as near as can be to where it is wanted, in ascending order: the least sum of squared
    distances (neighbors that get in each other's way are pooled, Ayer et al. 1955)."""
    pools: list[tuple[float, int]] = []
    for k, each in enumerate(wanted):
        total, count = each - k * gap, 1
        while pools and pools[-1][0] / pools[-1][1] >= total / count:
            before, many = pools.pop()
            total, count = total + before, count + many
        pools.append((total, count))
    steady = [total / count for total, count in pools for _ in range(count)]
    return [place + k * gap for k, place in enumerate(steady)]


RESTING_MS = 1500
"""So long nothing may have changed before tools are run for the page by itself."""


class CostPage(Page):
    """Asks for synthesis by ``synthesize``: by itself of the architecture in force, beside whatever was counted before, and of every one when
    told to; a click on a row takes its architecture."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: Sequence[Compared] = []
        self.asked_hz = 1.0
        self.measure = QPushButton("Measure all")
        self.measure.setToolTip("Synthesize every architecture (ECP5 and iCE40), and place it where that's possible")
        self.measure.clicked.connect(lambda _: self.asked.emit("synthesize", True))
        self.is_wanted = False
        self.rest = QTimer(self)
        self.rest.setSingleShot(True)
        self.rest.setInterval(RESTING_MS)
        self.rest.timeout.connect(lambda: self.asked.emit("synthesize", False))
        self.words = label("", "muted", wrap=True)
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        head.addWidget(self.measure)
        self.chart = CostPlot()
        self.table = QuietTable("architectures", HEADS)
        self.table.cellClicked.connect(
            lambda row, _: self.edited.emit(choose_architecture(self.rows[row].architecture))
        )
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(head)
        column.addWidget(self.chart, 3)
        column.addWidget(self.table, 3)

    def show_scene(self, scene: Scene) -> None:
        """What is counted, and what is measured of it."""
        results, choices = scene.results, hardware_of(scene.project)
        self.show_rows(
            results.compared, scene.requirement.sample_rate_hz, choices.clock_hz or USUAL_CLOCK_HZ, results.synthesized,
            "synthesized" in results.pending,
        )  # fmt: skip
        is_known = "synthesized" in results.fresh or "synthesized" in results.pending
        self.is_wanted = not is_known and "rounded" in results.fresh and any(row.built for row in results.compared)
        self._rest()
        trouble = scene.trouble("synthesized")
        if trouble:
            self.words.setText(trouble)

    def _rest(self) -> None:
        """What isn't known is measured soon, if nothing changes and somebody looks."""
        if not (self.is_wanted and self.isVisible()):
            self.rest.stop()
        elif not self.rest.isActive():
            self.rest.start()

    def showEvent(self, event: QShowEvent | None) -> None:
        """Somebody looks."""
        super().showEvent(event)
        self._rest()

    def hideEvent(self, event: QHideEvent | None) -> None:
        """Nobody does."""
        super().hideEvent(event)
        self.rest.stop()

    @property
    def plot(self) -> Plot:
        """Cost against rate."""
        return self.chart

    def show_rows(
        self, rows: Sequence[Compared], asked_hz: float, clock_hz: float, measured: Mapping[str, Sequence[Synthesized]], running: bool
    ) -> None:  # fmt: skip
        """Architectures at a clock, counted and as far as measured."""
        self.rows, self.asked_hz = rows, asked_hz
        self.measure.setEnabled(not running)
        clock = frequency_text(float(f"{clock_hz:.4g}"), 1e12, "hz")
        self.words.setText(
            f"All architectures at a clock of {clock}; the dashed line is the sample rate that's asked. A click takes one. "
            "The one in force is measured by itself."
        )
        self.chart.show_rows(rows, asked_hz)
        self.table.show_cells([_cells(row, measured.get(row.architecture, ())) for row in rows])

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.chart.dress()
        self.chart.show_rows(self.rows, self.asked_hz)


def _cells(row: Compared, measured: Sequence[Synthesized]) -> list[Cell]:
    """An architecture's line of the table."""
    first = MEASURED["ecp5"]
    name = Cell(row.architecture, "muted" if row.built is None or row.sentence else "ink")
    why = Cell(row.sentence, "clay", row.sentence, span=2)
    if row.built is None:
        return [name, *[Cell("", is_right=True)] * (first - 1), why]
    count = row.built.count
    words = (
        str(row.built.clocks), str(row.built.latency), frequency_text(float(f"{row.rate_hz:.4g}"), 1e12, "hz"),
        _multipliers(count), str(count.adders), str(count.registers), str(count.memory_bits),
    )  # fmt: skip
    counted = [Cell(word, name.role, is_right=True) for word in words]
    if row.sentence:
        return [name, *counted, why]
    found = {each.device: each for each in measured}
    told = [Cell(_short(found[d]), tip=found[d].sentence()) if d in found else Cell("") for d in MEASURED]
    return [name, *counted, *told]


def _multipliers(count: Count) -> str:
    """Multiplications, and the blocks they take where that is more."""
    return (
        f"{count.multipliers} ({count.blocks} blocks)" if count.blocks > count.multipliers else str(count.multipliers)
    )


def _short(cost: Synthesized) -> str:
    if cost.failure:
        return cost.failure
    clock = f", {cost.clock_hz / 1e6:.0f} MHz" if cost.clock_hz else f", {cost.remark}" if cost.remark else ""
    return f"{cost.luts} LUT, {cost.registers} FF{clock}"
