"""The bench's lower view: spectra with the brief's mask, a spectrogram, histograms or a constellation. What it draws is worked out
aside, and known for as long as the bench is."""

from __future__ import annotations

from itertools import zip_longest
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QStackedWidget, QWidget

from combe.app.jobs import Errand
from combe.app.pages.bench_figures import LOOKS, look_of
from combe.app.pages.bench_mask import SpectrumMask
from combe.app.plots.axes import Plot
from combe.app.plots.level_stroke import LevelStroke
from combe.app.plots.signal_views import RANGE_DB, ConstellationPlot, HistogramPlot, SpectrogramPlot
from combe.app.plots.stroke import Stroke
from combe.app.theme.palette import THEME
from combe.app.widgets.parts import Choice
from combe.benching.asks import HEARD
from combe.benching.levels import Levels
from combe.benching.setup import BenchSetup
from combe.benching.views import (
    DENSITIES,
    FLOOR_DB,
    LINES,
    histogram_inside,
    histograms_of,
    reach_of,
    signals_of,
    spectra_of,
    spectrogram,
)  # fmt: skip
from combe.requirement.quantities import short

if TYPE_CHECKING:
    from combe.benching.heard import Heard
    from combe.benching.nodes import NodeUse
    from combe.benching.run import Bench
    from combe.requirement import Requirement

KEPT = 4
"""Views of one bench that are known: a spectrum of a long signal is as long."""
ALL = "input and outputs"
LOWER = ("spectra", "spectrogram", "histogram", "constellation")


