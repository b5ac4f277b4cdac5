"""The bench's plots: before and after over time, what differs from the ideal as a magnified curve, and the spectra with the
brief's mask; below, a row of figures for each output."""

from __future__ import annotations

import html
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QCheckBox, QHBoxLayout, QLabel, QStackedWidget, QVBoxLayout, QWidget

from combe.app.jobs import Errand
from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.curve import NOTHING, Curve
from combe.app.plots.level_stroke import LevelStroke
from combe.app.plots.signal_views import ConstellationPlot, HistogramPlot, SpectrogramPlot
from combe.app.plots.stroke import Stroke
from combe.app.shown import PIN_ROLES
from combe.app.theme.palette import THEME
from combe.app.widgets.legend import Legend
from combe.app.widgets.parts import Choice, Panel, label
from combe.benching.nodes import told
from combe.benching.views import Histogram, histogram, spectrogram
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text, level_text, short

if TYPE_CHECKING:
    from combe.benching.heard import Heard, Tone
    from combe.benching.nodes import NodeUse
    from combe.benching.run import Bench

Array = NDArray[np.float64]
LOOKS = {
    "input": ("muted", 1.0, False), "ideal": ("river", 1.6, False), "rounded": ("ochre", 1.4, True), "bit-true": ("heather", 1.4, False),
    "code": ("moss", 1.2, True), "core": ("moss", 1.2, False), "circuit": ("clay", 1.2, True),
}  # fmt: skip
OTHER = ("amber", 1.2, False)
ALL = "input and outputs"
LOWER = ("spectra", "spectrogram", "histogram", "constellation")
SHOWN, LONGEST_SPECTRUM, FLOOR_DB = 160, 16_384, -160.0


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
        self.legend = Legend()
        head.addWidget(self.legend, 1)
        self.column.addLayout(head)
        self.time = Plot("of full scale", frequency=False)
        self.time.plain_unit = "ms"
        self.time.has_bottom_label = False
        self.difference = Plot("ppm", frequency=False)
        self.difference.setToolTip("each output less the ideal filter's, in millionths of full scale")
        self.difference.plain_unit = "ms"
        self.spectrum = Plot("dB of full scale")
        self.difference.setXLink(self.time)
        self.lowest = QStackedWidget()
        self.lowest.addWidget(self.spectrum)
        self.others: dict[str, SpectrogramPlot | HistogramPlot | ConstellationPlot] = {}
        for part, share in ((self.time, 5), (self.difference, 4), (self.lowest, 6)):
            self.column.addWidget(part, share)
        self.limits: list[pg.PlotDataItem] = []
        self.strokes: dict[tuple[str, str], Stroke] = {}
        self._errand = Errand()
        self._errand.arrived.connect(self._take_node)
        self.figures = QLabel()
        self.figures.setTextFormat(Qt.TextFormat.RichText)
        self.figures.setWordWrap(True)
        self.figures.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.column.addWidget(self.figures)
        self._show_ticks(False)
        self.time.pointed.connect(lambda x, y: self.time.tell(f"{short(x, 6)} ms   {short(y, 4)}"))
        self.spectrum.pointed.connect(
            lambda x, y: self.spectrum.tell(f"{self.spectrum.frequency_words(x)}   {short(y, 4)} dB")
        )

    def show_bench(
        self, bench: Bench | None, requirement: Requirement, counted: str, sentence: str, is_done: bool
    ) -> None:
        """Another bench, or why there is none."""
        part = f"{bench.samples:,} samples" if bench is not None and bench.is_excerpt else ""
        self.words.setText(sentence or (part if is_done else f"running… {part}".strip()))
        self.requirement = requirement
        if self.spectrum.frequency_axis is not None:
            self.spectrum.frequency_axis.set_rate(requirement.sample_rate_hz, counted)
        for plot in (self.time, self.difference, self.spectrum):
            plot.label_axes()
        if bench is self.bench:
            return
        self.bench = bench
        self._list_outputs()
        self._show_curves()
        self.figures.setText(figures_html(bench) if bench is not None else "")
        self.legend.show_curves([Curve(name, NOTHING, *_look(name)) for name in self.names])

    @property
    def names(self) -> list[str]:
        """The input, then every output."""
        return [] if self.bench is None else ["input", *(heard.name for heard in self.bench.through)]

    def copy(self) -> str:
        """The figures as a table on the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None and self.bench is not None:
            clipboard.setText(figures_text(self.bench))
        return "the figures are on the clipboard"

    def dress(self) -> None:
        """Take on the theme's colours."""
        for plot in self.plots():
            plot.dress()
        self._show_curves()
        if self.bench is not None:
            self.figures.setText(figures_html(self.bench))

    def plots(self) -> list[Plot]:
        """All of them."""
        return [self.time, self.difference, self.spectrum, *self.others.values()]

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
        axis = self.time.plotItem.getAxis("bottom")
        axis.setStyle(showValues=are_shown)
        axis.setHeight(None if are_shown else 6)

    def _list_outputs(self) -> None:
        """What the lower view can be of: an output in the spectrogram; in the histogram everything, or a node inside."""
        view, chosen = self.below.currentText(), self.of.currentText()
        listed = self.names
        if view == "histogram":
            listed = [ALL, *(node.name for node in self.bench.nodes)] if self.bench is not None else []
        first = listed[0 if view == "histogram" else -1] if listed else ""
        self.of.clear()
        self.of.addItems(listed)
        self.of.setCurrentText(chosen if chosen in listed else first)
        self.of.setVisible(view == "spectrogram" or (view == "histogram" and len(listed) > 1))

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
            self._show_spectra(self._everything())
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
                name: (histogram(values, full, steps.get(name, bench.step)), full, _look(name))
                for name, values, full, _ in self._everything()
            })  # fmt: skip
        elif isinstance(plot, ConstellationPlot):
            plot.show_symbols({h.name: (h.received[0], _look(h.name)) for h in bench.through if h.received})
            if not any(h.received for h in bench.through):
                plot.tell("no modulated carrier is on the bench, or too short a one: add one as a part")

    def chosen_output(self, bench: Bench) -> Heard:
        """The one in the spectrogram, else the last that is the filter's own."""
        named = {heard.name: heard for heard in bench.through}
        if self.below.currentText() == "spectrogram" and self.of.currentText() in named:
            return named[self.of.currentText()]
        own = [heard for heard in bench.through if heard.name in LOOKS]
        return own[-1] if own else bench.through[-1]

    def _take_node(self, found: tuple[Bench, str, Histogram]) -> None:
        """Values of a node have come: where they are still looked at, its range and how often it was left."""
        bench, name, values = found
        plot = self.others.get("histogram")
        if bench is not self.bench or name != self.of.currentText() or not isinstance(plot, HistogramPlot):
            return
        node = next(each for each in bench.nodes if each.name == name)
        plot.plain_unit = "of the node's range"
        plot.show_histograms({name: (values, _reach(node), _look("bit-true"))})
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
            plot.addItem(made, ignoreBounds=True)
            self.strokes[key] = made
        role, width, dashed = _look(name)
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

    def _show_spectra(self, everything: Sequence[tuple[str, Array, float, float]]) -> None:
        peak, rate = -60.0, max((own for *_, own in everything), default=1.0)
        for name, values, full, own in everything:
            hz, level = lines_of(values / full, own)
            stroke = self._stroke("spectrum", name)
            stroke.show_points(hz, level)
            stroke.setVisible(True)
            peak = max(peak, float(np.max(level)))
        for item in self.limits:
            self.spectrum.removeItem(item)
        self.limits = []
        if self.requirement is not None and everything:
            top = float(np.max(lines_of(everything[0][1] / everything[0][2], everything[0][3])[1]))
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
                    self.spectrum.addItem(item, ignoreBounds=True)
                    self.limits.append(item)
        self.spectrum.set_home(0.0, rate / 2, max(FLOOR_DB, peak - 130), peak + 8)


