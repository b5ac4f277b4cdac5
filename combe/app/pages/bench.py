"""The bench's plots: before and after over time, what differs from the ideal as a magnified curve, and the spectra with the
brief's mask; below, a row of figures for each output."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QApplication, QCheckBox, QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from combe.app.jobs import Errand
from combe.app.pages.bench_figures import LOOKS, figures_html, figures_text, look_of, meanings_html
from combe.app.pages.bench_mask import SpectrumMask
from combe.app.pages.page import Page, Scene
from combe.app.pages.sheet import WAYS
from combe.app.plots.axes import Plot
from combe.app.plots.cursors import Cursors
from combe.app.plots.curve import NOTHING, Curve
from combe.app.plots.level_stroke import LevelStroke
from combe.app.plots.signal_views import ConstellationPlot, HistogramPlot, SpectrogramPlot
from combe.app.plots.stroke import Stroke
from combe.app.theme.palette import THEME
from combe.app.widgets.figures_label import FiguresLabel
from combe.app.widgets.legend import Legend
from combe.app.widgets.parts import Choice, Panel, label
from combe.benching.asks import HEARD
from combe.benching.setup import BenchSetup
from combe.benching.views import DENSITIES, FLOOR_DB, LINES, Histogram, histogram, spectra, spectrogram
from combe.project import edits
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text, short

if TYPE_CHECKING:
    from combe.benching.heard import Heard
    from combe.benching.nodes import NodeUse
    from combe.benching.run import Bench

Array = NDArray[np.float64]
ALL = "input and outputs"
LOWER = ("spectra", "spectrogram", "histogram", "constellation")
SHOWN = 160


class BenchView(Panel):
    """Shows a bench; zooms and copies like every plot."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bench: Bench | None = None
        self.requirement: Requirement | None = None
        head = QHBoxLayout()
        self.words = label("", "muted")
        head.addWidget(self.words)
        self.aligned = QCheckBox("aligned")
        self.aligned.setToolTip("each output moved back by its delay, where the signal tells it")
        self.aligned.toggled.connect(lambda _: self._show_curves())
        head.addWidget(self.aligned)
        self.below = Choice()
        self.below.setAccessibleName("lower view")
        self.below.addItems(LOWER)
        self.below.activated.connect(lambda _: self.show_lower(self.below.currentText()))
        self.of = Choice()
        self.of.setAccessibleName("what the lower view is of")
        self.of.activated.connect(lambda _: self._show_lower())
        self.of.hide()
        head.addWidget(self.below)
        head.addWidget(self.of)
        self.setup = BenchSetup()
        self.top_db = 0.0
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
        self.spectrum = Plot("dB of full scale")
        self.difference.follow(self.time)
        self.lowest = QStackedWidget()
        self.lowest.addWidget(self.spectrum)
        self.others: dict[str, SpectrogramPlot | HistogramPlot | ConstellationPlot] = {}
        for part, share in ((self.time, 5), (self.difference, 4), (self.lowest, 6)):
            self.column.addWidget(part, share)
        self.spectrum_mask = SpectrumMask(self.spectrum, self)
        self.spectrum_mask.changed.connect(lambda _: self._show_density())
        head.insertWidget(4, self.spectrum_mask.button)
        self.limits: list[pg.PlotDataItem] = []
        self.strokes: dict[tuple[str, str], Stroke] = {}
        self._errand = Errand(is_patient=True)
        self._errand.arrived.connect(self._take)
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
        self.cursors = (Cursors(self.time, self._moments), Cursors(self.spectrum, self._frequencies))
        for cursors in self.cursors:
            cursors.told.connect(self._tell_cursors)
        self._show_ticks(False)
        self.time.pointed.connect(lambda x, y: self.time.tell(f"{short(x, 6)} ms   {short(y, 4)}"))
        self.spectrum.pointed.connect(
            lambda x, y: self.spectrum.tell(f"{self.spectrum.frequency_words(x)}   {short(y, 4)} dB")
        )

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
        self.requirement, self.setup = requirement, setup
        if self.spectrum.frequency_axis is not None:
            self.spectrum.frequency_axis.set_rate(requirement.sample_rate_hz, counted)
        for plot in (self.time, self.difference, self.spectrum):
            plot.label_axes()
        if bench is self.bench:
            self._show_mask()
            return
        self.bench = bench
        self._list_outputs()
        self._show_curves()
        self.figures.setText(figures_html(bench) if bench is not None else "")
        self.legend.show_curves([Curve(name, NOTHING, *look_of(name)) for name in self.names])

    @property
    def names(self) -> list[str]:
        """The input, then every output."""
        return [] if self.bench is None else ["input", *(heard.name for heard in self.bench.through)]

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
        if self.bench is not None:
            self.figures.setText(figures_html(self.bench))

    def plots(self) -> list[Plot]:
        """All of them."""
        return [self.time, self.difference, self.spectrum, *self.others.values()]

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
        parts = [f"{self.spectrum.frequency_words(x)}: " + self._values("spectrum", x) for x in places]
        if len(places) == 2:
            parts.append(f"{self.spectrum.frequency_words(abs(places[1] - places[0]))} between them")
        return " · ".join(parts)

    def _values(self, where: str, x: float) -> str:
        """What each curve that is shown has at a place."""
        found = []
        for name in self.names:
            stroke = self.strokes.get((where, name))
            value = stroke.value_at(x) if stroke is not None and stroke.isVisible() else None
            if value is not None:
                unit = " dB" if where == "spectrum" else ""
                found.append(f"{name} " + short(value, 4).replace("-", "−") + unit)
        return ", ".join(found)

    # -- the lower view --------------------------------------------------------------------------------------

    def show_lower(self, name: str) -> None:
        """Another view below: ``spectra``, ``spectrogram``, ``histogram`` or ``constellation``."""
        self.below.setCurrentText(name)
        if name != LOWER[0] and name not in self.others:
            made = {"spectrogram": SpectrogramPlot, "histogram": HistogramPlot, "constellation": ConstellationPlot}[
                name
            ]()
            self.others[name] = made
            self.lowest.addWidget(made)
        self.lowest.setCurrentWidget(self.others.get(name, self.spectrum))
        self._list_outputs()
        # A picture wants the room; the spectra stand beside what they come from.
        self.difference.setVisible(name == LOWER[0])
        self.time.setVisible(name != "constellation")
        self.column.setStretchFactor(self.lowest, 6 if name == LOWER[0] else 12)
        self._show_ticks(name != LOWER[0])
        self._show_lower()

    def _show_ticks(self, are_shown: bool) -> None:
        """The times under the upper plot, where no other stands below it with the same."""
        axis = self.time.axis("bottom")
        axis.setStyle(showValues=are_shown)
        axis.setHeight(None if are_shown else 6)

    def _list_outputs(self) -> None:
        """What the lower view can be of: lines or a density; an output in the spectrogram; everything, or a node inside."""
        view, chosen = self.below.currentText(), self.of.currentText()
        listed = self.names
        if view == "spectra":
            listed = [*LINES, *DENSITIES]
        elif view == "histogram":
            listed = [ALL, *(node.name for node in self.bench.nodes)] if self.bench is not None else []
        first = listed[-1 if view == "spectrogram" else 0] if listed else ""
        self.of.clear()
        self.of.addItems(listed)
        self.of.setCurrentText(chosen if chosen in listed else first)
        self.spectrum_mask.button.setVisible(view == "spectra")
        self.of.setVisible(view in ("spectra", "spectrogram") or (view == "histogram" and len(listed) > 1))

    def _everything(self) -> list[tuple[str, Array, float, float]]:
        """Input and outputs by name, with their full scale and their rate."""
        if self.bench is None:
            return []
        given, rate = self.bench.input, self.bench.sample_rate_hz
        through = [(h.name, h.values, h.full, h.sample_rate_hz or rate) for h in self.bench.through]
        return [("input", given.values, given.full, rate), *through]

    def _show_lower(self) -> None:
        """What the lower view shows; the others are worked out when they are looked at."""
        plot, bench = self.lowest.currentWidget(), self.bench
        if bench is None:
            return
        if plot is self.spectrum:
            kind = self.of.currentText()
            everything = self._everything()
            known = {"input": bench.input.spectrum} | {heard.name: heard.spectrum for heard in bench.through}
            self._errand.send(lambda: (bench, kind, spectra(everything, kind, known)))
        elif isinstance(plot, SpectrogramPlot):
            for name, values, full, rate in self._everything():
                if name == self.of.currentText():
                    plot.show_spectrogram(spectrogram(values / full), rate, self.requirement, len(values))
        elif isinstance(plot, HistogramPlot) and self.of.currentText() in [node.name for node in bench.nodes]:
            name = self.of.currentText()
            self._errand.send(lambda: (bench, name, _inside(bench, name)))
        elif isinstance(plot, HistogramPlot):
            plot.plain_unit = "of full scale"
            steps = {"input": bench.input.step}
            plot.show_histograms({
                name: (histogram(values, full, steps.get(name, bench.step)), full, look_of(name))
                for name, values, full, _ in self._everything()
            })  # fmt: skip
        elif isinstance(plot, ConstellationPlot):
            plot.show_symbols({h.name: (h.received[0], look_of(h.name)) for h in bench.through if h.received})
            if not any(h.received for h in bench.through):
                plot.tell("no modulated carrier is on the bench, or too short a one: add one as a part")

    def chosen_output(self, bench: Bench) -> Heard:
        """The one in the spectrogram, else the last that is the filter's own."""
        named = {heard.name: heard for heard in bench.through}
        if self.below.currentText() == "spectrogram" and self.of.currentText() in named:
            return named[self.of.currentText()]
        own = [heard for heard in bench.through if heard.name in LOOKS]
        return own[-1] if own else bench.through[-1]

    def _take(self, found: tuple[Bench, str, Any]) -> None:
        """What was worked out aside has come: it is drawn where it is still looked at."""
        bench, name, value = found
        if bench is not self.bench or name != self.of.currentText():
            return
        if isinstance(value, Histogram):
            self._show_node(bench, name, value)
        else:
            self._show_spectra(name, value)

    def _show_node(self, bench: Bench, name: str, values: Histogram) -> None:
        """Values of a node, its range, and how often it was left."""
        plot = self.others.get("histogram")
        if not isinstance(plot, HistogramPlot):
            return
        node = next(each for each in bench.nodes if each.name == name)
        plot.plain_unit = "of the node's range"
        plot.show_histograms({name: (values, _reach(node), look_of("bit-true"))})
        plot.tell(
            f"{name}: {node.least:,} to {node.most:,} of {node.lowest:,} to {node.highest:,}, ".replace("-", "−")
            + (f"out of range {node.overflows:,} times" if node.overflows else "never out of range")
        )

    # -- curves ----------------------------------------------------------------------------------------------

    def _stroke(self, where: str, name: str) -> Stroke:
        key = where, name
        if key not in self.strokes:
            made = Stroke() if where == "spectrum" else LevelStroke()
            plot = {"time": self.time, "difference": self.difference, "spectrum": self.spectrum}[where]
            plot.add(made)
            self.strokes[key] = made
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
            assert isinstance(stroke, LevelStroke)
            stroke.show_levels(levels, -shift, 1e3 / own, 1 / full)
            stroke.setVisible(True)
            top = max(top, levels.peak / full)
        has_ideal = any(h.name == "ideal" for h in bench.through)
        largest = 1e-12
        for heard in bench.through if has_ideal else ():
            if heard.name == "ideal" or heard.name.startswith(("moving-average", "pin ")):
                continue
            stroke = self._stroke("difference", heard.name)
            assert isinstance(stroke, LevelStroke)
            stroke.show_levels(heard.off, 0.0, 1e3 / (heard.sample_rate_hz or rate), 1e6 / heard.full)
            stroke.setVisible(True)
            largest = max(largest, heard.peak_error / heard.full * 1e6)
        begin = min(count // 4, 512)
        left, right = begin / rate * 1e3, min(begin + SHOWN, count - 1) / rate * 1e3
        self.time.set_home(left, right, -1.1 * top, 1.1 * top)
        self.difference.set_home(left, right, -1.2 * largest, 1.2 * largest)
        self._show_lower()

    def _show_spectra(self, kind: str, found: dict[str, tuple[Array, Array]]) -> None:
        for (where, _), stroke in self.strokes.items():
            if where == "spectrum":
                stroke.setVisible(False)
        peak, last = -400.0, 0.0
        for name, (hz, level) in found.items():
            stroke = self._stroke("spectrum", name)
            stroke.show_points(hz, level)
            stroke.setVisible(True)
            peak, last = max(peak, float(np.max(level))), max(last, float(hz[-1]))
        for item in self.limits:
            self.spectrum.take_out(item)
        self.limits = []
        if self.requirement is not None and found:
            top = float(np.max(found["input"][1]))
            for band in self.requirement.bands:
                for limit in (band.upper, band.lower):
                    if limit is None:
                        continue
                    points = np.array(limit.points)
                    item = pg.PlotDataItem(
                        points[:, 0],
                        points[:, 1] + top,
                        pen=pg.mkPen(THEME.color("mask"), width=1.4, style=Qt.PenStyle.DashLine),
                    )
                    self.spectrum.add(item)
                    self.limits.append(item)
        if HEARD in found:
            self.top_db = float(np.max(found[HEARD][1]))
        self._show_mask()
        self.spectrum.unit = "dB of full scale" if kind in LINES else "dB per Hz"
        self.spectrum.label_axes()
        self.spectrum.set_home(0.0, last, max(FLOOR_DB, peak - 130), peak + 8)

    def _show_mask(self) -> None:
        """Against densities: lines of a longer window stand elsewhere."""
        if self.requirement is not None:
            is_seen = self.of.currentText() in DENSITIES and HEARD in self.names
            self.spectrum_mask.show_asks(self.setup.asks, self.requirement.input_rate_hz, self.top_db, is_seen)

    def _show_density(self) -> None:
        """Where a mask can be seen."""
        if self.of.currentText() in LINES:
            self.of.setCurrentText(next(iter(DENSITIES)))
            self._show_lower()


class BenchPage(Page):
    """The view as the register knows it."""

    def __init__(self) -> None:
        super().__init__()
        self.view = BenchView()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.view)
        self.view.spectrum_mask.changed.connect(self._on_mask)
        self.view.spectrum_mask.complained.connect(self.told)

    def show_scene(self, scene: Scene) -> None:
        """Another bench."""
        results = scene.results
        self.view.show_bench(
            results.bench, scene.requirement, scene.counted, scene.trouble("bench"), "bench" in results.fresh,
            scene.project.bench,
        )  # fmt: skip

    def _on_mask(self, asks: tuple[str, ...]) -> None:
        self.edited.emit(edits.set_bench(edits.with_bench(self.view.setup, asks=asks)))

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


def _reach(node: NodeUse) -> float:
    """Full scale of a node in its own steps."""
    return float(max(-node.lowest, node.highest + 1))


def _inside(bench: Bench, name: str) -> Histogram:
    node = next(each for each in bench.nodes if each.name == name)
    return histogram(bench.node(name).astype(np.float64), _reach(node), 1.0)
