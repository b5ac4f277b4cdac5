"""What the code costs a processor: share of the clock over taps and over block length, and a table beside."""

from __future__ import annotations

import math
from collections.abc import Sequence

import pyqtgraph as pg
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QVBoxLayout,
)

from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.curve import NOTHING, Curve
from combe.app.plots.points import LOOKS
from combe.app.theme.palette import THEME
from combe.app.widgets.legend import Legend
from combe.app.widgets.parts import Choice, field, label
from combe.app.widgets.quiet_table import Cell, QuietTable
from combe.errors import CombeError
from combe.ledger.cycles import CYCLES_PER_INSTRUCTION
from combe.project.document import Processor
from combe.project.edits import choose_processor
from combe.proof.budget import VARIANTS, BudgetRow
from combe.requirement.quantities import frequency_text, short

HEADS = ("Variant", "Block", "Instructions", "Cycles", "Share", "Highest rate", "Cycles left")


class SharePlot(Plot):
    """Lines of percent over a logarithmic count."""

    def __init__(self, unit: str) -> None:
        super().__init__("% of the clock", frequency=False)
        self.plain_unit = unit
        self.lines: list[pg.PlotDataItem] = []
        self.label_axes()

    def show_rows(self, rows: list[tuple[str, float, float]]) -> None:
        """(variant, count, percent) as one line a variant."""
        for line in self.lines:
            self.take_out(line)
        self.lines = []
        for number, name in enumerate(VARIANTS):
            own = sorted((math.log2(count), share) for variant, count, share in rows if variant == name)
            if not own:
                continue
            color = THEME.color(LOOKS[number][0])
            line = pg.PlotDataItem(
                [x for x, _ in own], [y for _, y in own], pen=pg.mkPen(color, width=1.4), symbol=LOOKS[number][1],
                symbolSize=7, symbolBrush=color, symbolPen=None, antialias=True,
            )  # fmt: skip
            self.lines.append(line)
            self.add(line)
        if rows:
            counts = [math.log2(count) for _, count, _ in rows]
            ticks = sorted({round(x, 6): str(round(2**x)) for x in counts}.items())
            self.axis("bottom").setTicks([ticks])
            top = max(share for _, _, share in rows)
            self.set_home(min(counts) - 0.3, max(counts) + 0.3, 0.0, top * 1.1)


class BudgetPage(Page):
    """Asks for a measurement by ``count``."""

    def __init__(self) -> None:
        super().__init__()
        self.processor = Processor()
        self.rows: Sequence[BudgetRow] = []
        head = QHBoxLayout()
        head.setSpacing(8)
        self.core = Choice()
        self.core.addItems(list(CYCLES_PER_INSTRUCTION))
        self.core.setAccessibleName("processor")
        self.core.activated.connect(lambda _: self._offer())
        self.clock = field("clock in MHz", width=70)
        self.clock.setToolTip("The processor's clock in MHz")
        self.measured = field("measured", hint="typical", width=120)
        self.measured.setToolTip("Cycles an instruction, or what a timer counted in blocks of 256: cycles/samples")
        for box in (self.clock, self.measured):
            box.editingFinished.connect(self._offer)
        self.measure = QPushButton("Measure")
        self.measure.setToolTip("Count instructions on the emulator for this filter and for other numbers of taps")
        self.measure.clicked.connect(lambda _: self.asked.emit("count", None))
        for part in (
            self.core,
            label("at"),
            self.clock,
            label("MHz, cycles an instruction"),
            self.measured,
            self.measure,
        ):
            head.addWidget(part)
        head.addStretch(1)
        self.strokes = Legend()
        self.words = label("", "muted", wrap=True)
        self.by_block, self.by_taps = SharePlot("samples a block"), SharePlot("taps, blocks of 256")
        self.table = QuietTable("budget", HEADS, is_even=True)
        plots = QHBoxLayout()
        plots.addWidget(self.by_block)
        plots.addWidget(self.by_taps)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(head)
        column.addWidget(self.words)
        column.addWidget(self.strokes)
        column.addLayout(plots, 3)
        column.addWidget(self.table, 2)
        self.show_processor(self.processor)
        self.show_budget([], False, "")

    def show_scene(self, scene: Scene) -> None:
        """The processor in force, and what is counted so far."""
        if scene.project.processor != self.processor:
            self.show_processor(scene.project.processor)
        found = scene.results.budget
        sentence = scene.trouble("budget") or found.sentence
        self.show_budget(found.rows, "budget" in scene.results.pending, sentence)

    @property
    def plot(self) -> Plot:
        """Shares by the length of a block."""
        return self.by_block

    def show_processor(self, processor: Processor) -> None:
        """The processor in force."""
        self.processor = processor
        self.core.setCurrentText(processor.core)
        self.clock.setText(f"{processor.clock_hz / 1e6:g}")
        self.measured.setText(processor.measured)

    def show_budget(self, rows: Sequence[BudgetRow], running: bool, sentence: str) -> None:
        """Rows measured so far."""
        self.rows = rows
        self.measure.setEnabled(not running)
        if sentence:
            self.words.setText(sentence)
        elif running:
            self.words.setText(f"Counting instructions on the emulator… {len(rows)} so far")
        elif rows:
            self.words.setText(
                "Instructions are counted on the emulator; cycles are an estimate until a timer's count is typed in."
            )
        else:
            self.words.setText("Measure counts instructions of every variant on an emulated processor.")
        own = [row for row in rows if not row.taps]
        names = [name for name in VARIANTS if any(row.variant == name for row in own)]
        self.strokes.show_curves([Curve(name, NOTHING, LOOKS[VARIANTS.index(name)][0]) for name in names])
        self.by_block.show_rows([(row.variant, row.block, 100 * row.share) for row in own])
        self.by_taps.show_rows(
            [(row.variant, row.taps, 100 * row.share) for row in rows if row.taps and row.block == 256]
        )
        self.by_taps.setVisible(not rows or any(row.taps for row in rows))
        self.table.show_cells([_cells(row) for row in own])

    def dress(self) -> None:
        """Take on the theme's colours."""
        for plot in (self.by_block, self.by_taps):
            plot.dress()
        self.show_budget(self.rows, not self.measure.isEnabled(), "")

    def _offer(self) -> None:
        try:
            edit = choose_processor(self.core.currentText(), float(self.clock.text()) * 1e6, self.measured.text())
        except (ValueError, CombeError):
            self.words.setText(f"{self.clock.text()!r} is not a clock in MHz; type one like 80")
            return
        was_counted = bool(self.rows)
        self.edited.emit(edit)
        if was_counted:
            self.asked.emit("count", None)


def _cells(row: BudgetRow) -> list[Cell]:
    """A line of the table."""
    words = (
        str(row.block), f"{row.instructions:.1f}", f"{row.cycles:.1f}", f"{100 * row.share:.2f} %",
        frequency_text(float(f"{row.highest_rate_hz:.4g}"), 1e12, "hz"), f"{short(row.cycles_left / 1e6, 4)} M/s",
    )  # fmt: skip
    return [Cell(row.variant), *(Cell(word, is_right=True) for word in words)]
