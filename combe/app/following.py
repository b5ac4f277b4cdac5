"""What the session tells is shown: results by the parts that show them, words and figures after the pictures."""

from __future__ import annotations

from time import perf_counter
from typing import TYPE_CHECKING

from PyQt6.QtCore import QCoreApplication, QEvent, Qt, QTimer
from PyQt6.QtWidgets import QWidget

from combe.analysis.fact import Fact
from combe.app.actions import Actions
from combe.app.layout import Layout
from combe.app.pages.page import Scene
from combe.app.pages.register import BY_NAME, Entry
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.shown import curves_of, ledger_of, lines_at
from combe.app.states import states
from combe.app.widgets.facts_list import told_of
from combe.app.widgets.parts import verdict_of
from combe.app.widgets.rate_row import stages_words
from combe.designing.methods import plan_shown
from combe.errors import CombeError
from combe.filters import Fir
from combe.ledger import Line
from combe.project.document import Project
from combe.realization.cic import Cic

if TYPE_CHECKING:
    from combe.project.chain import Ideal

READING_S, AFTER_PICTURE_MS, RESTING_MS = 0.15, 6, 80
"""Under the hand figures change no faster than they can be read."""
PICTURE = QEvent.Type(QEvent.registerEventType())
"""Asks for the plots of what a hand has moved."""
FIRST: int = Qt.EventPriority.HighEventPriority.value  # type: ignore[assignment]
FIGURES_OF = ("ideal", "rounded", "measured", "asked", "proof", "package")
"""Results whose figures stand in the ledger and in the chain."""


class Following(Layout):
    """The parts follow the session."""

    actions_table: Actions

    def __init__(self, session: Session, settings: Settings) -> None:
        super().__init__(settings)
        self.session = session
        self.step = "ideal"
        self._lines: tuple[Line, ...] = ()
        self._close: frozenset[int] = frozenset()
        self._dots: tuple[Line, ...] = ()
        self._figures_at = 0.0
        self._is_behind = False
        self._lined: Ideal | None = None
        self._unshown: set[str] = set()
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._show_figures)
        self._paint_figures = QTimer(self)
        self._paint_figures.setSingleShot(True)
        self._paint_figures.timeout.connect(self._paint_now)
        self._paint_anyway = QTimer(self)
        self._paint_anyway.setSingleShot(True)
        self._paint_anyway.timeout.connect(self._catch_up)
        session.lanes["chain"].finished.connect(self._on_chain_done)
        self._shows = {
            "ideal": self._show_ideal, "rounded": self._show_rounded, "certified": self._show_figures,
            "contenders": self._show_contenders, "relaxations": self._show_contenders,
            "prices": lambda: self.brief.show_prices(session.results.prices, self._order_word()),
            "widths": lambda: self.rounded.show_rows(session.results.widths),
            "facts": lambda: self.arithmetic.show_told(session.results.facts),
            "rounding_facts": lambda: self.rounded.show_told(session.results.rounding_facts),
            "package": self._show_code, "proof": self._show_code,
        }  # fmt: skip

    @property
    def entry(self) -> Entry | None:
        """The page that is looked at; None for a file of the code step."""
        if self.step == "bench":
            return BY_NAME["bench"]
        name = self.code_view.open_name if self.step == "code" else self.plots.tab
        return BY_NAME.get(name)

    def _show_project(self, project: Project) -> None:
        if self.session.is_dragging:
            return  # shown together with the filter that follows, see ``_catch_up``
        counted = self.settings.counted
        self.brief.show_requirement(project.requirement, counted, plan_shown(project.design))
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
        self._show_states_unless_draft()
        self._show_curves()
        self._show_path()
        self._show_title()
        self.actions_table.refresh()

    def _show_path(self) -> None:
        """The filters of the project and how each stands."""
        session = self.session
        self.path_bar.show_path(session.project, [session.standings.of(member) for member in session.project.members])

    def _catch_up(self) -> bool:
        """Show what the hand has moved, and whatever has followed so far: all of it painted once. Whether there was any."""
        if not self._is_behind:
            return False
        self._is_behind = False
        self._paint_anyway.stop()
        self._show_curves()
        # Before anything else that waits, but not in the same stretch of work as the filter itself.
        QCoreApplication.postEvent(self, QEvent(PICTURE), FIRST)
        return True

    def _paint_picture(self) -> None:
        """The plots first; the brief's figures, whose rows have to be laid out before anything is painted, come after."""
        self.plots.paint_now()
        now = self.session.project
        self.brief.show_requirement(now.requirement, self.settings.counted, plan_shown(now.design))

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
        has_caught_up = name == "rounded" and self._catch_up()
        if is_shown and not has_caught_up and not (name == "ideal" and self.session.is_dragging):
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
            self._show_states_unless_draft()

    def _on_chain_done(self) -> None:
        """Whatever the ledger says of what is shown is worked out."""
        self._lined = self.session.results.ideal
        self._plan_figures()

    @property
    def _has_lines(self) -> bool:
        """Whether the lines of what is shown are known, or quick to have. Those of a draft of a recursive filter take longer than the
        window may: they are worked out where it was made, before the work ends."""
        ideal = self.session.results.ideal
        return ideal is None or not ideal.is_draft or isinstance(ideal.design.filter, Fir) or ideal is self._lined

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
            made = rounded.realization
            has_sums = any(isinstance(stage, Cic) and stage.down > 1 for stage in made.stages)
            self.arithmetic.show_kind(made.is_recursive, has_sums, made.changes_rate)
            self.code.show_kind(rounded.realization.is_recursive)

    def _plan_figures(self) -> None:
        """Figures follow what they tell; those under the hand a few times a second, each time after the picture."""
        if not self._has_lines:
            self._later.stop()
        elif not self.session.is_dragging:
            self._later.start(0)
        elif perf_counter() - self._figures_at > READING_S:
            self._later.start(AFTER_PICTURE_MS)
        else:
            self._later.start(RESTING_MS)

    def _show_figures(self) -> None:
        """Everything written in words and figures."""
        if not self._has_lines:
            return
        self._figures_at = perf_counter()
        if self.session.is_dragging:
            # Painted in a turn of their own, below: the hand's next move, which goes first, isn't to wait for them.
            for part in self._figured():
                part.setUpdatesEnabled(False)
        while self._unshown:
            show = self._shows.get(self._unshown.pop())
            if show is not None and show != self._show_figures:
                show()
        self._show_lines()
        self._show_ledger()
        self._show_states()
        self._paint_figures.start(0)

    def _figured(self) -> tuple[QWidget, ...]:
        """What holds figures that follow the hand, and nothing else that does."""
        return self.ledger, self.chain

    def _paint_now(self) -> None:
        for part in self._figured():
            part.setUpdatesEnabled(True)
        QCoreApplication.sendPostedEvents(self, QEvent.Type.UpdateRequest.value)

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

    def _show_states_unless_draft(self) -> None:
        """Of a draft the design proper, which is on its way, says how it stands."""
        ideal = self.session.results.ideal
        if ideal is None or not ideal.is_draft:
            self._show_states()

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
            self.brief.show_lines(session.results.ideal.lines, stages_words(session.results.ideal.design))

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
