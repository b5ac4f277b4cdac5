"""The coefficient width: what every width leaves of the margins."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from PyQt6.QtCore import QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QSpinBox, QWidget

from combe.analysis.exact import exact_filter
from combe.analysis.fact import Fact
from combe.app.theme.marks import draw_verdict
from combe.app.theme.palette import BODY, SMALL, THEME, font
from combe.app.widgets.facts_list import FactsList
from combe.app.widgets.parts import Panel, Scroller, label, set_role
from combe.filters import Fir, rational_of
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Realization, TapSum
from combe.realization.words import coefficient_words
from combe.rounding.choices import FEWEST_BITS, MOST_BITS

if TYPE_CHECKING:
    from combe.project.chain import Rounded

ROW = 22


class WidthChart(QWidget):
    """A row a width: its least margin as a figure and a bar. A click takes it."""

    picked = pyqtSignal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.rows: Sequence[tuple[int, float]] = []
        self.chosen = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName("margin at every coefficient width")

    def show_rows(self, rows: Sequence[tuple[int, float]], chosen: int) -> None:
        """Other margins."""
        self.rows, self.chosen = rows, chosen
        self.setMinimumHeight(ROW * len(rows))
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        """All rows."""
        return QSize(180, ROW * len(self.rows))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Take a width."""
        if event is not None:
            index = int(event.position().y()) // ROW
            if 0 <= index < len(self.rows):
                self.picked.emit(self.rows[index][0])

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and down."""
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key())) if event is not None else None
        bits = [width for width, _ in self.rows]
        if step is None or self.chosen not in bits:
            super().keyPressEvent(event)
            return
        self.picked.emit(bits[min(max(bits.index(self.chosen) + step, 0), len(bits) - 1)])

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Every row."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        best = max((margin for _, margin in self.rows), default=1.0)
        align = Qt.AlignmentFlag.AlignVCenter
        for index, (bits, margin) in enumerate(self.rows):
            box = QRectF(0, index * ROW, self.width(), ROW)
            if bits == self.chosen:
                painter.setPen(THEME.color("river"))
                painter.setBrush(THEME.color("shade"))
                painter.drawRoundedRect(box.adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)
            kept = margin >= 0
            draw_verdict(painter, "kept" if kept else "missed", QRectF(8, box.center().y() - 5, 10, 10))
            painter.setFont(font(BODY))
            painter.setPen(THEME.color("ink"))
            painter.drawText(box.adjusted(26, 0, 0, 0), align | Qt.AlignmentFlag.AlignLeft, f"{bits} bits")
            share = max(min(margin / best, 1.0), 0.0) if best > 0 else 0.0
            painter.fillRect(
                QRectF(82, box.center().y() - 2, (self.width() - 168) * share, 4), THEME.color("moss", 150)
            )
            painter.setFont(font(SMALL))
            painter.setPen(THEME.color("moss" if kept else "clay"))
            words = f"{'+' if kept else '−'}{abs(margin):.3f} dB"
            painter.drawText(box.adjusted(0, 0, -8, 0), align | Qt.AlignmentFlag.AlignRight, words)


class RoundedPanel(Panel):
    """``bits_picked`` carries a width."""

    bits_picked = pyqtSignal(int)
    better_wanted = pyqtSignal(bool)
    chart_wanted = pyqtSignal()
    trade_wanted = pyqtSignal()
    remedy_wanted = pyqtSignal(object, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.column.addWidget(label("Rounded coefficients", "title"))
        row = QHBoxLayout()
        row.addWidget(label("Width"))
        self.bits = QSpinBox()
        self.bits.setRange(FEWEST_BITS, MOST_BITS)
        self.bits.setSuffix(" bits")
        self.bits.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.bits.setAccessibleName("coefficient bits")
        self.bits.setKeyboardTracking(False)
        self.bits.valueChanged.connect(self._on_bits)
        row.addWidget(self.bits, 1)
        self.column.addLayout(row)
        self.fewest = QPushButton("Take the fewest that hold")
        self.fewest.clicked.connect(self._on_fewest)
        self.column.addWidget(self.fewest)
        self.better = QPushButton("Search for better integers")
        self.better.setCheckable(True)
        self.better.setToolTip("Round each tap the way that keeps most of the margin: the same width holds more")
        self.better.clicked.connect(self.better_wanted)
        self.column.addWidget(self.better)
        self.facts = label("", "muted", wrap=True)
        self.column.addWidget(self.facts)
        self.scroller = Scroller()
        self.column.addWidget(self.scroller, 1)
        column = self.scroller.column
        self.dangers = FactsList()
        self.dangers.remedy_wanted.connect(self.remedy_wanted)
        column.addWidget(self.dangers)
        self.compare = QPushButton("Compare structures and widths")
        self.compare.setObjectName("quiet")
        self.compare.setToolTip("Margin and noise of every structure at every width, as a chart")
        self.compare.clicked.connect(self.chart_wanted)
        column.addWidget(self.compare)
        self.trade = QPushButton("Trade taps against bits")
        self.trade.setObjectName("quiet")
        self.trade.setToolTip("Which orders hold at which widths, as a map")
        self.trade.clicked.connect(self.trade_wanted)
        column.addWidget(self.trade)
        column.addWidget(label("Least margin at every width", "strong"))
        self.chart = WidthChart()
        self.chart.picked.connect(self.bits_picked)
        column.addWidget(self.chart)

    def show_bits(self, bits: int) -> None:
        """The width chosen."""
        self.bits.blockSignals(True)
        self.bits.setValue(bits)
        self.bits.blockSignals(False)
        self.show_rows(self.chart.rows)

    def show_better(self, is_on: bool, is_possible: bool) -> None:
        """Whether integers are searched for, and whether that can be done for this filter."""
        self.better.setChecked(is_on)
        self.better.setText("Better integers are taken ✓" if is_on else "Search for better integers")
        self.better.setEnabled(is_possible)

    def show_rows(self, rows: Sequence[tuple[int, float]]) -> None:
        """What each width leaves."""
        self.chart.show_rows(rows, self.bits.value())
        QTimer.singleShot(0, self._to_chosen)
        self.fewest.setEnabled(self._fewest() is not None)

    def show_rounded(self, rounded: Rounded | None, sentence: str = "") -> None:
        """What the chosen width makes of the coefficients, or why it can't."""
        set_role(self.facts, "clay" if rounded is None and sentence else "muted")
        self.facts.setText(sentence if rounded is None else facts_of(rounded.realization))

    def show_told(self, told: Sequence[Fact]) -> None:
        """Where rounding moved the roots, what matters most, what went wrong and how to mend it."""
        self.dangers.show_facts(told)

    def showEvent(self, event: QShowEvent | None) -> None:
        """The page is opened."""
        super().showEvent(event)
        QTimer.singleShot(0, self._to_chosen)

    def _to_chosen(self) -> None:
        """Bring the chosen width into sight, once the rows have their places."""
        if any(fact.severity != "note" for fact in self.dangers.shown):
            return  # dangers stand above the rows and must not be scrolled away
        at = next((k for k, (bits, _) in enumerate(self.chart.rows) if bits == self.bits.value()), None)
        if at is not None:
            self.scroller.ensureVisible(0, self.chart.y() + int((at + 0.5) * ROW), 0, 2 * ROW)

    def _fewest(self) -> int | None:
        return next((bits for bits, margin in self.chart.rows if margin >= 0), None)

    def _on_fewest(self) -> None:
        bits = self._fewest()
        if bits is not None:
            self.bits_picked.emit(bits)

    def _on_bits(self, bits: int) -> None:
        self.bits_picked.emit(bits)


def facts_of(realization: Realization) -> str:
    """The coefficients' format and extremes in a sentence."""
    stage = realization.stages[0]
    exact = exact_filter(realization)
    if realization.is_recursive and not isinstance(exact, Fir):
        count = sum(1 for other in realization.stages if isinstance(other, (Section, Network)))
        poles = rational_of(exact).poles
        outermost = max(abs(pole) for pole in poles) if len(poles) else 0.0
        return (
            f"{count} {'stage' if count == 1 else 'stages'}, {realization.structure}; the outermost pole lies at {outermost:.6f} as rounded. "
            f"Formats: {coefficient_words(realization.stages)}."
        )
    if not isinstance(stage, TapSum):
        return ""
    largest = max(stage.coefficients, key=abs)
    zeros = sum(1 for value in stage.coefficients if value == 0)
    lost = f"; {zeros} are zero" if zeros else ""
    return f"{stage.coefficient}: one step is 2^{-stage.coefficient.fraction}. The largest of {len(stage.coefficients)} is {largest}{lost}."
