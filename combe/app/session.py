"""The one mutable thing: the current project, its history and file, and what follows from it, as it arrives."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, cast

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from combe.app.jobs import Errand, Job, Lane, Pace
from combe.app.looked_at import job_for, make_ready, work
from combe.app.on_demand import OnDemand
from combe.app.widgets.parts import worst_verdict
from combe.designing.methods import method_named
from combe.errors import CombeError
from combe.filters import Fir
from combe.ledger.words import tightest
from combe.project.edits import Edit, Note
from combe.project.history import History, Value
from combe.project.results import DEPENDS, Failure, News, Progress, Results, affected
from combe.project.standings import Shelf, Standings, is_another

if TYPE_CHECKING:
    from combe.ledger import Line
    from combe.project.chain import Ideal
    from combe.project.document import DesignChoice, Member, Project
    from combe.project.steps_file import StepsKeeper
    from combe.requirement import Requirement

REST_MS = 180
REMEMBERED = 64
DRAFTED = ("ideal", "rounded")
FOLLOWING = (
    "ideal",
    "rounded",
    "way",
    "asked",
    "certified",
    "measured",
    "compared",
    "package",
    "facts",
    "rounding_facts",
)
LOOKED_AT = ("heard", "chart", "trade", "bench", "board", "drawing", "table", "colored", "states")
BESIDE = ("contenders", "prices", "relaxations", "widths")


class Session(OnDemand):
    """Holds the project, asks ``jobs`` for what follows, and hands out results.

    ``turned``: another filter of the project is open; ``path_changed``: the verdict of a filter is another.
    """

    project_changed = pyqtSignal(object)
    file_changed = pyqtSignal()
    turned = pyqtSignal()
    path_changed = pyqtSignal()

    def __init__(self, project: Project, path: Path | None = None, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.history = History(project)
        self._errand = Errand(is_patient=True)
        self._errand.arrived.connect(self._take_steps)
        self.path = path
        self.saved = project
        self.signal = ""
        self.taking_over: tuple[int, int] | None = None
        self._wanted = ""
        self._known: dict[tuple[Requirement, DesignChoice], Ideal] = {}
        self._dragging = False
        self._is_drafting = self._is_draft_due = False
        self._pace = Pace()
        self._is_ready_to_drag = False
        self._shelf = Shelf()
        self.standings = Standings()
        self.lanes["chain"].finished.connect(self._draft_again)
        self._walk = Lane("path", self)
        self._walk.arrived.connect(self._take_standing)
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(REST_MS)
        self._rest.timeout.connect(self._after_rest)

    @cached_property
    def steps_keeper(self) -> StepsKeeper:
        """What writes the steps beside the file."""
        from combe.project.steps_file import StepsKeeper

        return StepsKeeper()

    @property
    def project(self) -> Project:
        """The current value."""
        return self.history.current

    @property
    def folder(self) -> Path | None:
        """Where the project's file lies."""
        return self.path.resolve().parent if self.path is not None else None

    @property
    def is_busy(self) -> bool:
        """Whether anything is still being worked out."""
        return self._rest.isActive() or any(lane.is_busy for lane in (*self.lanes.values(), self._walk))

    @property
    def is_dragging(self) -> bool:
        """Whether the hand still holds an edge or a level."""
        return self._dragging

    @property
    def is_modified(self) -> bool:
        """Whether the file, if any, is behind."""
        return not self.project.is_same_file(self.saved)

    @property
    def changes(self) -> tuple[str, ...]:
        """What was changed, the last change last."""
        return self.history.names

    def start(self) -> None:
        """Work everything out for the first time."""
        self._recall_steps()
        self._follow()

    def close(self) -> None:
        """Stop all background work."""
        for lane in (*self.lanes.values(), self._walk):
            lane.close()

    # -- changes ---------------------------------------------------------------------------------------------

    def edit(self, edit: Edit) -> bool:
        """Change the project; what can't be done is told in a sentence and changes nothing."""
        try:
            self.change(edit.make(self.project), edit.what, edit.gesture, edit.is_held)
        except CombeError as error:
            self.told.emit(error.sentence())
            return False
        return True

    def change(self, project: Project, what: str, gesture: str = "", is_held: bool = False) -> None:
        """Replace the project; undo will name the change as ``what``."""
        before = self.project
        if self.history.change(project, what, gesture):
            self._dragging = is_held
            self._follow(before)

    def note(self, note: Note) -> None:
        """Keep what follows the project; undo doesn't take it back."""
        self.history.note(note.make)
        self.project_changed.emit(self.project)

    def end_gesture(self) -> None:
        """The hand let go."""
        self.history.end_gesture()
        if self._dragging:
            self._follow_after_drag()

    def _follow_after_drag(self) -> None:
        """The hand rests: the draft gives way to the design proper, and all else follows."""
        self._dragging = False
        self.project_changed.emit(self.project)
        self._submit_chain(with_rest=True)
        self._rest.start()

    def undo(self) -> None:
        """One step back."""
        self._step(self.history.undo)

    def redo(self) -> None:
        """One step forward."""
        self._step(self.history.redo)

    def _step(self, move: Callable[[], Project]) -> None:
        self._dragging = False
        before = self.project
        if move() != before:
            self._follow(before)

    def return_to(self, step: int) -> None:
        """Back, or forward, to a step of the history."""
        self._step(lambda: self.history.go_to(step))

    def turn_to(self, place: int) -> None:
        """Open another filter of the project; no change of it, and no step to be undone."""
        before = self.project
        if 0 <= place < len(before.members) and self.history.open(place):
            self._dragging = False
            self._follow(before)

    # -- files -----------------------------------------------------------------------------------------------

    def replace_with(self, project: Project, path: Path | None) -> None:
        """Another project altogether, with a history of its own."""
        for name in self.lanes:
            self._halt(name)
        self.history = History(project)
        self.saved, self.path = project, path
        self._dragging = False
        self._shelf.clear()
        self._walk.stop()
        self._show(Results())
        self.file_changed.emit()
        self._follow()

    def open(self, path: Path) -> None:
        """Read a project file; the current project stays if that fails."""
        from combe.project.file import read_project

        self.replace_with(read_project(path), path if path.suffix == ".combe" else None)
        self._recall_steps()

    def _recall_steps(self) -> None:
        """Steps behind undo from an earlier day, read beside the window."""
        path, opened, history = self.path, self.saved, self.history
        if path is None:
            return

        def read() -> object:
            from combe.project.steps_file import read_steps

            return history, read_steps(path, opened)

        self._errand.send(read)

    def _take_steps(self, found: tuple[History, list[Value]]) -> None:
        history, values = found
        if history is self.history and values:
            history.recall(values)
            self.project_changed.emit(self.project)

    def take_up(self, project: Project, path: Path | None = None) -> None:
        """Go on with unsaved work from before: no file holds it, not even the one it belongs to."""
        saved = self.saved
        self.replace_with(project, path)
        self.saved = saved
        self.file_changed.emit()

    def save(self, path: Path) -> None:
        """Write the project file."""
        from combe import api
        from combe.project.folders import moved_beside

        before, after = self.folder, path.resolve().parent
        told = moved_beside(self.project, before, after)
        api.save(told, path)
        if before != after:
            self.history.all_changed(lambda project: moved_beside(project, before, after))
            self.project_changed.emit(self.project)
        self.saved, self.path = self.project, path
        self.steps_keeper.write_aside(path, self.history.values)
        self.file_changed.emit()

    # -- what follows ----------------------------------------------------------------------------------------

    def _follow(self, before: Project | None = None) -> None:
        """All that depends on what has changed is cleared or known to be stale, and is worked out anew."""
        if before is not None and is_another(before, self.project):
            self._turn(before)
            return
        self._walk.stop()
        changed = set(DEPENDS) if before is None else affected(before, self.project)
        for name in self.lanes:
            # What is being worked out for the project as it was would arrive as if it held for this one. Not so a draft: a
            # hand that goes on moving would stop each before it is done, and see none.
            is_draft = name == "chain" and self._dragging and self._is_drafting
            if changed.intersection(self._working.get(name, ())) and not is_draft:
                self._halt(name)
        if before is not None:
            self._show(self.results.outdated(*changed))
        if "rounded" in self.results.fresh and self.results.rounded is not None:
            self.history.stand(tightest(self.results.rounded.lines))
        self.project_changed.emit(self.project)
        self._look()
        if not changed.difference(LOOKED_AT):
            return
        self._submit_chain(with_rest=not self._dragging)
        if self._dragging:
            self._rest.stop()
        else:
            self._rest.start()

    def _turn(self, before: Project) -> None:
        """Another filter is open: what is known of the one before is put by, what was known of this one is taken up."""
        for name in self.lanes:
            self._halt(name)
        left = self.results
        self._shelf.leave(before, left)
        found = self._shelf.take(self.project)
        self._show(found if "together" in affected(before, self.project) else found.carrying("together", left))
        self.project_changed.emit(self.project)
        self.turned.emit()
        self._look()
        self._submit_chain(with_rest=True)
        self._rest.start()

    def _walk_path(self) -> None:
        """Whether the other filters keep their briefs, once nothing else is to be done."""
        project = self.project
        places = [place for place in self.standings.unknown(project) if place != project.place]
        if places and not self._walk.is_busy:
            self._walk.submit(lambda is_stopped: work().standings(project, places, is_stopped))

    def _take_standing(self, found: tuple[Member, tuple[Line, ...] | None]) -> None:
        member, lines = found
        if self.standings.note(member, "missed" if lines is None else worst_verdict(lines)):
            self.path_changed.emit()

    def _submit_chain(self, with_rest: bool) -> None:
        self._is_draft_due = not with_rest and self._is_drafting
        if self._is_draft_due:
            return  # the next draft begins where the hand is by then
        project, results = self.project, self.results
        known = self._known.get((project.requirement, project.design))
        near = results.ideal.design if results.ideal is not None else None
        names = results.missing(FOLLOWING) if with_rest else DRAFTED
        start = known or near

        def follow(is_stopped: Callable[[], bool]) -> Iterator[object]:
            return cast(Iterator[object], work().chain(project, start, with_rest, results, is_stopped))

        if with_rest:
            self._submit("chain", names, follow)
            return
        # Of work in another process the time of this one says nothing; lines of recursive filters take longer than a draft.
        is_short = results.ideal is not None and isinstance(results.ideal.design.filter, Fir)
        may_be_here = self._pace.is_quick and is_short and not work().is_long(project)
        if not (may_be_here and self._draft_here(names, follow)):
            job = self._pace.timed(follow)
            self._submit("chain", names, lambda is_stopped: work().with_curves(job(is_stopped)))
            self._is_drafting = True

    def _draft_again(self) -> None:
        """A draft is there, or can't be had: the hand has gone on meanwhile."""
        if self._is_draft_due and self._dragging:
            self._submit_chain(with_rest=False)

    def _end(self, lane: str, is_whole: bool) -> None:
        super()._end(lane, is_whole)
        if lane == "chain":
            self._is_drafting = False

    def _draft_here(self, names: tuple[str, ...], work: Job) -> bool:
        """A draft that takes less than a thread takes to be woken and heard is made at once; not one that now takes longer."""
        self._halt("chain")
        self._working["chain"] = names
        self._show(self.results.begun(names))
        try:
            reports = self._pace.at_once(work)
        except CombeError as error:
            self._fail_lane("chain", error)
            return True
        for report in reports or ():
            self._take(cast("News | Failure | Progress", report))
        if reports is not None:
            self._end("chain", is_whole=True)
        return reports is not None

    def _after_rest(self) -> None:
        project = self.project
        if self.lanes["chain"].is_busy:
            self._rest.start()  # what stands beside waits for the chain itself
            return
        if self.results.ideal is not None and self.results.ideal.is_draft:
            self._submit_chain(with_rest=True)
        self._walk_path()
        if not self._is_ready_to_drag:
            self._is_ready_to_drag = True
            methods = {member.design.method for member in self.project.members}
            is_recursive = any("iir" in method_named(name).kind for name in methods)
            threading.Thread(target=make_ready, args=(is_recursive,), name="combe-ready", daemon=True).start()
        missing = self.results.missing(BESIDE)
        if not missing:
            return
        known = self.results.contenders if "contenders" not in missing else ()
        ideal = self._known.get((project.requirement, project.design))
        self._submit("side", BESIDE, lambda is_stopped: work().side(project, ideal, list(known), is_stopped))

    def _take_news(self, report: News) -> None:
        if report.name == "package":
            self._take_package(report.value)
        else:
            super()._take_news(report)

    def _arrived(self, report: News) -> None:
        """What a result that is there means for the rest."""
        if report.name == "ideal" and not report.value.is_draft:
            self._remember(report.value)
        elif report.name == "proof":
            self._record(report.value)
        if report.name == "rounded":
            self._look()
            if report.is_whole:
                self.history.stand(tightest(report.value.lines))
                self._take_standing((self.project.member, report.value.lines))

    def _fail(self, name: str, error: CombeError) -> None:
        if name in ("ideal", "rounded") and not self._dragging:
            self.history.stand(error.sentence())
            self._take_standing((self.project.member, None))
        super()._fail(name, error)

    def _remember(self, ideal: Ideal) -> None:
        if len(self._known) >= REMEMBERED:
            self._known.pop(next(iter(self._known)))
        self._known[(self.project.requirement, self.project.design)] = ideal

    # -- what is looked at -----------------------------------------------------------------------------------

    def want(self, name: str) -> None:
        """Work out the result a page needs, now and after every change, for as long as the page is open; or none."""
        self._wanted = name
        self._look()

    def listen(self, signal: str) -> None:
        """Another test signal for the noise."""
        if signal != self.signal:
            self.signal = signal
            self._show(self.results.outdated("heard"))
            self._look()

    def change_on_board(self, pin: int | None, fade: int) -> None:
        """Let a pinned filter take over in the middle of the board's run, over so many samples; or none."""
        change = None if pin is None else (pin, fade)
        if change != self.taking_over:
            self.taking_over = change
            self._show(self.results.outdated("board"))
            self._look()

    def _look(self) -> None:
        results, project, name = self.results, self.project, self._wanted
        ideal, rounded = results.ideal, results.rounded
        if self._dragging or ideal is None or rounded is None or "rounded" not in results.fresh:
            return
        if name and (name in results.fresh or name in results.pending):
            return
        job = job_for(name, project, results, self.signal, self.taking_over)
        if job is not None:
            self._submit("look", (name,), job)
        else:
            self._halt("look")
