"""The main picture: magnitude over the mask, with edges and levels to drag, and the loupe under it."""

from __future__ import annotations

import math
from functools import partial

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from combe.app.plots.axes import FrequencyAxis, Plot
from combe.app.plots.bundle import Bundle
from combe.app.plots.curve import Curve
from combe.app.plots.handle import Handle
from combe.app.plots.mask import Mask, Outline
from combe.app.plots.stroke import Stroke
from combe.app.plots.worst import WorstMark
from combe.app.theme.palette import THEME
from combe.app.widgets.parts import label
from combe.ledger import Line
from combe.requirement import Band, Requirement
from combe.requirement.quantities import level_text
from combe.responses.curves import magnitude_window, notable_points
from combe.responses.evaluate import frequency_response, gain_db

POINTS_IN_WINDOW = 900


class MagnitudePlot(QWidget):
    """Main plot and loupe on one frequency axis."""

    edge_moved = pyqtSignal(int, str, float)
    level_moved = pyqtSignal(int, str, float)
    released = pyqtSignal()
    typing_wanted = pyqtSignal(int, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.main = Plot("dB")
        self.main.has_bottom_label = False
        self.main.axis("bottom").showLabel(False)
        self.loupe = Plot("loupe, dB")
        self.loupe.follow(self.main)
        self.loupe.setMinimumHeight(132)
        self.requirement: Requirement | None = None
        self.curves: list[Curve] = []
        self.linear = False
        self._items: list[tuple[Stroke, Stroke]] = []
        self._bundles = (Bundle(), Bundle())
        self._words: tuple[Plot, str] | None = None
        self._drawn: dict[int, tuple[tuple[object, ...], float, float, float]] = {}
        """Of each curve what it was drawn for, from where to where, and how wide the view was."""
        self._dots = (pg.ScatterPlotItem(pxMode=True), pg.ScatterPlotItem(pxMode=True))
        self._marks: list[WorstMark] = []
        self._handles: list[Handle] = []
        self._placed: dict[Handle, object] = {}
        """What each was placed for."""
        self._shape: list[bool] = []
        self.main_mask, self.loupe_mask, self.outline = Mask(), Mask(passbands_only=True), Outline()
        self.main.add(self.outline)
        self.outline.hide()
        self.cursors: dict[str, float] = {}
        self._cursor_items: dict[str, pg.InfiniteLine] = {}
        self.cursor_words = label("")
        self.cursor_words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.cursor_words.hide()
        self.cursor_lines = [pg.InfiniteLine(angle=90, movable=False) for _ in range(2)]
        for plot, mask, line, dots in zip(
            (self.main, self.loupe), (self.main_mask, self.loupe_mask), self.cursor_lines, self._dots
        ):
            plot.add(mask)
            line.hide()
            plot.add(line)
            plot.add(dots)
            plot.pointed.connect(self._on_pointed)
            dots.setZValue(20)
        for plot, bundle in zip((self.main, self.loupe), self._bundles):
            bundle.setZValue(-1)
            plot.add(bundle)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self.cursor_words)
        layout.addWidget(self.main, 7)
        layout.addWidget(self.loupe, 2)
        self.main.marked.connect(lambda name, x: self.set_cursor(name, float(self.axis.hz_of(x))))
        self.main.was_reset.connect(self.loupe.go_home)
        self.loupe.was_reset.connect(self.main.go_home)
        self.main.view.sigRangeChanged.connect(lambda *_: self._draw_curves())
        self.main.axis("bottom").setStyle(showValues=False)
        self.main.axis("bottom").setHeight(6)

    # -- values ----------------------------------------------------------------------------------------------

    def show_requirement(self, requirement: Requirement, counted: str = "hz") -> None:
        """Draw another mask, keeping handles that are held."""
        self.requirement = requirement
        self.main.unit = "gain" if self.linear else "dB"
        for plot in (self.main, self.loupe):
            assert plot.frequency_axis is not None
            plot.frequency_axis.set_rate(requirement.sample_rate_hz, counted)
            plot.label_axes()
        self.main_mask.show_requirement(requirement, self.linear)
        self.loupe_mask.show_requirement(requirement, False, self._centers())
        self._set_home(requirement)
        self._place_handles(requirement)
        if self._words is not None:
            plot, words = self._words
            plot.tell(words)  # with the picture: told earlier it would be painted for itself
            self._words = None

    def show_levels(self, levels: Requirement | None) -> None:
        """Outline the bands a design has made for itself; None where it had none to make."""
        self.outline.setVisible(levels is not None)
        if levels is not None:
            self.outline.show_requirement(levels, self.linear)

    def show_curves(self, curves: list[Curve]) -> None:
        """Draw other responses; the last lies on top."""
        self.curves = curves
        while len(self._items) > len(curves):
            for plot, item in zip((self.main, self.loupe), self._items.pop()):
                plot.take_out(item)
        while len(self._items) < len(curves):
            pair = (Stroke(), Stroke())
            for plot, item in zip((self.main, self.loupe), pair):
                plot.add(item)
            self._items.append(pair)
            self._drawn.pop(len(self._items) - 1, None)
        for z, (curve, pair) in enumerate(zip(curves, self._items)):
            for item in pair:
                item.set_look(THEME.color(curve.role), curve.width, curve.dashed, curve.is_smooth)
                item.setZValue(z)
        self._bundle()
        self._draw_curves()

    def _bundle(self) -> None:
        """Thin lines, which many pins have, are painted together, below all others."""
        thin = [pair for curve, pair in zip(self.curves, self._items) if not curve.is_smooth]
        for bundle, strokes in zip(self._bundles, zip(*thin) if thin else ([], [])):
            if list(strokes) != bundle.strokes:
                bundle.hold(list(strokes))

    def show_lines(self, lines: tuple[Line, ...], close: set[int]) -> None:
        """Mark where limits are missed, or (by index in ``lines``) nearly missed."""
        for mark in self._marks:
            mark.plot.take_out(mark)
        self._marks = []
        for index, line in enumerate(lines):
            if line.at_hz is None or not (line.margin < 0 or index in close):
                continue
            in_loupe = (
                self.requirement is not None
                and line.band_index >= 0
                and self.requirement.bands[line.band_index].is_passband
            )
            plot = self.loupe if in_loupe else self.main
            level = line.reached - (self._centers().get(line.band_index, 0.0) if in_loupe else 0.0)
            mark = WorstMark(plot, line, 10 ** (level / 20) if self.linear and not in_loupe else level)
            plot.add(mark)
            self._marks.append(mark)

    def show_measured(self, lines: tuple[Line, ...]) -> None:
        """Dots where a tone was measured."""
        spots: tuple[list[tuple[float, float]], list[tuple[float, float]]] = ([], [])
        for line in lines:
            if line.at_hz is not None and self.requirement is not None:
                level = 10 ** (line.reached / 20) if self.linear else line.reached
                place = float(self.axis.x_of(line.at_hz))
                spots[0].append((place, level))
                if self.requirement.bands[line.band_index].is_passband:
                    spots[1].append((place, line.reached - self._centers().get(line.band_index, 0.0)))
        for dots, places in zip(self._dots, spots):
            dots.setVisible(bool(places))
            dots.setData(pos=np.array(places).reshape(-1, 2), size=7, symbol="o", pen=pg.mkPen(THEME.color("heather"), width=1.6),
                         brush=THEME.color("raised"))  # fmt: skip

    @property
    def axis(self) -> FrequencyAxis:
        """The frequency axis."""
        assert self.main.frequency_axis is not None
        return self.main.frequency_axis

    def set_log(self, is_log: bool) -> None:
        """Frequencies by decades, or evenly again."""
        for plot in (self.main, self.loupe):
            assert plot.frequency_axis is not None
            plot.frequency_axis.set_log(is_log)
            plot.is_zoomed = False
        for mask in (self.main_mask, self.loupe_mask, self.outline):
            mask.set_axis(lambda hz: float(self.axis.x_of(hz)), is_log)
        if self.requirement is not None:
            self.show_requirement(self.requirement, self.axis.counted)
        self._draw_curves()
        for name in list(self.cursors):
            self.set_cursor(name, self.cursors[name])

    def show_ticks(self, are_own: bool) -> None:
        """Figures under the main plot itself, where the loupe below it is hidden."""
        self.main.axis("bottom").setStyle(showValues=are_own)
        self.main.axis("bottom").setHeight(22 if are_own else 6)

    def set_linear(self, linear: bool) -> None:
        """Show gain instead of decibels, or decibels again."""
        self.linear = linear
        self.main.is_zoomed = False
        if self.requirement is not None:
            counted = self.main.frequency_axis.counted if self.main.frequency_axis else "hz"
            self.show_requirement(self.requirement, counted)
        if self.outline.requirement is not None:
            self.outline.show_requirement(self.outline.requirement, linear)
        self._draw_curves()

    def point_at(self, line: Line) -> None:
        """Bring a ledger line's worst point into view."""
        if line.at_hz is None or self.requirement is None or line.band_index >= len(self.requirement.bands):
            return
        band = self.requirement.bands[line.band_index]
        width = max((band.stop_hz - band.start_hz) / 4, self.requirement.nyquist_hz / 64)
        low, high = (float(self.axis.x_of(max(line.at_hz + way * width / 2, 0.0))) for way in (-1, 1))
        self.main.show_around((low + high) / 2, high - low)
        self.loupe.is_zoomed = True
        for mark_line in self.cursor_lines:
            mark_line.setPen(pg.mkPen(THEME.color("river"), width=1, style=Qt.PenStyle.DotLine))
            mark_line.setPos(float(self.axis.x_of(line.at_hz)))
            mark_line.show()

    # -- cursors ---------------------------------------------------------------------------------------------

    def set_cursor(self, name: str, hz: float) -> None:
        """Put the first or the second cursor at a frequency."""
        if self.requirement is None:
            return
        self.cursors[name] = min(max(hz, 0.0), self.requirement.nyquist_hz)
        if name not in self._cursor_items:
            self._cursor_items[name] = pg.InfiniteLine(angle=90, movable=False)
            self.main.add(self._cursor_items[name])
        style = Qt.PenStyle.SolidLine if name == "first" else Qt.PenStyle.DashLine
        self._cursor_items[name].setPen(pg.mkPen(THEME.color("heather"), width=1.2, style=style))
        self._cursor_items[name].setPos(float(self.axis.x_of(self.cursors[name])))
        self._tell_cursors()

    def jump(self, kind: str) -> None:
        """Move the first cursor to the next point of a kind, the second to the first, or clear both."""
        if kind == "clear":
            for item in self._cursor_items.values():
                self.main.take_out(item)
            self.cursors, self._cursor_items = {}, {}
            self.cursor_words.hide()
        elif kind == "second":
            if "first" in self.cursors:
                self.set_cursor("second", self.cursors["first"])
        elif self.requirement is not None and self.curves:
            turn = self.requirement.sample_rate_hz / (2 * np.pi)
            places = notable_points(self.curves[-1].filter, kind) * turn
            here = self.cursors.get("first", -1.0)
            later = places[places > here * (1 + 1e-9) + 1e-9]
            if len(places):
                self.set_cursor("first", float(later[0] if len(later) else places[0]))

    def _tell_cursors(self) -> None:
        """Both cursors, and what lies between them."""
        assert self.requirement is not None
        if not self.curves:
            return
        turn = 2 * np.pi / self.requirement.sample_rate_hz
        source = self.curves[-1].filter
        level = {
            name: float(gain_db(frequency_response(source, np.array([hz * turn])))[0])
            for name, hz in self.cursors.items()
        }
        words = [
            f"{name} {self.main.frequency_words(self.cursors[name])}, {level_text(level[name], 3)}"
            for name in sorted(level)
        ]
        if len(level) == 2:
            between = self.main.frequency_words(abs(self.cursors["second"] - self.cursors["first"]))
            words.append(f"between them {between}, {level_text(level['second'] - level['first'], 3)}")
        self.cursor_words.setText(" · ".join(words))
        self.cursor_words.show()

    def dress(self) -> None:
        """Take on the theme's colours."""
        for plot in (self.main, self.loupe):
            plot.dress()
        self.show_curves(self.curves)
        self.main_mask.update()
        self.loupe_mask.update()
        self.outline.update()

    def go_home(self) -> None:
        """Show everything again."""
        for plot, line in zip((self.main, self.loupe), self.cursor_lines):
            plot.go_home()
            line.hide()

    # -- inside ----------------------------------------------------------------------------------------------

    def _centers(self) -> dict[int, float]:
        """The middle of each passband's limits: the loupe shows the distance from it."""
        if self.requirement is None:
            return {}
        middles = {}
        for index, band in enumerate(self.requirement.bands):
            if band.lower is not None:
                middles[index] = (band.upper.first_db + band.lower.first_db) / 2
        same = set(middles.values())
        return dict.fromkeys(middles, 0.0) if len(same) == 1 and abs(next(iter(same))) < 1 else middles

    def _set_home(self, requirement: Requirement) -> None:
        highest = max(db for band in requirement.passbands for _, db in band.upper.points)
        stops = [db for band in requirement.stopbands for _, db in band.upper.points]
        lowest = min(stops, default=-60.0) - 35
        span = highest - lowest
        first, last = float(self.axis.x_of(0.0)), float(self.axis.x_of(requirement.nyquist_hz))
        pad = (last - first) * 0.012
        if self.linear:
            self.main.set_home(first - pad, last + pad, -0.03, 10 ** (highest / 20) * 1.12)
        else:
            self.main.set_home(first - pad, last + pad, lowest, highest + 0.08 * span)
        centers = self._centers()
        tops = [
            db - centers[k] for k, band in enumerate(requirement.bands) if band.lower for _, db in band.upper.points
        ]
        lows = [
            db - centers[k] for k, band in enumerate(requirement.bands) if band.lower for _, db in band.lower.points
        ]
        room = (max(tops) - min(lows)) * 0.45
        self.loupe.set_home(first - pad, last + pad, min(lows) - room, max(tops) + room)

    def _draw_curves(self) -> None:
        if self.requirement is None:
            return
        turn = self.requirement.sample_rate_hz / (2 * np.pi)
        (left, right), _ = self.main.view.viewRange()
        left, right = float(self.axis.hz_of(left)), float(self.axis.hz_of(right))
        start, stop = max(left / turn, 0.0), min(right / turn, np.pi)
        if stop <= start:
            return
        centers, span = self._centers(), (right - left) / turn
        for place, (curve, pair) in enumerate(zip(self.curves, self._items)):
            key = (curve, self.linear, self.axis.is_log, turn, centers)
            known, from_, to, wide = self._drawn.get(place, ((), 0.0, 0.0, 0.0))
            if known == key and from_ <= start and stop <= to and abs(wide - span) < 1e-6 * span:
                continue
            # A view that moves over a curve soon wants what lies beside it.
            room = span / 2 if known == key and not self.axis.is_log else 0.0
            first, last = max(start - room, 0.0), min(stop + room, np.pi)
            self._drawn[place] = key, first, last, span
            count = round(POINTS_IN_WINDOW * (last - first) / (stop - start))
            omega, level = magnitude_window(curve.filter, first, last, count)
            if self.axis.is_log:
                more = np.geomspace(max(start, self.axis.floor_hz / turn), stop, POINTS_IN_WINDOW // 2)
                omega = np.concatenate([omega, more])
                level = np.concatenate([level, gain_db(frequency_response(curve.filter, more))])
                order = np.argsort(omega, kind="stable")
                omega, level = omega[order], level[order]
            hz = omega * turn
            x = self.axis.x_of(hz)
            pair[0].show_points(x, 10 ** (level / 20) if self.linear else level)
            pair[1].show_points(x, level - self._center_at(hz))
            for bundle in self._bundles:
                bundle.prepareGeometryChange()

    def _center_at(self, hz: np.ndarray) -> np.ndarray | float:
        centers = self._centers()
        assert self.requirement is not None
        if len(set(centers.values())) <= 1:
            return next(iter(centers.values()), 0.0)
        bands = [self.requirement.bands[k] for k in centers]
        distance = np.array([np.maximum(np.maximum(b.start_hz - hz, hz - b.stop_hz), 0) for b in bands])
        return np.array(list(centers.values()))[np.argmin(distance, axis=0)]

    def _on_pointed(self, place: float, _: float) -> None:
        x = float(self.axis.hz_of(place))
        if self.requirement is None or not 0 <= x <= self.requirement.nyquist_hz:
            return
        words = [self.main.frequency_words(x)]
        for curve in self.curves:
            omega = np.array([2 * np.pi * x / self.requirement.sample_rate_hz])
            level = float(gain_db(frequency_response(curve.filter, omega))[0])
            words.append(f"{curve.name} {level_text(level, 3)}")
        self.main.tell("   ".join(words))

    # -- handles ---------------------------------------------------------------------------------------------

    def _place_handles(self, requirement: Requirement) -> None:
        shape = [band.is_passband for band in requirement.bands]
        if shape != self._shape:
            for handle in self._handles:
                handle.scene().removeItem(handle)
            self._handles = []
            self._placed = {}
            self._shape = shape
            for index, band in enumerate(requirement.bands):
                self._make_handles(index, band)
        centers, axis = self._centers(), (requirement.nyquist_hz, self.axis.is_log, self.linear)
        for handle in self._handles:
            key = (requirement.bands[handle.band], centers, axis, handle.is_held)
            if self._placed.get(handle) != key:  # under the hand one of them moves, or two
                self._placed[handle] = key
                self._place(handle, requirement)

    def _make_handles(self, index: int, band: Band) -> None:
        kinds = [("start", self.main), ("stop", self.main)]
        kinds += [("upper", self.loupe), ("lower", self.loupe)] if band.is_passband else [("upper", self.main)]
        for kind, plot in kinds:
            sideways = kind in ("start", "stop")
            what = f"{'edge' if sideways else 'limit'} of {band.name}"
            tip = f"Drag the {what}{', with Shift the whole band' if sideways else ''}; double click to type it"
            handle = Handle(sideways, tip, index, kind)
            handle.moved.connect(partial(self._on_moved, handle))
            handle.released.connect(self.released)
            handle.typing_wanted.connect(partial(self.typing_wanted.emit, index, kind))
            plot.add(handle)
            self._handles.append(handle)

    def _place(self, handle: Handle, requirement: Requirement) -> None:
        index, kind = handle.band, handle.kind
        band = requirement.bands[index]
        level = band.upper.first_db if kind != "lower" and not band.is_passband else 0.0
        if handle.sideways:
            hz = band.start_hz if kind == "start" else band.stop_hz
            db = band.upper.points[0 if kind == "start" else -1][1]
            if band.lower is not None:
                db = (db + band.lower.points[0 if kind == "start" else -1][1]) / 2
            handle.setPos(float(self.axis.x_of(hz)), 10 ** (db / 20) if self.linear else db)
            at_end = hz in (0.0, requirement.nyquist_hz)
            handle.setVisible(not at_end or handle.is_held)
            return
        middle = (self.axis.x_of(band.start_hz) + self.axis.x_of(band.stop_hz)) / 2
        hz = float(middle)
        if band.lower is not None:
            limit = band.upper if kind == "upper" else band.lower
            level = limit.first_db - self._centers().get(index, 0.0)
            handle.setPos(hz, level)
            return
        handle.setPos(hz, 10 ** (level / 20) if self.linear else level)

    def _on_moved(self, handle: Handle, x: float, y: float) -> None:
        index, kind = handle.band, handle.kind
        plot = self.loupe if handle.getViewBox() is self.loupe.view else self.main
        (left, right), (bottom, top) = plot.view.viewRange()
        if handle.sideways:
            pixel = (right - left) / max(plot.width(), 1)
            place = float(self.axis.hz_of(x))
            hz = snapped(place, place * math.log(10) * pixel if self.axis.is_log else pixel)
            self._words = self.main, self.main.frequency_words(hz)
            self.edge_moved.emit(index, f"whole {kind}" if handle.is_whole else kind, hz)
            return
        if plot is self.loupe:
            y += self._centers().get(index, 0.0)
        elif self.linear:
            y = 20 * math.log10(max(y, 1e-6))
        db = snapped(y, (top - bottom) / max(plot.height(), 1))
        self._words = plot, level_text(db, 3)
        self.level_moved.emit(index, kind, db)


def snapped(value: float, per_pixel: float) -> float:
    """The nearest round figure no coarser than a pixel or two."""
    if per_pixel <= 0:
        return value
    decade = 10 ** math.floor(math.log10(per_pixel * 2))
    step = next(decade * k for k in (1, 2, 5, 10) if decade * k >= per_pixel)
    return round(round(value / step) * step, 12)
