"""Magnitude over the mask with its loupe, and a second view below on the same frequency axis."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QSplitter, QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.magnitude import MagnitudePlot
from combe.app.plots.others import SidePlot
from combe.app.widgets.parts import Choice
from combe.project import edits

BELOW = ("loupe alone", "phase below", "delay below", "level below")
MODES = ("decibels", "gain")


class MagnitudePage(Page):
    """Edges and levels are dragged here."""

    def __init__(self) -> None:
        super().__init__()
        self.scene: Scene | None = None
        self._shown: tuple[object, ...] = ()
        self.magnitude = MagnitudePlot()
        self.second: dict[str, SidePlot] = {}
        self._is_log = False
        self.magnitude.edge_moved.connect(
            lambda index, kind, hz: self.dragged.emit(lambda project: edits.move_edge(project, index, kind, hz))
        )
        self.magnitude.level_moved.connect(
            lambda index, kind, db: self.dragged.emit(lambda project: edits.move_level(project, index, kind, db))
        )
        self.magnitude.released.connect(self.released)
        self.magnitude.typing_wanted.connect(lambda index, kind: self.asked.emit("type", (index, kind)))
        self.pair = QSplitter(Qt.Orientation.Vertical)
        self.pair.addWidget(self.magnitude)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.pair)
        self.below = Choice()
        self.below.setAccessibleName("second view")
        self.below.addItems(BELOW)
        self.below.setToolTip("A second view on the same frequency axis")
        self.below.activated.connect(lambda _: self.show_below(self.below.currentText()))
        self.extra = self.below

    def plots(self) -> list[Plot]:
        """Known without a search: asked for in every frame under the hand."""
        return [self.magnitude.main, self.magnitude.loupe, *self.second.values()]

    def show_scene(self, scene: Scene) -> None:
        """Only what is another is drawn anew: under the hand every part of a frame counts."""
        before, self.scene = self.scene, scene
        if before is None or (before.requirement, before.counted) != (scene.requirement, scene.counted):
            self.magnitude.show_requirement(scene.requirement, scene.counted)
        if before is None or before.curves != scene.curves or before.requirement is not scene.requirement:
            self.magnitude.show_curves(list(scene.curves))
            self._show_second()
        if before is None or (before.lines, before.close) != (scene.lines, scene.close):
            self.magnitude.show_lines(scene.lines, set(scene.close))
        if before is None or before.levels is not scene.levels:
            self.magnitude.show_levels(scene.levels)
        if before is None or before.dots != scene.dots:
            self.magnitude.show_measured(scene.dots)

    def _show_second(self) -> None:
        if self.scene is not None:
            for plot in self.second.values():
                if not plot.isHidden():
                    plot.show_all(self.scene.requirement, self.scene.curves, self.scene.counted)

    def _make_second(self, kind: str) -> None:
        """When it is first looked at: a window begins with one plot and its loupe."""
        plot = SidePlot(kind)
        plot.follow(self.magnitude.main)
        plot.set_log(self._is_log)
        self.pair.addWidget(plot)
        self.second[kind] = plot

    def show_below(self, words: str) -> None:
        """A second view under the magnitude, on the same frequency axis; or the loupe alone."""
        self.below.setCurrentText(words)
        kind = words.removesuffix(" below") if words != BELOW[0] else ""
        if kind and kind not in self.second:
            self._make_second(kind)
        for name, plot in self.second.items():
            plot.setVisible(name == kind)
        self.magnitude.loupe.setVisible(not kind)
        height = max(self.pair.height(), 300)
        shown = [height // 2 if name == kind else 0 for name in self.second]
        self.pair.setSizes([height - sum(shown), *shown])
        self.magnitude.show_ticks(words != BELOW[0])
        self._show_second()

    def modes(self) -> Sequence[str]:
        """Decibels or plain gain."""
        return MODES

    @property
    def mode(self) -> str:
        """Which of them."""
        return MODES[int(self.magnitude.linear)]

    def set_mode(self, mode: str) -> None:
        """The other one."""
        self.magnitude.set_linear(mode == "gain")

    @property
    def plot(self) -> Plot:
        """The main plot."""
        return self.magnitude.main

    def go_home(self) -> None:
        """Both plots."""
        self.magnitude.go_home()

    def set_log(self, is_log: bool) -> None:
        """All of them on one axis."""
        self._is_log = is_log
        self.magnitude.set_log(is_log)
        for plot in self.second.values():
            plot.set_log(is_log)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.magnitude.dress()
        for plot in self.second.values():
            plot.dress()
