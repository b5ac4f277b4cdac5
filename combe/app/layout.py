"""Where everything stands: chain on top, brief left, plots or code in the middle, the step's own panel right, ledger below."""

from __future__ import annotations

from PyQt6.QtCore import QChildEvent, pyqtSignal
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from combe.app.pages.page import Page
from combe.app.pages.panel import PlotPanel
from combe.app.pages.register import BY_NAME, CODE, placed
from combe.app.settings import Settings
from combe.app.theme.wardrobe import Wardrobe, dress_late
from combe.app.widgets.arithmetic_panel import ArithmeticPanel
from combe.app.widgets.bench_panel import BenchPanel
from combe.app.widgets.brief_panel import BriefPanel
from combe.app.widgets.chain_bar import ChainBar
from combe.app.widgets.code_panel import CodePanel
from combe.app.widgets.code_view import CodeView
from combe.app.widgets.contenders_panel import ContendersPanel
from combe.app.widgets.file_bar import FileBar
from combe.app.widgets.ledger_table import LedgerTable
from combe.app.widgets.parts import Panel
from combe.app.widgets.path_bar import PathBar
from combe.app.widgets.rounded_panel import RoundedPanel
from combe.app.widgets.shelf import Niche, Shelf
from combe.app.widgets.start_panel import StartPanel

BRIEF_WIDTH, SIDE_WIDTH, GAP = 288, 264, 8
LEAST_MIDDLE = 520
"""No page of plots or code may ask for more: what it shows has to give way."""
ORDINARY_ROWS, LEDGER_MARGIN = 5, 6
"""An ordinary brief has five limits; all of them are seen."""


class Layout(QMainWindow):
    """The parts of the window, in their places, dressed."""

    page_made = pyqtSignal(object)

    def __init__(self, settings: Settings) -> None:
        super().__init__()
        self.settings = settings
        self.wardrobe = Wardrobe(self, self._parts)
        self.wardrobe.dress_all()
        self._build()

    def _build(self) -> None:
        self.chain = ChainBar()
        self.path_bar = PathBar()
        self.file_bar = FileBar()
        self.brief = BriefPanel()
        self.plots = PlotPanel()
        self.code_view = CodeView()
        self.start_panel = StartPanel()
        self.left = QStackedWidget()
        self.contenders = ContendersPanel()
        self.rounded = RoundedPanel()
        self.arithmetic = ArithmeticPanel()
        self.code = CodePanel()
        self.bench = BenchPanel()
        self.ledger = LedgerTable()
        self.middle = QStackedWidget()
        self.middle.addWidget(self.plots)
        self.middle.addWidget(self.code_view)
        self.side = QStackedWidget()
        for panel in (self.start_panel, self.contenders, self.rounded, self.arithmetic):
            self.side.addWidget(panel)
        self.left.addWidget(self.brief)
        self.left.addWidget(self.code)
        self.left.addWidget(self.bench)
        upper = QWidget()
        row = QHBoxLayout(upper)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(GAP)
        self.niches = Niche(self.left, BRIEF_WIDTH), Niche(self.side, SIDE_WIDTH)
        row.addWidget(self.niches[0])
        shown = Niche(self.middle)
        shown.setMinimumWidth(LEAST_MIDDLE)
        row.addWidget(shown, 1)
        row.addWidget(self.niches[1])
        lower = Panel()
        lower.column.setContentsMargins(4, 2, 4, LEDGER_MARGIN - 2)
        lower.column.addWidget(self.ledger)
        height = self.settings.ledger_height or self.ledger.height_of(ORDINARY_ROWS) + LEDGER_MARGIN
        self.splitter = Shelf(upper, lower, height, GAP)
        self.splitter.splitterMoved.connect(self._on_splitter)
        center = QWidget()
        column = QVBoxLayout(center)
        column.setContentsMargins(12, 4, 12, 4)
        column.setSpacing(GAP)
        column.addWidget(self.file_bar)
        above = QVBoxLayout()
        above.setSpacing(2)
        above.addWidget(self.path_bar)
        above.addWidget(self.chain)
        column.addLayout(above)
        column.addWidget(self.splitter, 1)
        self.setCentralWidget(center)
        bar = self.statusBar()
        if bar is not None:
            bar.setSizeGripEnabled(False)

    def _parts(self) -> list[QWidget]:
        """What wears a style sheet."""
        found = [
            self.chain, self.file_bar, self.middle, self.left, self.side, self.splitter.widget(1), self.splitter.handle(1),
            self.menuBar(), self.statusBar(),
        ]  # fmt: skip
        return [part for part in found if part is not None]

    def childEvent(self, event: QChildEvent | None) -> None:
        """A dialog wears what the window wears."""
        super().childEvent(event)
        if event is not None and event.polished() and isinstance(event.child(), QDialog):
            dress_late(event.child())

    @property
    def bench_page(self) -> Page:
        """The bench's plots, made when they are first looked at."""
        if self.middle.count() < 3:
            page = BY_NAME["bench"].make()
            self.page_made.emit(page)
            self.middle.addWidget(page)
        shown = self.middle.widget(2)
        assert isinstance(shown, Page)
        return shown

    def unmade(self, kind: str) -> list[str]:
        """Pages that haven't been looked at, of code those of its kind, in the order in which they stand."""
        plots = [name for name in self.plots.buttons if name not in self.plots.pages]
        bench = ["bench"] if self.middle.count() < 3 else []
        code = [entry.name for entry in placed(CODE) if entry.is_for(kind) and entry.name not in self.code_view.made]
        return [*plots, *bench, *code]

    def make_page(self, name: str) -> None:
        """One of these."""
        if name == "bench":
            _ = self.bench_page
        else:
            (self.plots if name in self.plots.buttons else self.code_view).page(name)

    def show_plots_only(self) -> None:
        """Hide everything around the plots."""
        for part in (
            self.path_bar,
            self.chain,
            *self.niches,
            self.splitter.widget(1),
            self.menuBar(),
            self.statusBar(),
        ):
            if part is not None:
                part.hide()

    def tell(self, sentence: str) -> None:
        """A remark in the status line."""
        bar = self.statusBar()
        if bar is not None:
            bar.showMessage(sentence, 8000)

    def _on_splitter(self, *_: int) -> None:
        self.settings.ledger_height = self.splitter.sizes()[1]
