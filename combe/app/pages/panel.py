"""The middle of the window: the plots of the register as tabs, their ways of looking, a legend."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QStackedWidget, QToolButton, QWidget

from combe.app.pages.magnitude import BELOW, MagnitudePage
from combe.app.pages.page import Page, Scene
from combe.app.pages.register import BY_NAME, PLOTS, placed
from combe.app.plots.axes import Plot
from combe.app.plots.magnitude import MagnitudePlot
from combe.app.widgets.flow import Flow
from combe.app.widgets.legend import Legend
from combe.app.widgets.parts import Choice, Panel
from combe.ledger import Line

CLOSE = -4
"""Tabs may come so close that all of them stand in one line: each has six pixels of its own on both sides."""


class PlotPanel(Panel):
    """Shows a scene in whichever tab is open; a page is made when it is opened for the first time."""

    page_made = pyqtSignal(object)
    tab_opened = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.pages: dict[str, Page] = {}
        self.scene: Scene | None = None
        self.tab = ""
        self.is_log = False
        self._is_log_of: dict[str, bool] = {}
        self.column.setContentsMargins(12, 8, 8, 8)
        self.column.setSpacing(4)
        head = Flow(gap=0, least=CLOSE)
        self.group = QButtonGroup(self)
        self.buttons: dict[str, QToolButton] = {}
        for entry in placed(PLOTS):
            button = QToolButton()
            button.setObjectName("tab")
            button.setText(entry.title)
            button.setCheckable(True)
            button.clicked.connect(partial(self.open_tab, entry.name))
            self.group.addButton(button)
            self.buttons[entry.name] = button
            head.addWidget(button)
        self.mode = Choice()
        self.mode.setAccessibleName("way of looking")
        self.mode.activated.connect(self._on_mode)
        self.ways = QHBoxLayout()
        self.ways.setSpacing(8)
        self.ways.addWidget(self.mode)
        self.legend = Legend()
        self.ways.addWidget(self.legend, 1)
        self.column.addLayout(head)
        self.column.addLayout(self.ways)
        self.stack = QStackedWidget()
        self.column.addWidget(self.stack, 1)

    def page(self, name: str) -> Page:
        """A page by its name, made if it wasn't yet."""
        if name not in self.pages:
            made = BY_NAME[name].make()
            self.pages[name] = made
            self.stack.addWidget(made)
            if made.extra is not None:
                self.ways.insertWidget(1, made.extra)
                made.extra.hide()
            self._is_log_of[name] = False
            self.page_made.emit(made)
        return self.pages[name]

    @property
    def magnitude(self) -> MagnitudePlot:
        """The main picture."""
        page = self.page("magnitude")
        assert isinstance(page, MagnitudePage)
        return page.magnitude

    @property
    def current_page(self) -> Page:
        """What's shown."""
        return self.page(self.tab)

    @property
    def current_plot(self) -> Plot:
        """The plot that's shown, or the magnitude where the tab is none."""
        return self.current_page.plot or self.magnitude.main

    def open_tab(self, name: str, *_: object) -> None:
        """Show another page."""
        page = self.page(name)
        if self.tab:
            extra = self.current_page.extra
            if extra is not None:
                extra.hide()
        self.tab = name
        self.buttons[name].setChecked(True)
        self.stack.setCurrentWidget(page)
        words = list(page.modes())
        self.mode.clear()
        self.mode.addItems(words)
        self.mode.setCurrentText(page.mode)
        self.mode.setVisible(bool(words))
        if page.extra is not None:
            page.extra.show()
        if words:
            self.mode.setFixedWidth(max(self.mode.fontMetrics().horizontalAdvance(word) for word in words) + 58)
        before = self.scene
        self.tab_opened.emit(name)  # whoever has a newer scene shows it now
        if self.scene is before:
            self._show()

    def show_scene(self, scene: Scene) -> None:
        """Another scene; only what's on screen is drawn."""
        self.buttons["stages"].setVisible(scene.requirement.rate is not None or self.tab == "stages")
        self.scene = scene
        self._show()

    def _show(self) -> None:
        if self.scene is None:
            return
        page = self.current_page
        self._show_log()
        page.show_scene(self.scene)
        strokes = page.legend()
        if strokes is None:
            strokes = sorted(self.scene.curves, key=lambda curve: curve.name)
        self.legend.show_curves(strokes)

    def paint_now(self) -> None:
        """Paint what has changed of the open page's plots, before anything around them is laid out."""
        plots = [plot for plot in self.current_page.plots() if plot.isVisible()]
        for plot in plots:
            plot.settle_scene()
        if plots:
            plots[0].repaint_changed()

    def show_below(self, words: str) -> None:
        """A second view under the magnitude, on the same frequency axis; or the loupe alone."""
        assert words in BELOW
        page = self.page("magnitude")
        assert isinstance(page, MagnitudePage)
        page.show_below(words)

    def set_log(self, is_log: bool) -> None:
        """A logarithmic frequency axis in every view, or an even one again."""
        self.is_log = is_log
        self._show_log()

    def _show_log(self) -> None:
        """On the page that can be seen; the others follow when they are."""
        if self._is_log_of.get(self.tab, self.is_log) != self.is_log:
            self._is_log_of[self.tab] = self.is_log
            self.current_page.set_log(self.is_log)

    def point_at(self, line: Line) -> None:
        """Bring a ledger line's worst point into view."""
        if line.at_hz is not None:
            self.open_tab("magnitude")
            self.magnitude.point_at(line)

    def go_home(self) -> None:
        """Show everything again."""
        self.current_page.go_home()

    def dress(self) -> None:
        """Take on the theme's colours."""
        for page in self.pages.values():
            page.dress()
        self.legend.update()

    def _on_mode(self, index: int) -> None:
        page = self.current_page
        page.set_mode(self.mode.itemText(index))
        strokes = page.legend()
        if strokes is not None:
            self.legend.show_curves(strokes)
        if page.mode != self.mode.itemText(index):
            self.mode.setCurrentText(page.mode)
