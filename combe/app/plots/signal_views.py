"""Plots of what came out of a bench besides samples and spectra: spectrogram, histogram, constellation."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pyqtgraph as pg
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor

from combe.app.plots.axes import Plot
from combe.app.plots.dots import Dots
from combe.app.plots.stroke import Stroke
from combe.app.theme.palette import THEME
from combe.benching.views import Histogram, Spectrogram
from combe.requirement import Requirement
from combe.requirement.quantities import short

if TYPE_CHECKING:
    from combe.signals.modulation import Received

Array = NDArray[np.float64]
RANGE_DB = 100.0
"""Levels from the highest so far down are told apart by colour."""
LEAST_SHARE_DB = -60.0
DOT = 3.5


class SpectrogramPlot(Plot):
    """Frequency over time, the level as colour; the brief's band edges as lines."""

    def __init__(self) -> None:
        super().__init__("kHz", frequency=False)
        self.plain_unit = "ms"
        self.picture = pg.ImageItem()
        self.picture.setZValue(-20)
        self.add(self.picture)
        self.found: Spectrogram | None = None
        self.rate = 1.0
        self._edges: list[pg.InfiniteLine] = []
        self.pointed.connect(self._tell)

    def show_spectrogram(
        self, found: Spectrogram, shades: NDArray[np.uint8], rate: float, samples: int, requirement: Requirement | None
    ) -> None:
        """Another one, over so many samples, and how it is shaded."""
        self.found, self.rate = found, rate
        rows, columns = found.levels.shape
        step = (found.times[-1] - found.times[0]) / max(columns - 1, 1) if columns > 1 else float(found.size)
        left = (found.times[0] - step / 2) / rate * 1e3
        half_row = rate / 2 / max(rows - 1, 1) / 2e3
        self.picture.setImage(shades, levels=(0, 255), autoLevels=False)
        self.picture.setRect(QRectF(left, -half_row, columns * step / rate * 1e3, rate / 2e3 + 2 * half_row))
        self.picture.setLookupTable(_colors())
        for line in self._edges:
            self.take_out(line)
        self._edges = []
        for hz in sorted(
            {hz for band in requirement.bands for hz in (band.start_hz, band.stop_hz)} if requirement else ()
        ):
            if 0 < hz < rate / 2:
                line = pg.InfiniteLine(hz / 1e3, angle=0, pen=pg.mkPen(THEME.color("mask", 150), width=1))
                self.add(line)
                self._edges.append(line)
        self.label_axes()
        self.set_home(0.0, max(samples - 1, 1) / rate * 1e3, 0.0, rate / 2e3)

    def level_at(self, time_ms: float, khz: float) -> float | None:
        """The level in dB of full scale at a place; None beside the picture."""
        if self.found is None:
            return None
        column = int(np.argmin(np.abs(self.found.times - time_ms * self.rate / 1e3)))
        row = round(khz * 2e3 / self.rate * (self.found.levels.shape[0] - 1))
        return float(self.found.levels[row, column]) if 0 <= row < self.found.levels.shape[0] else None

    def _tell(self, x: float, y: float) -> None:
        level = self.level_at(x, y)
        if level is not None:
            self.tell(f"{short(x, 5)} ms   {short(y, 5)} kHz   {short(level, 4)} dB")


class HistogramPlot(Plot):
    """How often each value comes, in dB of all samples, an outline for each output."""

    def __init__(self) -> None:
        super().__init__("dB of all samples", frequency=False)
        self.plain_unit = "of full scale"
        self.strokes: dict[str, Stroke] = {}
        self.pointed.connect(lambda x, y: self.tell(f"{short(x, 4)} of full scale   {short(y, 4)} dB"))

    def show_histograms(self, found: dict[str, tuple[Histogram, float, tuple[str, float, bool]]]) -> None:
        """Others, by name: each with its full scale and its look."""
        for stroke in self.strokes.values():
            stroke.setVisible(False)
        reach, floor = 1.0, LEAST_SHARE_DB
        for name, (each, full, look) in found.items():
            if name not in self.strokes:
                self.strokes[name] = Stroke()
                self.add(self.strokes[name])
            total = max(int(np.sum(each.counts)), 1)
            floor = min(floor, 10 * np.log10(0.5 / total))
            share = 10 * np.log10(np.maximum(each.counts / total, 1e-12))
            x = np.repeat(each.edges / full, 2)[1:-1]
            stroke = self.strokes[name]
            stroke.set_look(THEME.color(look[0]), look[1], look[2])
            stroke.show_points(x, np.repeat(np.maximum(share, floor), 2))
            stroke.setVisible(True)
            reach = max(reach, float(np.max(np.abs(each.edges))) / full)
        self.label_axes()
        self.set_home(-1.03 * reach, 1.03 * reach, floor, 3.0)


class ConstellationPlot(Plot):
    """Symbols where they were sent and where they arrived."""

    def __init__(self) -> None:
        super().__init__("quadrature", frequency=False)
        self.plain_unit = "in phase"
        self.view.setAspectLocked(True)
        self.sent = pg.ScatterPlotItem(pxMode=True, symbol="+", size=11)
        self.add(self.sent)
        self.arrived: dict[str, Dots] = {}
        self.pointed.connect(lambda x, y: self.tell(f"{short(x, 4)} {short(y, 4)}j"))

    def show_symbols(self, found: dict[str, tuple[Received, tuple[str, float, bool]]]) -> None:
        """Others, by name, each with its look."""
        for points in self.arrived.values():
            points.setVisible(False)
        reach = 1.0
        for name, (each, look) in found.items():
            if name not in self.arrived:
                self.arrived[name] = Dots(DOT)
                self.add(self.arrived[name])
            self.arrived[name].set_color(THEME.color(look[0], 150))
            self.arrived[name].show_points(each.found.real, each.found.imag)
            self.arrived[name].setVisible(True)
            reach = max(reach, float(np.max(np.abs(each.wanted.real), initial=0.0)) * 1.2)
        first = next((each for each, _ in found.values()), None)
        grid = np.unique(np.round(first.wanted, 9)) if first is not None else np.zeros(0, complex)
        self.sent.setData(grid.real, grid.imag, pen=pg.mkPen(THEME.color("ink"), width=1.2))
        self.label_axes()
        self.set_home(-reach, reach, -reach, reach)

    def place_of(self, symbol: complex) -> QPointF:
        """Where a symbol stands, in the plot's pixels."""
        box = self.view
        return QPointF(self.mapFromScene(box.mapViewToScene(QPointF(symbol.real, symbol.imag))))


def _colors() -> NDArray[np.uint8]:
    """From the page's own colour for silence over river to amber for the loudest."""
    stops = [THEME.color(role) for role in ("card", "line", "river", "heather", "amber")]
    places = np.linspace(0, 1, len(stops))
    at = np.linspace(0, 1, 256)
    parts = [
        np.interp(at, places, [getattr(QColor(stop), name)() for stop in stops]) for name in ("red", "green", "blue")
    ]
    return np.asarray(np.column_stack(parts), dtype=np.uint8)
