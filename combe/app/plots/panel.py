"""The middle of the window: tabs of plots, their mode, a legend."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QStackedWidget, QToolButton, QWidget

from combe.app.plots.axes import Plot
from combe.app.plots.magnitude import Curve, MagnitudePlot
from combe.app.plots.others import MODES, SidePlot
from combe.app.theme.palette import SMALL, THEME, font
from combe.app.widgets.parts import Choice, Panel
from combe.ledger import Line
from combe.requirement import Requirement

TABS = ("magnitude", "phase", "delay", "time")
TITLES = {"magnitude": "Magnitude", "phase": "Phase", "delay": "Delay", "time": "Time"}


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

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.magnitude = MagnitudePlot()
        self.others = {kind: SidePlot(kind) for kind in ("phase", "delay", "time")}
        self.magnitude.edge_moved.connect(self.edge_moved)
        self.magnitude.level_moved.connect(self.level_moved)
        self.magnitude.released.connect(self.released)
        self.column.setContentsMargins(12, 8, 8, 8)
        self.column.setSpacing(4)
        head = QHBoxLayout()
        head.setSpacing(16)
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
        self.mode = Choice()
        self.mode.setAccessibleName("way of looking")
        self.mode.activated.connect(self._on_mode)
        head.addWidget(self.mode)
        head.addStretch(1)
        self.legend = Legend()
        head.addWidget(self.legend)
        self.column.addLayout(head)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.magnitude)
        for plot in self.others.values():
            self.stack.addWidget(plot)
        self.column.addWidget(self.stack, 1)
        self.curves: list[Curve] = []
        self.requirement: Requirement | None = None
        self.counted = "hz"
        self.tab = ""
        self.open_tab("magnitude")

    @property
    def current_plot(self) -> Plot:
        """The plot that's shown."""
        return self.magnitude.main if self.tab == "magnitude" else self.others[self.tab]

    def open_tab(self, name: str, *_: object) -> None:
        """Show another plot."""
        self.tab = name
        self.buttons[name].setChecked(True)
        self.stack.setCurrentIndex(TABS.index(name))
        self.mode.clear()
        if name == "magnitude":
            self.mode.addItems(["decibels", "gain"])
            self.mode.setCurrentIndex(int(self.magnitude.linear))
        else:
            self.mode.addItems(list(MODES[name]))
            self.mode.setCurrentText(self.others[name].mode)
        words = [self.mode.itemText(k) for k in range(self.mode.count())]
        self.mode.setFixedWidth(max(self.mode.fontMetrics().horizontalAdvance(word) for word in words) + 58)
        self._refresh()

    def show_requirement(self, requirement: Requirement, counted: str = "hz") -> None:
        """Another requirement."""
        self.requirement, self.counted = requirement, counted
        self.magnitude.show_requirement(requirement, counted)
        if self.tab != "magnitude":
            self.others[self.tab].show_requirement(requirement, counted)

    def show_curves(self, curves: list[Curve]) -> None:
        """Other filters."""
        self.curves = curves
        self.legend.show_curves(sorted(curves, key=lambda curve: curve.name))
        self._refresh()

    def _refresh(self) -> None:
        """Only what's on screen is drawn."""
        if self.requirement is None:
            return
        if self.tab == "magnitude":
            self.magnitude.show_curves(self.curves)
        else:
            self.others[self.tab].show_requirement(self.requirement, self.counted)
            self.others[self.tab].show_curves(self.curves)

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
        else:
            self.others[self.tab].go_home()

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.magnitude.dress()
        for plot in self.others.values():
            plot.dress()
        self.legend.update()

    def _on_mode(self, index: int) -> None:
        if self.tab == "magnitude":
            self.magnitude.set_linear(index == 1)
        else:
            self.others[self.tab].set_mode(self.mode.itemText(index))