class BenchLower(QStackedWidget):
    """One of :data:`LOWER`; ``turned`` tells which once it is another. ``which`` and ``of`` choose it, for the page's head."""

    turned = pyqtSignal(str)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.bench: Bench | None = None
        self.requirement: Requirement | None = None
        self.setup = BenchSetup()
        self.top_db = 0.0
        self.which = Choice()
        self.which.setAccessibleName("lower view")
        self.which.addItems(LOWER)
        self.which.activated.connect(lambda _: self.show_view(self.which.currentText()))
        self.of = Choice()
        self.of.setAccessibleName("what the lower view is of")
        self.of.activated.connect(lambda _: self.show_again())
        self.of.hide()
        self.spectrum = Plot("dB of full scale")
        self.addWidget(self.spectrum)
        self.others: dict[str, SpectrogramPlot | HistogramPlot | ConstellationPlot] = {}
        self.spectrum_mask = SpectrumMask(self.spectrum, parent)
        self.spectrum_mask.changed.connect(lambda _: self._show_density())
        self.strokes: dict[str, LevelStroke] = {}
        self.limits: list[Stroke] = []
        self._known: dict[tuple[str, str], object] = {}
        self._errand = Errand(is_patient=True)
        self._errand.arrived.connect(self._take)
        self.spectrum.pointed.connect(
            lambda x, y: self.spectrum.tell(f"{self.spectrum.frequency_words(x)}   {short(y, 4)} dB")
        )

    def show_setup(self, requirement: Requirement, counted: str, setup: BenchSetup) -> None:
        """What stands on the bench, and how frequencies are counted."""
        self.requirement, self.setup = requirement, setup
        if self.spectrum.frequency_axis is not None:
            self.spectrum.frequency_axis.set_rate(requirement.sample_rate_hz, counted)
        self.spectrum.label_axes()

    def show_bench(self, bench: Bench | None) -> None:
        """Another one, or none."""
        self.bench, self._known = bench, {}
        self.list_outputs()
        if bench is None:
            for stroke in self.strokes.values():
                stroke.setVisible(False)
        self.show_again()

    def show_view(self, name: str) -> None:
        """Another of :data:`LOWER`."""
        self.which.setCurrentText(name)
        if name != LOWER[0] and name not in self.others:
            made = {"spectrogram": SpectrogramPlot, "histogram": HistogramPlot, "constellation": ConstellationPlot}[
                name
            ]()
            self.others[name] = made
            self.addWidget(made)
        self.setCurrentWidget(self.others.get(name, self.spectrum))
        self.list_outputs()
        self.turned.emit(name)
        self.show_again()

    def plots(self) -> list[Plot]:
        """All of them."""
        return [self.spectrum, *self.others.values()]

    @property
    def names(self) -> list[str]:
        """The input, then every output."""
        return [] if self.bench is None else ["input", *(heard.name for heard in self.bench.through)]

    def list_outputs(self) -> None:
        """What the view can be of: lines or a density; an output in the spectrogram; everything, or a node inside."""
        view, chosen = self.which.currentText(), self.of.currentText()
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

    def chosen_output(self, bench: Bench) -> Heard:
        """The one in the spectrogram, else the last that is the filter's own."""
        named = {heard.name: heard for heard in bench.through}
        if self.which.currentText() == "spectrogram" and self.of.currentText() in named:
            return named[self.of.currentText()]
        own = [heard for heard in bench.through if heard.name in LOOKS]
        return own[-1] if own else bench.through[-1]

    # -- worked out, and drawn -------------------------------------------------------------------------------

    @property
    def _key(self) -> tuple[str, str]:
        view = self.which.currentText()
        return view, self.of.currentText() if view != "constellation" else ""

    def show_again(self) -> None:
        """Draw the view: at once where what it shows is known, else as soon as it is."""
        bench, key = self.bench, self._key
        if bench is None:
            return
        if key in self._known:
            self._draw(bench, *key, self._known[key])
        else:
            self._errand.send(lambda: (bench, key, _found(bench, *key)))

    def _take(self, found: tuple[Bench, tuple[str, str], object]) -> None:
        """What was worked out has come: it is drawn where it is still looked at."""
        bench, key, value = found
        if bench is self.bench:
            self._known[key] = value
            while len(self._known) > KEPT:
                self._known.pop(next(iter(self._known)))
            if key == self._key:
                self._draw(bench, *key, value)

    def _draw(self, bench: Bench, view: str, of: str, value: Any) -> None:
        plot = self.others.get(view)
        if value is None:
            return
        if view == "spectra":
            self._draw_spectra(of, value)
        elif isinstance(plot, SpectrogramPlot):
            found, shades, rate, count = value
            plot.show_spectrogram(found, shades, rate, count, self.requirement)
        elif isinstance(plot, HistogramPlot) and of == ALL:
            plot.plain_unit = "of full scale"
            plot.show_histograms({name: (each, full, look_of(name)) for name, (each, full) in value.items()})
        elif isinstance(plot, HistogramPlot):
            self._draw_node(plot, next(node for node in bench.nodes if node.name == of), value)
        elif isinstance(plot, ConstellationPlot):
            plot.show_symbols({name: (each, look_of(name)) for name, each in value.items()})
            if not value:
                plot.tell("no modulated carrier is on the bench, or too short a one: add one as a part")

    def _draw_node(self, plot: HistogramPlot, node: NodeUse, value: Any) -> None:
        """Values of a node, its range, and how often it was left."""
        plot.plain_unit = "of the node's range"
        plot.show_histograms({node.name: (value, reach_of(node), look_of("bit-true"))})
        plot.tell(
            f"{node.name}: {node.least:,} to {node.most:,} of {node.lowest:,} to {node.highest:,}, ".replace("-", "−")
            + (f"out of range {node.overflows:,} times" if node.overflows else "never out of range")
        )

    def _draw_spectra(self, kind: str, found: dict[str, tuple[Levels, float, float]]) -> None:
        for stroke in self.strokes.values():
            stroke.setVisible(False)
        last = 0.0
        for name, (levels, step, _) in found.items():
            if name not in self.strokes:
                self.strokes[name] = LevelStroke()
                self.spectrum.add(self.strokes[name])
            stroke = self.strokes[name]
            role, width, dashed = look_of(name)
            stroke.set_look(THEME.color(role), width, dashed)
            stroke.show_levels(levels, 0.0, step, 1.0)
            stroke.setVisible(True)
            last = max(last, (levels.count - 1) * step)
        peak = max(top for _, _, top in found.values())
        self._draw_limits(found["input"][2])
        if HEARD in found:
            self.top_db = found[HEARD][2]
        self.show_mask()
        self.spectrum.unit = "dB of full scale" if kind in LINES else "dB per Hz"
        self.spectrum.label_axes()
        self.spectrum.set_home(0.0, last, max(FLOOR_DB, peak - 130), peak + 8)

    def _draw_limits(self, top: float) -> None:
        """The brief's mask, hung from the highest line of the input."""
        bands = self.requirement.bands if self.requirement is not None else ()
        limits = [limit.points for band in bands for limit in (band.upper, band.lower) if limit is not None]
        while len(self.limits) < len(limits):
            self.limits.append(Stroke())
            self.spectrum.add(self.limits[-1])
        for line, points in zip_longest(self.limits, limits):
            line.setVisible(points is not None)
            if points is not None:
                line.set_look(THEME.color("mask"), 1.4, dashed=True)
                line.show_points(*(np.array(points).T + [[0.0], [top]]))

    def show_mask(self) -> None:
        """Against densities: lines of a longer window stand elsewhere."""
        if self.requirement is not None:
            is_seen = self.of.currentText() in DENSITIES and HEARD in self.names
            self.spectrum_mask.show_asks(self.setup.asks, self.requirement.input_rate_hz, self.top_db, is_seen)

    def _show_density(self) -> None:
        """Where a mask can be seen."""
        if self.of.currentText() in LINES:
            self.of.setCurrentText(next(iter(DENSITIES)))
            self.show_again()


def _found(bench: Bench, view: str, of: str) -> object:
    """What a view of a bench draws; None where it is of something that isn't there."""
    if view == "spectra":
        # Lines stand at even distances from 0 on, as samples do.
        return {
            name: (Levels.of(level), float(hz[1]) if len(hz) > 1 else 1.0, float(np.max(level)))
            for name, (hz, level) in spectra_of(bench, of).items()
        }  # fmt: skip
    if view == "spectrogram":
        for name, values, full, rate in signals_of(bench):
            if name == of:
                found = spectrogram(values / full)
                return found, found.shades(RANGE_DB), rate, len(values)
        return None
    if view == "constellation":
        return {heard.name: heard.received[0] for heard in bench.through if heard.received}
    node = next((node for node in bench.nodes if node.name == of), None)
    return histogram_inside(bench, node) if node is not None else histograms_of(bench)