class BenchPage(Page):
    """The view as the register knows it."""

    def __init__(self) -> None:
        super().__init__()
        self.view = BenchView()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.view)

    def show_scene(self, scene: Scene) -> None:
        """Another bench."""
        results = scene.results
        self.view.show_bench(
            results.bench, scene.requirement, scene.counted, scene.trouble("bench"), "bench" in results.fresh
        )

    @property
    def plot(self) -> Plot:
        """The time plot."""
        return self.view.time

    def copy(self) -> str:
        """The figures."""
        return self.view.copy()

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


def lines_of(values: Array, rate: float) -> tuple[Array, Array]:
    """Levels of lines: the end of a signal through a Hann window, scaled so that a sine of peak 1 reads 0 dB."""
    size = min(len(values), LONGEST_SPECTRUM)
    window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(size) / size) if size > 1 else np.ones(1)
    spectrum = np.abs(np.fft.rfft(values[len(values) - size :] * window)) * 2 / np.sum(window)
    level = 20 * np.log10(np.maximum(spectrum, 10 ** (FLOOR_DB / 20)))
    return np.asarray(np.fft.rfftfreq(size, 1 / rate), dtype=np.float64), np.asarray(level)


def _look(name: str) -> tuple[str, float, bool]:
    if name.startswith("pin "):
        return PIN_ROLES[(int(name.split(":")[0].removeprefix("pin ")) - 1) % len(PIN_ROLES)], 1.2, True
    return LOOKS.get(name, OTHER)


