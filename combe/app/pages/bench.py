"""The bench's plots: before and after over time, what differs from the ideal as a magnified curve, and the spectra with the
brief's mask; below, a row of figures for each output."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QApplication, QCheckBox, QHBoxLayout, QVBoxLayout, QWidget

from combe.app.pages.bench_figures import figures_html, figures_text, look_of, meanings_html
from combe.app.pages.bench_lower import LOWER, BenchLower
from combe.app.pages.page import Page, Scene
from combe.app.pages.sheet import WAYS
from combe.app.plots.axes import Plot
from combe.app.plots.cursors import Cursors
from combe.app.plots.curve import NOTHING, Curve
from combe.app.plots.level_stroke import LevelStroke
from combe.app.theme.palette import THEME
from combe.app.widgets.figures_label import FiguresLabel
from combe.app.widgets.legend import Legend
from combe.app.widgets.parts import Panel, label
from combe.benching.setup import BenchSetup
from combe.project import edits
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text, short

if TYPE_CHECKING:
    from combe.benching.run import Bench

SHOWN = 160


class BenchView(Panel):
    """Shows a bench; zooms and copies like every plot."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench: Bench | None = None
        head = QHBoxLayout()
        self.words = label("", "muted")
        head.addWidget(self.words)
        self.aligned = QCheckBox("aligned")
        self.aligned.setToolTip("each output moved back by its delay, where the signal tells it")
        self.aligned.toggled.connect(lambda _: self._show_curves())
        head.addWidget(self.aligned)
        self.below = BenchLower(self)
        self.below.turned.connect(self._on_turned)
        for choice in (self.below.which, self.below.of, self.below.spectrum_mask.button):
            head.addWidget(choice)
        self.legend = Legend()
        head.addWidget(self.legend, 1)
        self.column.addLayout(head)
        self.cursor_words = label("", "muted", wrap=True)
        self.cursor_words.hide()
        self.column.addWidget(self.cursor_words)
        self.time = Plot("of full scale", frequency=False)
        self.time.plain_unit = "ms"
        self.time.has_bottom_label = False
        self.difference = Plot("ppm", frequency=False)
        self.difference.setToolTip("each output less the ideal filter's, in millionths of full scale")
        self.difference.plain_unit = "ms"
        self.difference.follow(self.time)
        for part, share in ((self.time, 5), (self.difference, 4), (self.below, 6)):
            self.column.addWidget(part, share)
        self.strokes: dict[tuple[str, str], LevelStroke] = {}
        self.figures = FiguresLabel()
        self.figures.setTextFormat(Qt.TextFormat.RichText)
        self.figures.setWordWrap(True)
        self.figures.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.figures.setToolTip(meanings_html())
        self.figures.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
        for form in WAYS:
            action = QAction(f"Copy the figures as {form}", self.figures)
            action.triggered.connect(lambda _, form=form: self.copy(form))
            self.figures.addAction(action)
        self.column.addWidget(self.figures)
        self.cursors = (Cursors(self.time, self._moments), Cursors(self.below.spectrum, self._frequencies))
        for cursors in self.cursors:
            cursors.told.connect(self._tell_cursors)
        self._show_ticks(False)
        self.time.pointed.connect(lambda x, y: self.time.tell(f"{short(x, 6)} ms   {short(y, 4)}"))

    def show_bench(
        self,
        bench: Bench | None,
        requirement: Requirement,
        counted: str,
        sentence: str,
        is_done: bool,
        setup: BenchSetup,
    ) -> None:
        """Another bench, or why there is none."""
        part = f"{bench.samples:,} samples" if bench is not None and bench.is_excerpt else ""
        self.words.setText(sentence or (part if is_done else f"running… {part}".strip()))
        self.below.show_setup(requirement, counted, setup)
        for plot in (self.time, self.difference):
            plot.label_axes()
        if bench is self.bench:
            self.below.show_mask()
            return
        self.bench = bench
        self.below.show_bench(bench)
        self._show_curves()
        self.figures.setText(figures_html(bench) if bench is not None else "")
        self.legend.show_curves([Curve(name, NOTHING, *look_of(name)) for name in self.below.names])

    def copy(self, form: str = "text") -> str:
        """The figures as a table on the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None and self.bench is not None:
            clipboard.setText(figures_text(self.bench, form))
        return "the figures are on the clipboard"

    def dress(self) -> None:
        """Take on the theme's colours."""
        for plot in self.plots():
            plot.dress()
        for cursors in self.cursors:
            for name, x in list(cursors.places.items()):
                cursors.put(name, x)
        self._show_curves()
        self.below.show_again()
        if self.bench is not None:
            self.figures.setText(figures_html(self.bench))

    def plots(self) -> list[Plot]:
        """All of them."""
        return [self.time, self.difference, *self.below.plots()]

    # -- cursors ---------------------------------------------------------------------------------------------

    def _tell_cursors(self, sentence: str) -> None:
        self.cursor_words.setText(sentence)
        self.cursor_words.setVisible(bool(sentence))

    def _moments(self, places: list[float]) -> str:
        """Two moments, what every curve has there, and the frequency of which they are a period."""
        parts = [f"{short(x, 6)} ms: " + self._values("time", x) for x in places]
        if len(places) == 2:
            apart = abs(places[1] - places[0])
            turn = f", a period of {frequency_text(float(f'{1e3 / apart:.5g}'))}" if apart else ""
            parts.append(f"{short(apart, 6)} ms between them{turn}")
        return " · ".join(parts)

    def _frequencies(self, places: list[float]) -> str:
        parts = [f"{self.below.spectrum.frequency_words(x)}: " + self._values("spectrum", x) for x in places]
        if len(places) == 2:
            parts.append(f"{self.below.spectrum.frequency_words(abs(places[1] - places[0]))} between them")
        return " · ".join(parts)

    def _values(self, where: str, x: float) -> str:
        """What each curve that is shown has at a place."""
        found = []
        for name in self.below.names:
            stroke = self.below.strokes.get(name) if where == "spectrum" else self.strokes.get((where, name))
            value = stroke.value_at(x) if stroke is not None and stroke.isVisible() else None
            if value is not None:
                unit = " dB" if where == "spectrum" else ""
                found.append(f"{name} " + short(value, 4).replace("-", "−") + unit)
        return ", ".join(found)

    # -- curves ----------------------------------------------------------------------------------------------

    def _on_turned(self, lower: str) -> None:
        """A picture wants the room; the spectra stand beside what they come from."""
        is_spectrum = lower == LOWER[0]
        self.difference.setVisible(is_spectrum)
        self.time.setVisible(lower != "constellation")
        self.column.setStretchFactor(self.below, 6 if is_spectrum else 12)
        self._show_ticks(not is_spectrum)

    def _show_ticks(self, are_shown: bool) -> None:
        """The times under the upper plot, where no other stands below it with the same."""
        axis = self.time.axis("bottom")
        axis.setStyle(showValues=are_shown)
        axis.setHeight(None if are_shown else 6)

    def _stroke(self, where: str, name: str) -> LevelStroke:
        key = where, name
        if key not in self.strokes:
            self.strokes[key] = LevelStroke()
            (self.time if where == "time" else self.difference).add(self.strokes[key])
        role, width, dashed = look_of(name)
        self.strokes[key].set_look(THEME.color(role), width, dashed)
        return self.strokes[key]

    def _show_curves(self) -> None:
        bench = self.bench
        for stroke in self.strokes.values():
            stroke.setVisible(False)
        if bench is None:
            return
        rate, count = bench.sample_rate_hz, bench.samples
        delays = {h.name: h.delay_samples or 0.0 for h in bench.through}
        given = bench.input
        drawn = [("input", given.levels, given.full, rate)]
        drawn += [(h.name, h.levels, h.full, h.sample_rate_hz or rate) for h in bench.through]
        top = 1e-9
        for name, levels, full, own in drawn:
            shift = delays.get(name, 0.0) / rate * 1e3 if self.aligned.isChecked() else 0.0
            stroke = self._stroke("time", name)
            stroke.show_levels(levels, -shift, 1e3 / own, 1 / full)
            stroke.setVisible(True)
            top = max(top, levels.peak / full)
        has_ideal = any(h.name == "ideal" for h in bench.through)
        largest = 1e-12
        for heard in bench.through if has_ideal else ():
            if heard.name == "ideal" or heard.name.startswith(("moving-average", "pin ")):
                continue
            stroke = self._stroke("difference", heard.name)
            stroke.show_levels(heard.off, 0.0, 1e3 / (heard.sample_rate_hz or rate), 1e6 / heard.full)
            stroke.setVisible(True)
            largest = max(largest, heard.peak_error / heard.full * 1e6)
        begin = min(count // 4, 512)
        left, right = begin / rate * 1e3, min(begin + SHOWN, count - 1) / rate * 1e3
        self.time.set_home(left, right, -1.1 * top, 1.1 * top)
        self.difference.set_home(left, right, -1.2 * largest, 1.2 * largest)


class BenchPage(Page):
    """The view as the register knows it."""

    def __init__(self) -> None:
        super().__init__()
        self.view = BenchView()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.view)
        self.view.below.spectrum_mask.changed.connect(self._on_mask)
        self.view.below.spectrum_mask.complained.connect(self.told)

    def show_scene(self, scene: Scene) -> None:
        """Another bench."""
        results = scene.results
        self.view.show_bench(
            results.bench, scene.requirement, scene.counted, scene.trouble("bench"), "bench" in results.fresh,
            scene.project.bench,
        )  # fmt: skip

    def _on_mask(self, asks: tuple[str, ...]) -> None:
        self.edited.emit(edits.set_bench(edits.with_bench(self.view.below.setup, asks=asks)))

    @property
    def plot(self) -> Plot:
        """The time plot."""
        return self.view.time

    def copy(self) -> str:
        """The figures."""
        return self.view.copy()

    def clear_cursors(self) -> None:
        """On both plots."""
        for cursors in self.view.cursors:
            cursors.clear()

    def align(self) -> None:
        """Each output moved back by its delay, or no longer."""
        self.view.aligned.toggle()

    def go_home(self) -> None:
        """All of them."""
        for plot in self.view.plots():
            plot.go_home()

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.view.dress()
