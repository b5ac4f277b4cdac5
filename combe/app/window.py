"""The window: puts widgets where they belong and passes values between them and the session."""

from __future__ import annotations

from pathlib import Path
from time import perf_counter

from PyQt6.QtCore import QChildEvent, QSize, QTimer
from PyQt6.QtGui import QCloseEvent
from PyQt6.QtWidgets import QApplication, QDialog, QHBoxLayout, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from combe.analysis.fact import Fact
from combe.app.actions import Actions
from combe.app.collector import Collector
from combe.app.dialogs import Dialogs
from combe.app.filter_actions import FilterActions
from combe.app.gestures import Gestures
from combe.app.pages.page import Page, Scene
from combe.app.pages.panel import PlotPanel
from combe.app.pages.register import BY_NAME, Entry
from combe.app.recovery import FileWatch
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.shown import curves_of, ledger_of, lines_at
from combe.app.states import states
from combe.app.theme.palette import THEME
from combe.app.theme.wardrobe import Wardrobe, dress_late
from combe.app.widgets.arithmetic_panel import ArithmeticPanel
from combe.app.widgets.bench_panel import BenchPanel
from combe.app.widgets.brief_panel import BriefPanel
from combe.app.widgets.chain_bar import ChainBar
from combe.app.widgets.code_panel import CodePanel
from combe.app.widgets.code_view import CodeView
from combe.app.widgets.contenders_panel import ContendersPanel
from combe.app.widgets.facts_list import told_of
from combe.app.widgets.file_bar import FileBar
from combe.app.widgets.ledger_table import LedgerTable
from combe.app.widgets.parts import Panel, verdict_of
from combe.app.widgets.path_bar import PathBar
from combe.app.widgets.rounded_panel import RoundedPanel
from combe.app.widgets.shelf import Shelf
from combe.app.widgets.start_panel import StartPanel
from combe.errors import CombeError
from combe.filters import Fir
from combe.ledger import Line
from combe.project import edits
from combe.project.document import STEPS, Project
from combe.project.tree_edits import mend_joint

_closed: list[tuple[QMainWindow, Session]] = []
READING_S, AFTER_PICTURE_MS, RESTING_MS = 0.15, 6, 80
"""Under the hand figures change no faster than they can be read."""
FIGURES_OF = ("ideal", "rounded", "measured", "asked", "proof", "package")
"""Results whose figures stand in the ledger and in the chain."""
BRIEF_WIDTH, SIDE_WIDTH, GAP = 288, 264, 8
LEAST_MIDDLE = 520
"""No page of plots or code may ask for more: what it shows has to give way."""
ORDINARY_ROWS, LEDGER_MARGIN = 5, 6
"""An ordinary brief has five limits; all of them are seen."""


