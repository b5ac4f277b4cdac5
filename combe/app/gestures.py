"""What the hand did, turned into edits of the project."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from combe.errors import CombeError
from combe.ledger import Line
from combe.project import edits
from combe.project.document import Project
from combe.project.edits import Edit

if TYPE_CHECKING:
    from PyQt6.QtCore import QTimer
    from PyQt6.QtWidgets import QStackedWidget

    from combe.app.dialogs import Dialogs
    from combe.app.pages.panel import PlotPanel
    from combe.app.session import Session
    from combe.app.widgets.brief_panel import BriefPanel
    from combe.app.widgets.contenders_panel import ContendersPanel

PATIENCE_MS = 30


class Gestures:
    """The half of the window that answers to the hand; the other half lays out and shows."""

    session: Session
    plots: PlotPanel
    brief: BriefPanel
    contenders: ContendersPanel
    dialogs: Dialogs
    middle: QStackedWidget
    step: str
    _paint_anyway: QTimer
    _is_behind: bool
    tell: Callable[[str], None]
    open_step: Callable[[str], None]

    def _on_typing_wanted(self, index: int, kind: str) -> None:
        """A handle was clicked twice: its figure in the brief is typed over."""
        name = kind if kind in ("start", "stop") else "ripple" if kind == "lower" else ""
        figures = self.brief.rows[index].figures
        figure = figures.get(name) or figures.get("attenuation") or figures.get("ripple")
        if figure is not None:
            figure.setFocus()
            figure.selectAll()

    def drag(self, found: Callable[[Project], Edit]) -> None:
        """The hand moves something that the filter follows."""
        try:
            edit = found(self.session.project)
        except CombeError as error:
            self.tell(error.sentence())
            return
        # The plot is painted once, with the new filter: painting the moved edge first would hold the filter up.
        self._is_behind = True
        self._paint_anyway.start(PATIENCE_MS)
        self.session.edit(edit)

    def _on_band_picked(self, index: int) -> None:
        lines = self.session.results.ideal.lines if self.session.results.ideal else ()
        mine = [line for line in lines if line.band_index == index]
        if mine:
            self.plots.point_at(min(mine, key=lambda line: line.margin))

    def _on_shape(self, name: str) -> None:
        self.session.edit(edits.start_from(name))

    def pin(self) -> None:
        """Keep the filter to be drawn behind those that follow."""
        ideal = self.session.results.ideal
        if ideal is not None:
            self.session.edit(edits.pin(ideal.design))
            count = len(self.session.project.pins)
            self.tell(f"pinned as {count}: key {count} shows and hides it")

    def toggle_pin(self, index: int) -> None:
        """Show or hide one pinned filter."""
        self.session.edit(edits.toggle_pin(index))

    def unpin(self) -> None:
        """Forget all pinned filters."""
        self.session.edit(edits.unpin_all())

    def _on_other_start(self, name: str) -> None:
        if name == "turn":
            self.turn_brief()
        elif name == "hand":
            self.dialogs.by_hand()
        else:
            self.start_from_cutoff()

    def start_from_cutoff(self) -> None:
        """Design by an order and the −3 dB points, the passbands' own edges to begin with."""
        self.session.edit(edits.design_by_cutoff())
        self.open_step("ideal")
        self.contenders.bar.cutoff.setFocus()

    def turn_brief(self) -> None:
        """Keep what was blocked, block what was kept."""
        self.session.edit(edits.turn_brief())

    def _on_line(self, line: Line, step: str) -> None:
        if step != self.step and not (step == "ideal" and self.step == "brief"):
            self.open_step(step)
        if self.middle.currentIndex() == 0:
            self.plots.point_at(line)

    def take_remedy(self, changes: dict[str, Any], what: str) -> None:
        """A danger's remedy: the choices it names, changed."""
        self.session.edit(edits.take_remedy(changes, what))
