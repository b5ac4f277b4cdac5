"""What the hand did, turned into a changed project."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from combe.arithmetic.realize import Choices
from combe.design.classic.plan import shape_of
from combe.errors import CombeError
from combe.filters import Roots
from combe.ledger import Line
from combe.project.document import DesignChoice, Pin
from combe.requirement import Requirement
from combe.requirement.presets import shape
from combe.requirement.sentences import turned, with_edges, with_levels

if TYPE_CHECKING:
    from PyQt6.QtCore import QTimer
    from PyQt6.QtWidgets import QSplitter, QStackedWidget

    from combe.app.dialogs import Dialogs
    from combe.app.plots.panel import PlotPanel
    from combe.app.session import Session
    from combe.app.widgets.brief_panel import BriefPanel
    from combe.app.widgets.contenders_panel import ContendersPanel

PATIENCE_MS = 40


class Gestures:
    """The half of the window that answers to the hand; the other half lays out and shows."""

    session: Session
    plots: PlotPanel
    brief: BriefPanel
    contenders: ContendersPanel
    dialogs: Dialogs
    splitter: QSplitter
    middle: QStackedWidget
    step: str
    _paint_anyway: QTimer
    tell: Callable[[str], None]
    open_step: Callable[[str], None]

    def _on_edge(self, index: int, kind: str, hz: float) -> None:
        asked = self.session.project.requirement
        band = asked.bands[index]
        low = asked.bands[index - 1].stop_hz if index else 0.0
        high = asked.bands[index + 1].start_hz if index + 1 < len(asked.bands) else asked.nyquist_hz
        if kind.startswith("whole"):
            way = hz - (band.start_hz if kind.endswith("start") else band.stop_hz)
            way = min(max(way, low - band.start_hz), high - band.stop_hz)
            edges = (round(band.start_hz + way, 9), round(band.stop_hz + way, 9))
            self._drag(lambda: with_edges(asked, index, *edges), f"move {band.name}", f"{index}{kind}")
            return
        hz = min(max(hz, low), high)
        edges = (hz, band.stop_hz) if kind == "start" else (band.start_hz, hz)
        self._drag(lambda: with_edges(asked, index, *edges), f"drag the edge of {band.name}", f"{index}{kind}")

    def _on_typing_wanted(self, index: int, kind: str) -> None:
        """A handle was clicked twice: its figure in the brief is typed over."""
        name = kind if kind in ("start", "stop") else "ripple" if kind == "lower" else ""
        figures = self.brief.rows[index].figures
        figure = figures.get(name) or figures.get("attenuation") or figures.get("ripple")
        if figure is not None:
            figure.setFocus()
            figure.selectAll()

    def _on_level(self, index: int, kind: str, db: float) -> None:
        asked = self.session.project.requirement
        band = asked.bands[index]
        if band.lower is None:
            levels: tuple[float | None, float] = (None, min(db, 0.0))
        else:
            low, high = band.lower.first_db, band.upper.first_db
            if low == -high:
                ripple = max(abs(db) if (db > 0) == (kind == "upper") else 0.0, 1e-4)
                levels = (-ripple, ripple)
            else:
                levels = (low, db) if kind == "upper" else (db, high)
        self._drag(lambda: with_levels(asked, index, *levels), f"drag the limit of {band.name}", f"{index}{kind}")

    def _drag(self, change: Callable[[], Requirement], what: str, gesture: str) -> None:
        try:
            asked = change()
        except CombeError as error:
            self.tell(error.sentence())
            return
        # All is painted once, with the new filter: painting the moved edge first would hold the filter up.
        self.splitter.setUpdatesEnabled(False)
        self._paint_anyway.start(PATIENCE_MS)
        self.session.ask(asked, what, gesture)

    def _on_band_picked(self, index: int) -> None:
        lines = self.session.results.ideal.lines if self.session.results.ideal else ()
        mine = [line for line in lines if line.band_index == index]
        if mine:
            self.plots.point_at(min(mine, key=lambda line: line.margin))

    def _on_shape(self, name: str) -> None:
        asked = self.session.project.requirement
        self.session.ask(shape(name, asked.sample_rate_hz), f"start from a {name}")

    def _on_contender(self, choice: DesignChoice) -> None:
        project = self.session.project
        arithmetic = project.arithmetic
        if choice.method != project.design.method:
            # A structure chosen for taps doesn't suit sections, nor the other way round.
            arithmetic = replace(arithmetic, structure="", accumulator_bits=None)
        self.session.change(replace(project, design=choice, arithmetic=arithmetic), "take a contender")

    def _on_roots(self, roots: Roots, what: str, gesture: str) -> None:
        project = self.session.project
        choice = DesignChoice("given", given=roots)
        self.session.change(replace(project, design=choice), what, gesture)

    def pin(self) -> None:
        """Keep the filter to be drawn behind those that follow."""
        ideal = self.session.results.ideal
        project = self.session.project
        if ideal is None:
            return
        design = ideal.design
        size = f"{design.order + 1} taps" if design.kind == "fir" else f"order {design.order}"
        name = f"{design.method}, {size}"
        taken = {pin.name for pin in project.pins}
        name = next(word for word in (name, *(f"{name} ({k})" for k in range(2, 99))) if word not in taken)
        pins = (*project.pins, Pin(name, design.filter))
        self.session.change(replace(project, pins=pins), "pin a filter")
        self.tell(f"pinned as {len(pins)}: key {len(pins)} shows and hides it")

    def toggle_pin(self, index: int) -> None:
        """Show or hide one pinned filter."""
        pins = self.session.project.pins
        if index < len(pins):
            changed = replace(pins[index], is_shown=not pins[index].is_shown)
            after = (*pins[:index], changed, *pins[index + 1 :])
            self.session.change(replace(self.session.project, pins=after), "show or hide a pin")

    def unpin(self) -> None:
        """Forget all pinned filters."""
        if self.session.project.pins:
            self.session.change(replace(self.session.project, pins=()), "unpin all")

    def _on_relaxed(self, requirement: Requirement, method: str) -> None:
        design = DesignChoice(method)
        project = replace(self.session.project, requirement=requirement, design=design)
        self.session.change(project, "take the nearest possible")

    def _on_other_start(self, name: str) -> None:
        if name == "turn":
            self.turn_brief()
        elif name == "hand":
            self.dialogs.by_hand()
        else:
            self.start_from_cutoff()

    def start_from_cutoff(self) -> None:
        """Design by an order and the −3 dB points, the passbands' own edges to begin with."""
        project = self.session.project
        asked = project.requirement
        edges = {edge for band in asked.passbands for edge in (band.start_hz, band.stop_hz)}
        inner = sorted(edge for edge in edges if 0 < edge < asked.nyquist_hz)
        cutoffs = tuple(inner[:1] if len(inner) < 2 else (inner[0], inner[-1])) or (asked.sample_rate_hz / 8,)
        choice = DesignChoice("butterworth", 4, cutoffs_hz=cutoffs, shape="" if shape_of(asked) else "lowpass")
        self.session.change(replace(project, design=choice), "design by a cut-off")
        self.open_step("ideal")
        self.contenders.bar.cutoff.setFocus()

    def turn_brief(self) -> None:
        """Keep what was blocked, block what was kept."""
        try:
            self.session.ask(turned(self.session.project.requirement), "turn the brief")
        except CombeError as error:
            self.tell(error.sentence())

    def _on_bits(self, bits: int) -> None:
        project = self.session.project
        choices = replace(project.arithmetic, coefficient_bits=bits, accumulator_bits=None)
        self.session.change(replace(project, arithmetic=choices), "coefficient width")

    def _on_better(self, is_on: bool) -> None:
        project = self.session.project
        choices = replace(project.arithmetic, better=is_on)
        self.session.change(replace(project, arithmetic=choices), "better integers")

    def _on_arithmetic(self, choices: Choices, what: str) -> None:
        self.session.change(replace(self.session.project, arithmetic=choices), what)

    def _on_line(self, line: Line, step: str) -> None:
        if step != self.step and not (step == "ideal" and self.step == "brief"):
            self.open_step(step)
        if self.middle.currentIndex() == 0:
            self.plots.point_at(line)

    def take_remedy(self, changes: dict[str, Any], what: str) -> None:
        """A danger's remedy: the choices it names, changed."""
        project = self.session.project
        choices = replace(project.arithmetic, accumulator_bits=None, **changes)
        self.session.change(replace(project, arithmetic=choices), what)

    def _on_width_point(self, structure: str, bits: int, is_state: bool) -> None:
        """A point of the chart of widths was taken."""
        is_fir = self.session.results.ideal is not None and self.session.results.ideal.design.kind == "fir"
        changes: dict[str, Any] = {"state_bits": bits} if is_state else {"coefficient_bits": bits}
        if not is_fir:
            changes["structure"] = structure
        self.take_remedy(changes, "take a point of the chart")
