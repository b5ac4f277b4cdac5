"""Background work on results, all of it the same way: a lane each, what is known of every result, who is told."""

from __future__ import annotations

from PyQt6.QtCore import QObject, pyqtSignal

from combe.app.jobs import Job, Lane
from combe.errors import CombeError
from combe.project.results import Failure, News, Progress, Results

LANES = ("chain", "side", "proof", "look", "count")
PATIENT = ("look",)
"""They work for a page that has just been opened."""


class Working(QObject):
    """Results of a project as they arrive from lanes.

    ``stepped`` names a result that is new or was cleared; ``worked`` one whose work began, came further or ended;
    ``troubled`` a result and the error why it can't be had, or None once that is over.
    """

    stepped = pyqtSignal(str)
    worked = pyqtSignal(str)
    troubled = pyqtSignal(str, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.results = Results()
        self.lanes = {name: self._lane(name) for name in LANES}
        self._working: dict[str, tuple[str, ...]] = {}

    def _lane(self, name: str) -> Lane:
        lane = Lane(name, self, name in PATIENT)
        lane.arrived.connect(self._take)
        lane.failed.connect(lambda error: self._fail_lane(name, error))
        lane.finished.connect(lambda: self._end(name, is_whole=True))
        return lane

    def _submit(self, lane: str, names: tuple[str, ...], job: Job) -> None:
        """Work on results in a lane; what the lane was at before is over."""
        self._end(lane, is_whole=False)
        self._working[lane] = names
        self._show(self.results.begun(names))
        self.lanes[lane].submit(job)

    def _halt(self, lane: str) -> None:
        self.lanes[lane].stop()
        self._end(lane, is_whole=False)

    def _end(self, lane: str, is_whole: bool) -> None:
        names = self._working.pop(lane, ())
        if names:
            self._show(self.results.ended(names, is_whole))

    def _fail_lane(self, lane: str, error: CombeError) -> None:
        """The work broke off: nothing of what it was to make and hasn't can be had."""
        names = [name for name in self._working.get(lane, ()) if name in self.results.pending]
        if names:
            self._fail(names[0], error)
        self._end(lane, is_whole=False)

    def _take(self, report: News | Failure | Progress) -> None:
        if isinstance(report, Failure):
            self._fail(report.name, report.error)
        elif isinstance(report, Progress):
            self._show(self.results.told(report.name, report.words))
        else:
            self._take_news(report)

    def _take_news(self, report: News) -> None:
        self._show(self.results.with_result(report.name, report.value, report.is_whole), report.name)
        self._arrived(report)

    def _arrived(self, report: News) -> None:
        """A result is there, and whoever shows it has been told."""

    def _fail(self, name: str, error: CombeError) -> None:
        self._show(self.results.failed(name, error))
        self.troubled.emit(name, error)

    def _show(self, results: Results, arrived: str = "") -> None:
        """Take on results and tell which of them differ in any way, the one that has arrived first."""
        before, self.results = self.results, results
        for name in before.troubles:
            if name not in results.troubles:
                self.troubled.emit(name, None)
        for name in results.differing(before, arrived):
            self.stepped.emit(name)
        for name in results.working_differently(before):
            self.worked.emit(name)
