"""The window: puts widgets where they belong and passes values between them and the session."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QEvent, QSize
from PyQt6.QtGui import QCloseEvent
from PyQt6.QtWidgets import QApplication, QMainWindow

from combe.app.actions import Actions
from combe.app.collector import Collector
from combe.app.dialogs import Dialogs
from combe.app.filter_actions import FilterActions
from combe.app.following import PICTURE, Following
from combe.app.gestures import Gestures
from combe.app.pages.page import Page
from combe.app.plots.frame import FRAME
from combe.app.recovery import FileWatch
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.theme.palette import THEME
from combe.app.theme.wardrobe import dress_late
from combe.project import edits
from combe.project.document import STEPS, Project
from combe.project.tree_edits import mend_joint

_closed: list[tuple[QMainWindow, Session]] = []


class MainWindow(Following, Gestures):
    """All parts, joined to the session, to the hand and to each other."""

    def __init__(self, session: Session, settings: Settings | None = None) -> None:
        super().__init__(session, settings or Settings())
        self.collector = Collector(self)
        self.dialogs = Dialogs(self)
        self.filters = FilterActions(self)
        self.watch = FileWatch(session)
        self.actions_table = Actions(self)
        self._connect()
        self.resize(QSize(1280, 800))
        self.plots.open_tab("magnitude")
        self.open_step("ideal")
        self._show_project(session.project)
        self.plots.magnitude.main.setFocus()

    def _connect(self) -> None:
        session = self.session
        session.project_changed.connect(self._show_project)
        session.stepped.connect(self._on_step)
        session.worked.connect(self._on_work)
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
        self.brief.planned.connect(lambda plan: session.edit(edits.take_plan(plan)))
        for panel in (self.plots, self.code_view):
            panel.page_made.connect(self._take_in)
        self.page_made.connect(self._take_in)
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
            self.session.synthesize(bool(detail))
        elif what == "capture":
            self.session.capture(*detail if isinstance(detail, tuple) else ())
        elif what == "together":
            self.session.put_together(str(detail))
        elif what == "listen":
            self.session.listen(str(detail))
        elif what == "board" and isinstance(detail, tuple):
            self.session.change_on_board(*detail)
        elif what == "step":
            self.session.return_to(int(str(detail)))
        elif what == "type" and isinstance(detail, tuple):
            self._on_typing_wanted(*detail)

    def _on_opened(self) -> None:
        self._want()
        self._show_curves()

    def _want(self) -> None:
        entry = self.entry
        self.session.want(entry.wants if entry is not None else "colored")

    # -- steps and views -------------------------------------------------------------------------------------

    def event(self, event: QEvent | None) -> bool:
        """What has changed is painted within a frame's time, the rest in the next."""
        if event is not None and event.type() == QEvent.Type.UpdateRequest:
            with FRAME.open():
                return super().event(event)
        if event is not None and event.type() == PICTURE:
            self._paint_picture()
            return True
        return super().event(event)

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
        self.niches[1].setVisible(not place)
        self.side.setCurrentIndex(min(STEPS.index(name), self.side.count() - 1))
        self.middle.setCurrentIndex(place)
        self._want()
        self._show_curves()
        self._show_lines()

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

    # -- files and the end -----------------------------------------------------------------------------------

    def replace_project(self, project: Project, path: Path | None) -> None:
        """Work on another project."""
        self.session.replace_with(project, path)
        self.plots.go_home()

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
