"""The middle of the window: tabs of plots, their mode, a legend."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QSplitter, QStackedWidget, QToolButton, QWidget

from combe.app.plots.axes import Plot
from combe.app.plots.magnitude import Curve, MagnitudePlot
from combe.app.plots.noise import NoisePage
from combe.app.plots.others import MODES, SidePlot
from combe.app.plots.roots_page import RootsPage
from combe.app.plots.widths import LOOKS, WidthsPage
from combe.app.theme.palette import SMALL, THEME, font
from combe.app.widgets.parts import Choice, Panel
from combe.app.widgets.text_pages import FormulaPage, MeasuresPage, NumbersPage
from combe.arithmetic.stages import Realization
from combe.filters import Fir
from combe.filters.writing import FORMS
from combe.ledger import Line
from combe.requirement import Requirement
from combe.signals.listening import SIGNALS

NOTHING = Fir((1.0,))
PLOTS = ("phase", "delay", "time", "level")
TABS = ("magnitude", *PLOTS, "roots", "formula", "numbers", "measures", "noise", "widths")
TITLES = {name: name.capitalize() for name in TABS}
PAGE_MODES = {
    "magnitude": ("decibels", "gain"), "formula": FORMS, "measures": ("copy as", "text", "csv", "markdown"),
    "numbers": ("copy as", "text", "csv", "markdown"), "roots": (), "noise": SIGNALS,
    "widths": (),
}  # fmt: skip
BELOW = ("loupe alone", "phase below", "delay below", "level below")


class Legend(QWidget):
    """A stroke and a name for every curve."""

    def __init__(self) -> None:
        super().__init__()
        self.curves: list[Curve] = []
        self.setFixedHeight(20)

    def show_curves(self, curves: list[Curve]) -> None:
        """Other curves."""
        self.curves = curves
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        """As wide as all names."""
        metrics = self.fontMetrics()
        return QSize(sum(metrics.horizontalAdvance(curve.name) + 38 for curve in self.curves), 20)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """From right to left."""
        painter = QPainter(self)
        painter.setFont(font(SMALL))
        x = float(self.width())
        for curve in reversed(self.curves):
            width = painter.fontMetrics().horizontalAdvance(curve.name)
            x -= width
            painter.setPen(THEME.color("ink"))
            painter.drawText(QRectF(x, 0, width + 1, 20), Qt.AlignmentFlag.AlignVCenter, curve.name)
            style = Qt.PenStyle.DashLine if curve.dashed else Qt.PenStyle.SolidLine
            painter.setPen(QPen(THEME.color(curve.role), 2, style))
            painter.drawLine(int(x) - 22, 10, int(x) - 6, 10)
            x -= 36


class PlotPanel(Panel):
    """Shows a requirement, curves, lines and measured dots in whichever tab is open."""

    edge_moved = pyqtSignal(int, str, float)
    level_moved = pyqtSignal(int, str, float)
    released = pyqtSignal()
    roots_edited = pyqtSignal(object, str, str)
    told = pyqtSignal(str)
    typing_wanted = pyqtSignal(int, str)
    tab_opened = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.magnitude = MagnitudePlot()
        self.others = {kind: SidePlot(kind) for kind in PLOTS}
        self.second = {kind: SidePlot(kind) for kind in ("phase", "delay", "level")}
        self.roots = RootsPage()
        self.formula = FormulaPage()
        self.numbers = NumbersPage()
        self.measures = MeasuresPage()
        self.noise = NoisePage()
        self.widths = WidthsPage()
        self.realization: Realization | None = None
        self.is_unlocked = False
        self.roots.edited.connect(self.roots_edited)
        self.roots.released.connect(self.released)
        self.magnitude.edge_moved.connect(self.edge_moved)
        self.magnitude.level_moved.connect(self.level_moved)
        self.magnitude.released.connect(self.released)
        self.magnitude.typing_wanted.connect(self.typing_wanted)
        self.column.setContentsMargins(12, 8, 8, 8)
        self.column.setSpacing(4)
        head = QHBoxLayout()
        head.setSpacing(0)
        self.group = QButtonGroup(self)
        self.buttons: dict[str, QToolButton] = {}
        for name in TABS:
            button = QToolButton()
            button.setObjectName("tab")
            button.setText(TITLES[name])
            button.setCheckable(True)
            button.clicked.connect(partial(self.open_tab, name))
            self.group.addButton(button)
            self.buttons[name] = button
            head.addWidget(button)
        head.addStretch(1)
        self.mode = Choice()
        self.mode.setAccessibleName("way of looking")
        self.mode.activated.connect(self._on_mode)
        self.below = Choice()
        self.below.setAccessibleName("second view")
        self.below.addItems(BELOW)
        self.below.setToolTip("A second view on the same frequency axis")
        self.below.activated.connect(lambda _: self.show_below(self.below.currentText()))
        ways = QHBoxLayout()
        ways.setSpacing(8)
        ways.addWidget(self.mode)
        ways.addWidget(self.below)
        ways.addStretch(1)
        self.legend = Legend()
        ways.addWidget(self.legend)
        self.column.addLayout(head)
        self.column.addLayout(ways)
        self.pair = QSplitter(Qt.Orientation.Vertical)
        self.pair.addWidget(self.magnitude)
        for plot in self.second.values():
            plot.setXLink(self.magnitude.main)
            plot.hide()
            self.pair.addWidget(plot)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.pair)
        pages: list[QWidget] = [*self.others.values(), self.roots, self.formula, self.numbers, self.measures,
                                self.noise, self.widths]  # fmt: skip
        for page in pages:
            self.stack.addWidget(page)
        self.column.addWidget(self.stack, 1)
        self.curves: list[Curve] = []
        self.requirement: Requirement | None = None
        self.counted = "hz"
        self.tab = ""
        self.form = FORMS[0]
        self.open_tab("magnitude")

    @property
    def current_plot(self) -> Plot:
        """The plot that's shown."""
        pages = {"roots": self.roots.response, "noise": self.noise.plot, "widths": self.widths.margin}
        return self.others.get(self.tab, pages.get(self.tab, self.magnitude.main))

    @property
    def current_page(self) -> QWidget:
        """The whole of what's shown."""
        return self.stack.currentWidget() or self

    def open_tab(self, name: str, *_: object) -> None:
        """Show another plot."""
        self.tab = name
        self.buttons[name].setChecked(True)
        self.stack.setCurrentIndex(TABS.index(name))
        words = list(PAGE_MODES.get(name, ()) or MODES.get(name, ()))
        self.mode.clear()
        self.mode.addItems(words)
        if name == "magnitude":
            self.mode.setCurrentIndex(int(self.magnitude.linear))
        elif name in self.others:
            self.mode.setCurrentText(self.others[name].mode)
        elif name == "formula":
            self.mode.setCurrentText(self.form)
        self.mode.setVisible(bool(words))
        self.below.setVisible(name == "magnitude")
        if words:
            self.mode.setFixedWidth(max(self.mode.fontMetrics().horizontalAdvance(word) for word in words) + 58)
        elif name == "noise" and self.noise.heard is not None:
            self.mode.setCurrentText(self.noise.heard.signal)
        self.show_legend()
        self._refresh()
        self.tab_opened.emit(name)

    def show_legend(self) -> None:
        """Names for what the open tab draws."""
        if self.tab == "noise":
            strokes = [Curve("predicted", NOTHING, "river", 2.0, True), Curve("measured", NOTHING, "heather")]
        elif self.tab == "widths":
            names = self.widths.structures
            strokes = [Curve(name, NOTHING, LOOKS[k % len(LOOKS)][0]) for k, name in enumerate(names)]
        else:
            strokes = sorted(self.curves, key=lambda curve: curve.name)
        self.legend.show_curves(strokes)

    def show_below(self, words: str) -> None:
        """A second view under the magnitude, on the same frequency axis; or the loupe alone."""
        self.below.setCurrentText(words)
        for kind, plot in self.second.items():
            plot.setVisible(words == f"{kind} below")
        self.magnitude.loupe.setVisible(words == BELOW[0])
        height = max(self.pair.height(), 300)
        shown = [height // 2 if words == f"{kind} below" else 0 for kind in self.second]
        self.pair.setSizes([height - sum(shown), *shown])
        self.magnitude.show_ticks(words != BELOW[0])
        self._refresh()

    def set_log(self, is_log: bool) -> None:
        """A logarithmic frequency axis in every view, or an even one again."""
        self.magnitude.set_log(is_log)
        for plot in (*self.others.values(), *self.second.values()):
            plot.set_log(is_log)

    def show_extra(self, realization: Realization | None, is_unlocked: bool) -> None:
        """What the pages of figures need beside the curves."""
        self.realization, self.is_unlocked = realization, is_unlocked

    def show_requirement(self, requirement: Requirement, counted: str = "hz") -> None:
        """Another requirement."""
        self.requirement, self.counted = requirement, counted
        self.magnitude.show_requirement(requirement, counted)
        if self.tab in self.others:
            self.others[self.tab].show_requirement(requirement, counted)

    def show_curves(self, curves: list[Curve]) -> None:
        """Other filters."""
        self.curves = curves
        self.show_legend()
        self._refresh()

    def _refresh(self) -> None:
        """Only what's on screen is drawn."""
        if self.requirement is None:
            return
        chosen = next((curve.filter for curve in self.curves if curve.name == "ideal"), None)
        if self.tab == "magnitude":
            self.magnitude.show_curves(self.curves)
            for plot in self.second.values():
                if not plot.isHidden():
                    self._show_side(plot)
        elif self.tab in self.others:
            self._show_side(self.others[self.tab])
        elif self.tab == "roots":
            self.roots.show(self.requirement, self.curves, self.is_unlocked, self.counted)
        elif self.tab == "formula":
            self.formula.show_filter(chosen, self.form)
        elif self.tab == "numbers":
            self.numbers.show_numbers(chosen, self.realization)
        elif self.tab == "noise":
            self.noise.show_requirement(self.requirement, self.counted)
        elif self.tab == "measures":
            named = [(curve.name, curve.filter) for curve in sorted(self.curves, key=lambda c: (c.is_pin, c.name))]
            self.measures.show_filters(named, self.requirement.sample_rate_hz)

    def _show_side(self, plot: SidePlot) -> None:
        assert self.requirement is not None
        plot.reference = next((curve for curve in self.curves if curve.is_pin), None)
        plot.show_requirement(self.requirement, self.counted)
        plot.show_curves(self.curves)

    def show_lines(self, lines: tuple[Line, ...], close: set[int], measured: tuple[Line, ...]) -> None:
        """Marks at worst points, dots where tones were measured."""
        self.magnitude.show_lines(lines, close)
        self.magnitude.show_measured(measured)

    def point_at(self, line: Line) -> None:
        """Bring a ledger line's worst point into view."""
        if line.at_hz is not None:
            self.open_tab("magnitude")
            self.magnitude.point_at(line)

    def go_home(self) -> None:
        """Show everything again."""
        if self.tab == "magnitude":
            self.magnitude.go_home()
        elif self.tab in self.others:
            self.others[self.tab].go_home()
        elif self.tab == "roots":
            self.roots.plane.go_home()
        elif self.tab == "noise":
            self.noise.plot.go_home()
        elif self.tab == "widths":
            self.widths.margin.go_home()
            self.widths.noise.go_home()

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.magnitude.dress()
        for plot in (*self.others.values(), *self.second.values()):
            plot.dress()
        self.roots.dress()
        self.noise.dress()
        self.widths.dress()
        self.legend.update()

    def _on_mode(self, index: int) -> None:
        if self.tab == "magnitude":
            self.magnitude.set_linear(index == 1)
        elif self.tab == "formula":
            self.form = self.mode.itemText(index)
            self._refresh()
        elif self.tab in ("numbers", "measures"):
            if index:
                page = self.numbers if self.tab == "numbers" else self.measures
                page.copy(self.mode.itemText(index))
                self.told.emit(f"the table is on the clipboard as {self.mode.itemText(index)}")
                self.mode.setCurrentIndex(0)
        elif self.tab == "noise":
            self.noise.signal_picked.emit(self.mode.itemText(index))
        elif self.tab in self.others:
            self.others[self.tab].set_mode(self.mode.itemText(index))