SHOWN_DB = 5e-4
HEAD = ("", "level", "peak", "error rms", "signal to error", "delay", "tones", "")


def rows_of(bench: Bench) -> list[tuple[str, ...]]:
    """A row of figures for the input and every output."""
    given = bench.input.document()
    clipped = f"{bench.clipped} clipped" if bench.clipped else ""
    tones = ", ".join(f"{frequency_text(t['hz'])} at {level_text(t['dbfs'])}" for t in given["tones"])
    rows = [("input", level_text(given["rms_dbfs"]), short(given["peak"], 4), "", "", "", tones, clipped)]
    return rows + [_row(heard) for heard in bench.through]


def _tone(tone: Tone) -> str:
    """Gain and phase, with how far noise may have thrown the gain off where that shows."""
    sure = f" ±{tone.error_db:.1g}" if tone.error_db is not None and tone.error_db > SHOWN_DB else ""
    return f"{tone.gain_db:+.3f}{sure} dB {tone.phase_deg:+.1f}°"


def _row(heard: Heard) -> tuple[str, ...]:
    row = heard.document()
    tones = ", ".join(_tone(tone) for tone in heard.tones)
    remarks = []
    if heard.identical is not None:
        remarks.append("identical" if heard.identical else "DIFFERS")
    if heard.saturated:
        remarks.append(f"{heard.saturated} saturated")
    if heard.evm_db is not None:
        remarks.append(f"error vector {heard.evm_db:.1f} dB".replace("-", "−"))
    is_exact = heard.name == "ideal"
    return (
        heard.name, level_text(row["rms_dbfs"]), short(row["peak"], 4), "" if is_exact else f"{heard.rms_error:.3g}",
        "" if heard.snr_db is None else f"{heard.snr_db:.1f} dB".replace("-", "−"),
        "" if heard.delay_samples is None else f"{heard.delay_samples:.2f}", tones.replace("-", "−"), ", ".join(remarks),
    )  # fmt: skip


def figures_text(bench: Bench) -> str:
    """The figures, tabs between them."""
    nodes = [("node", "least", "most", "share of its range", "left its range")]
    nodes += [
        (node.name, str(node.least), str(node.most), f"{node.share:.4f}", str(node.overflows)) for node in bench.nodes
    ]
    rows = (HEAD, *rows_of(bench), *(nodes if bench.nodes else ()))
    return "\n".join("\t".join(row) for row in rows) + "\n"


def figures_html(bench: Bench) -> str:
    """The figures as a small table."""
    muted = THEME.colors.muted
    head = "".join(f'<td style="color:{muted};padding-right:14px">{cell}</td>' for cell in HEAD)
    body = ""
    for row in rows_of(bench):
        color = THEME.colors.clay if "DIFFERS" in row[-1] else THEME.color(_look(row[0])[0]).name()
        cells = "".join(f'<td style="padding-right:14px">{cell}</td>' for cell in row[1:])
        body += f'<tr><td style="color:{color};padding-right:14px"><b>{row[0]}</b></td>{cells}</tr>'
    inside = (
        f'<div style="color:{muted};font-size:11px">inside: {html.escape(told(bench.nodes))}</div>'
        if bench.nodes
        else ""
    )
    return f'<table style="font-size:11px"><tr>{head}</tr>{body}</table>{inside}'