class MainWindow(QMainWindow, Gestures):
    """Chain on top, brief left, plots or code in the middle, the step's own panel right, ledger below."""

    def __init__(self, session: Session, settings: Settings | None = None) -> None:
        super().__init__()
        self.session = session
        self.settings = settings or Settings()
        self.step = "ideal"
        self._lines: tuple[Line, ...] = ()
        self._close: frozenset[int] = frozenset()
        self._dots: tuple[Line, ...] = ()
        self.collector = Collector(self)
        self.dialogs = Dialogs(self)
        self.filters = FilterActions(self)
        self._figures_at = 0.0
        self._is_behind = False
        self._unshown: set[str] = set()
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._show_figures)
        self._paint_anyway = QTimer(self)
        self._paint_anyway.setSingleShot(True)
        self._paint_anyway.timeout.connect(self._catch_up)
        self.watch = FileWatch(session)
        self.wardrobe = Wardrobe(self, self._parts)
        self.wardrobe.dress_all()
        self._build()
        self.actions_table = Actions(self)
        self._connect()
        self.resize(QSize(1280, 800))
        self.plots.open_tab("magnitude")
        self.open_step("ideal")
        self._show_project(session.project)
        self.plots.magnitude.main.setFocus()

    # -- building --------------------------------------------------------------------------------------------

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
        self.middle.setMinimumWidth(LEAST_MIDDLE)
        self.left.setFixedWidth(BRIEF_WIDTH)
        self.side.setFixedWidth(SIDE_WIDTH)
        upper = QWidget()
        row = QHBoxLayout(upper)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(GAP)
        row.addWidget(self.left)
        row.addWidget(self.middle, 1)
        row.addWidget(self.side)
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

    def _connect(self) -> None:
        session = self.session
        session.project_changed.connect(self._show_project)
        session.stepped.connect(self._on_step)
        session.worked.connect(self._on_work)
        self._shows = {
            "ideal": self._show_ideal, "rounded": self._show_rounded, "certified": self._show_figures,
            "contenders": self._show_contenders, "relaxations": self._show_contenders,
            "prices": lambda: self.brief.show_prices(session.results.prices, self._order_word()),
            "widths": lambda: self.rounded.show_rows(session.results.widths),
            "facts": lambda: self.arithmetic.show_told(session.results.facts),
            "rounding_facts": lambda: self.rounded.show_told(session.results.rounding_facts),
            "package": self._show_code, "proof": self._show_code,
        }  # fmt: skip
        session.troubled.connect(self._on_trouble)
        session.turned.connect(self.plots.go_home)
        session.path_changed.connect(self._show_path)
        self.path_bar.opened.connect(session.turn_to)
        self.path_bar.mend_wanted.connect(lambda name: session.edit(mend_joint(name)))
        self.path_bar.menu_wanted.connect(self.filters.open_menu)
        session.file_changed.connect(self._show_title)
        session.file_changed.connect(self.file_bar.hide)
        self.watch.changed.connect(self.dialogs.ask_about_file)
        self.watch.shared.connect(self.dialogs.tell_shared)
        self.bench.chosen.connect(lambda setup: session.edit(edits.set_bench(setup)))
        self.bench.complained.connect(self.tell)
        self.file_bar.answered.connect(self.dialogs.answer_file)
        session.told.connect(self.tell)
        self.chain.opened.connect(self.open_step)
        self.brief.asked.connect(lambda asked, what: session.edit(edits.ask(asked, what)))
        self.brief.band_picked.connect(self._on_band_picked)
        for panel in (self.plots, self.code_view):
            panel.page_made.connect(self._take_in)
        for page in self.plots.pages.values():
            self._take_in(page)
        self.plots.tab_opened.connect(lambda _: self._on_opened())
        self.code_view.page_opened.connect(lambda _: self._on_opened())
        self.start_panel.shape_picked.connect(self._on_shape)
        self.start_panel.other_wanted.connect(self._on_other_start)
        self.contenders.picked.connect(lambda choice: session.edit(edits.choose_design(choice)))
        self.contenders.relaxed.connect(lambda *found: session.edit(edits.take_relaxation(*found)))
        self.rounded.bits_picked.connect(lambda bits: session.edit(edits.coefficient_bits(bits)))
        self.rounded.better_wanted.connect(lambda is_on: session.edit(edits.better_integers(is_on)))
        self.arithmetic.edited.connect(session.edit)
        self.arithmetic.remedy_wanted.connect(self.take_remedy)
        self.rounded.remedy_wanted.connect(self.take_remedy)
        self.rounded.chart_wanted.connect(lambda: self.plots.open_tab("widths"))
        self.rounded.trade_wanted.connect(lambda: self.plots.open_tab("trade"))
        self.contenders.holding_wanted.connect(lambda: self.session.edit(edits.hold_with_integers()))
        self.code.edited.connect(session.edit)
        self.code.export_wanted.connect(self.dialogs.export)
        self.code.proof_wanted.connect(session.prove)
        self.ledger.line_picked.connect(self._on_line)

    def _take_in(self, page: Page) -> None:
        """A page was made: what its hand does goes where it belongs."""
        dress_late(page)
        page.edited.connect(self.session.edit)
        page.dragged.connect(self.drag)
        page.released.connect(self.session.end_gesture)
        page.told.connect(self.tell)
        page.asked.connect(self._on_asked)

    def _on_asked(self, what: str, detail: object) -> None:
        """Something a page can't do itself."""
        if what == "count":
            self.session.count()
        elif what == "synthesize":
            self.session.synthesize()
        elif what == "listen":
            self.session.listen(str(detail))
        elif what == "step":
            self.session.return_to(int(str(detail)))
        elif what == "type" and isinstance(detail, tuple):
            self._on_typing_wanted(*detail)

    @property
    def entry(self) -> Entry | None:
        """The page that is looked at; None for a file of the code step."""
        if self.step == "bench":
            return BY_NAME["bench"]
        name = self.code_view.open_name if self.step == "code" else self.plots.tab
        return BY_NAME.get(name)

    def _on_opened(self) -> None:
        self._want()
        self._show_curves()

    def _want(self) -> None:
        entry = self.entry
        self.session.want(entry.wants if entry is not None else "colored")

    # -- steps and views -------------------------------------------------------------------------------------

    def open_step(self, name: str) -> None:
        """Show a step's own page."""
        self.step = name
        self.chain.set_open(name)
        # Choices of code stand on the left, so that its text has all the room to the right.
        place = {"code": 1, "bench": 2}.get(name, 0)
        if name == "bench":
            _ = self.bench_page
            self.bench.show_setup(self.session.project.bench, self.session.project.requirement)
        self.left.setCurrentIndex(place)
        self.side.setVisible(not place)
        self.side.setCurrentIndex(min(STEPS.index(name), self.side.count() - 1))
        self.middle.setCurrentIndex(place)
        self._want()
        self._show_curves()
        self._show_lines()

    @property
    def bench_page(self) -> Page:
        """The bench's plots, made when they are first looked at."""
        if self.middle.count() < 3:
            page = BY_NAME["bench"].make()
            self._take_in(page)
            self.middle.addWidget(page)
        shown = self.middle.widget(2)
        assert isinstance(shown, Page)
        return shown

    def show_plots_only(self) -> None:
        """Hide everything around the plots."""
        for part in (
            self.path_bar,
            self.chain,
            self.left,
            self.side,
            self.splitter.widget(1),
            self.menuBar(),
            self.statusBar(),
        ):
            if part is not None:
                part.hide()

    def dress(self, theme: str) -> None:
        """Another theme."""
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        THEME.use(theme, application)
        self.settings.theme = theme
        self.wardrobe.change()
        for part in (self.path_bar, self.chain, self.plots, self.brief, self.start_panel, self.code):
            part.update()
        self.brief.dress()
        self.start_panel.dress()
        self.code.dress()
        self._show_lines()

    def set_counted(self, counted: str) -> None:
        """Count frequencies in shares of the sample rate, or in Hz."""
        self.settings.counted = counted
        self._show_project(self.session.project)
        self._show_ledger()

    def tell(self, sentence: str) -> None:
        """A remark in the status line."""
        bar = self.statusBar()
        if bar is not None:
            bar.showMessage(sentence, 8000)

    # -- from the session ------------------------------------------------------------------------------------

    def _show_project(self, project: Project) -> None:
        if self.session.is_dragging:
            return  # shown together with the filter that follows, see ``_catch_up``
        counted = self.settings.counted
        self.brief.show_requirement(project.requirement, counted)
        self.rounded.show_bits(project.arithmetic.coefficient_bits)
        source = self.session.results.ideal.design.filter if self.session.results.ideal is not None else None
        self.rounded.show_better(project.arithmetic.better, isinstance(source, Fir) and source.symmetry != 0)
        self.arithmetic.show_choices(project.arithmetic)
        self.code.show_name(project.code_name)
        self.code.show_choices(project.code)
        self.code.show_hardware(project.hardware)
        if self.step == "bench":
            self.bench.show_setup(project.bench, project.requirement)
        self._show_contenders()
        self._show_states()
        self._show_curves()
        self._show_path()
        self._show_title()
        self.actions_table.refresh()

    def _show_path(self) -> None:
        """The filters of the project and how each stands."""
        session = self.session
        self.path_bar.show_path(session.project, [session.standings.of(member) for member in session.project.members])

    def _catch_up(self) -> None:
        """Show what the hand has moved, and whatever has followed so far: all of it painted once."""
        if self._is_behind:
            self._is_behind = False
            self._paint_anyway.stop()
            self.brief.show_requirement(self.session.project.requirement, self.settings.counted)
            self._show_curves()

    def _show_title(self) -> None:
        session = self.session
        place = session.path.name if session.path else "not saved yet"
        self.setWindowTitle(f"{session.project.name}[*] · {place} · Combe")
        self.setWindowModified(session.is_modified)

    def _on_step(self, name: str) -> None:
        """A result is another: what shows it shows it."""
        results = self.session.results
        entry = self.entry
        is_shown = name in entry.shows if entry is not None else name in ("package", "colored")
        if name == "rounded":
            self._catch_up()
        if is_shown and not (name == "ideal" and self.session.is_dragging):
            self._show_curves()
        if name in FIGURES_OF:
            self._plan_figures()
        if self.session.is_dragging:
            self._unshown.add(name)
            return
        self._unshown.discard(name)
        show = self._shows.get(name)
        if show is not None:
            show()
        if name == "proof" and results.proof is not None and "proof" in results.fresh:
            self.tell(results.proof.sentence())
        self._show_title()

    def _on_work(self, name: str) -> None:
        """Work on a result began, came further or ended."""
        entry = self.entry
        if entry is not None and name in entry.shows and name not in ("ideal", "rounded"):
            self._show_curves()
        if name == "proof":
            self._show_code()
        if name in ("proof", "ideal", "bench") and not self.session.is_dragging:
            self._show_states()

    def _show_ideal(self) -> None:
        results = self.session.results
        source = results.ideal.design.filter if results.ideal is not None else None
        is_even = isinstance(source, Fir) and source.symmetry != 0
        self.rounded.show_better(self.session.project.arithmetic.better, is_even)
        self.contenders.clear_trouble()
        self._show_contenders()

    def _show_rounded(self) -> None:
        rounded = self.session.results.rounded
        self.rounded.show_rounded(rounded)
        if rounded is not None:
            self.arithmetic.show_kind(rounded.realization.is_recursive)
            self.code.show_kind(rounded.realization.is_recursive)

    def _plan_figures(self) -> None:
        """Figures follow what they tell; those under the hand a few times a second, each time after the picture."""
        if not self.session.is_dragging:
            self._later.start(0)
        elif perf_counter() - self._figures_at > READING_S:
            self._later.start(AFTER_PICTURE_MS)
        else:
            self._later.start(RESTING_MS)

    def _show_figures(self) -> None:
        """Everything written in words and figures."""
        self._figures_at = perf_counter()
        while self._unshown:
            show = self._shows.get(self._unshown.pop())
            if show is not None and show != self._show_figures:
                show()
        self._show_lines()
        self._show_ledger()
        self._show_states()

    def _on_trouble(self, name: str, error: CombeError | None) -> None:
        sentence = error.sentence() if error is not None else ""
        if name == "ideal":
            if error is not None:
                self.contenders.show_trouble(sentence)
            else:
                self.contenders.clear_trouble()
            self._show_contenders()
        if name == "rounded" and error is not None:
            self.rounded.show_rounded(None, sentence)
            self.arithmetic.show_told(told_of(error))
            self.rounded.show_told([Fact("note", "", fact.remedy) for fact in told_of(error) if fact.remedy])
        if name == "package":
            self.code.show_package(self.session.results.package, sentence)
        entry = self.entry
        if entry is None or name in entry.shows:
            self._show_curves()
        self._catch_up()
        if sentence:
            self.tell(sentence)
        self._show_states()

    def _show_states(self) -> None:
        for name, state in states(self.session).items():
            self.chain.show_state(name, state)

    def _show_contenders(self) -> None:
        session = self.session
        project = session.project
        ideal = (
            None
            if session.results.ideal is None or "ideal" in session.results.troubles
            else session.results.ideal.design
        )
        if ideal is not None and ideal.method != project.design.method:
            ideal = None
        self.contenders.show_design(ideal, project.design, project.requirement, self.settings.counted)
        order = ideal.order if ideal is not None else None
        self.contenders.show_contenders(
            session.results.contenders, project.requirement, project.design, order, session.results.relaxations
        )

    def _order_word(self) -> str:
        ideal = self.session.results.ideal
        return "taps" if ideal is None or ideal.design.kind == "fir" else "orders"

    def _show_curves(self) -> None:
        """Everything the open page shows."""
        scene = Scene(
            self.session.project, self.session.results, tuple(curves_of(self.session.project, self.session.results, self.step)), self._lines, self._close, self._dots,
            self.settings.counted, self.session.folder, self.session.history.steps,
        )  # fmt: skip
        if self.step == "bench":
            self.bench_page.show_scene(scene)
        else:
            (self.code_view if self.step == "code" else self.plots).show_scene(scene)

    def _show_lines(self) -> None:
        session = self.session
        lines = lines_at(session.project, session.results, self.step)
        close = {index for index, line in enumerate(lines) if verdict_of(line) == "close"}
        self._lines, self._close = lines, frozenset(close if self.step != "ideal" else ())
        self._dots = lines if self.step == "arithmetic" else ()
        self._show_curves()
        if session.results.ideal is not None:
            self.brief.show_lines(session.results.ideal.lines)

    def _show_ledger(self) -> None:
        session = self.session
        lines = ledger_of(session.results)
        self.ledger.show_lines(session.project.requirement, lines, self.settings.counted)

    def _show_code(self) -> None:
        session = self.session
        self.code.show_package(session.results.package)
        self.code.show_proof(
            session.results.proof, "proof" in session.results.pending, session.results.progress.get("proof", "")
        )

    # -- files and the end -----------------------------------------------------------------------------------

    def replace_project(self, project: Project, path: Path | None) -> None:
        """Work on another project."""
        self.session.replace_with(project, path)
        self.plots.go_home()

    def _on_splitter(self, *_: int) -> None:
        self.settings.ledger_height = self.splitter.sizes()[1]

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Ask about unsaved work, then stop the background."""
        if event is None:
            return
        if not self.dialogs.may_leave():
            event.ignore()
            return
        self.settings.save()
        self.watch.stop()
        self.session.close()
        # What Qt takes down must not be taken apart again by Python's collector, in an order of its own.
        _closed.append((self, self.session))
        self.collector.set_aside()
        event.accept()
