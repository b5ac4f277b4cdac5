"""Phase, delay and time: the other views of the same curves."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyqtgraph as pg

from combe.app.jobs import Errand
from combe.app.plots.axes import Plot
from combe.app.plots.curve import Curve
from combe.app.plots.stems import Stems
from combe.app.plots.stroke import Stroke
from combe.app.theme.palette import THEME
from combe.requirement import Requirement
from combe.requirement.quantities import duration_text, short
from combe.responses.views import MODES, Points, view_points

KNOWN = 24
"""Views of filters a plot remembers: pins, and the way back to a mode just left."""


class SidePlot(Plot):
    """A plot of curves in one of a few modes."""

    kind = "phase"

    def __init__(self, kind: str) -> None:
        super().__init__("rad" if kind == "phase" else "samples", frequency=kind != "time")
        self.reference: Curve | None = None
        self.kind = kind
        self.mode = MODES[kind][0]
        self.requirement: Requirement | None = None
        self.curves: list[Curve] = []
        self._items: list[pg.GraphicsObject] = []
        self._known: dict[tuple[object, ...], tuple[Curve, Points]] = {}
        self._errand = Errand(is_patient=True)
        self._errand.arrived.connect(self._take)
        self.bands: list[pg.LinearRegionItem] = []
        self.pointed.connect(self._on_pointed)

    def show_all(self, requirement: Requirement, curves: Sequence[Curve], counted: str = "hz") -> None:
        """Another requirement, other filters; differences are taken to the first pin."""
        self.reference = next((curve for curve in curves if curve.is_pin), None)
        self.show_requirement(requirement, counted)
        self.show_curves(list(curves))

    def show_requirement(self, requirement: Requirement, counted: str = "hz") -> None:
        """Take another sample rate, and shade the passbands."""
        self.requirement = requirement
        if self.frequency_axis is not None:
            self.frequency_axis.set_rate(requirement.sample_rate_hz, counted)
            for region in self.bands:
                self.take_out(region)
            self.bands = []
            for band in requirement.passbands:
                ends = [float(self.frequency_axis.x_of(hz)) for hz in (band.start_hz, band.stop_hz)]
                region = pg.LinearRegionItem(ends, movable=False, brush=THEME.color("moss", 18), pen=None)
                for line in region.lines:
                    line.setPen(pg.mkPen(THEME.color("moss", 90), width=1))
                region.setZValue(-10)
                self.add(region)
                self.bands.append(region)
        self.label_axes()

    def set_mode(self, mode: str) -> None:
        """Another way of looking at the same."""
        self.mode = mode
        self.is_zoomed = False
        self.show_curves(self.curves)

    def dress(self) -> None:
        """Take on the theme's colours."""
        super().dress()
        requirement = getattr(self, "requirement", None)
        if requirement is not None:
            self.show_requirement(requirement, self.frequency_axis.counted if self.frequency_axis else "hz")
            self.show_curves(self.curves)

    def show_curves(self, curves: list[Curve]) -> None:
        """Draw other filters: at once where their points are known, else as soon as they have been worked out."""
        self.curves = curves
        missing = [curve for curve in self._drawn() if self._key(curve) not in self._known]
        if self.requirement is None or not missing:
            self._draw()
            return
        kind, mode, rate = self.kind, self.mode, self.requirement.sample_rate_hz
        reference = self.reference.filter if self.reference is not None else None
        keys = [self._key(curve) for curve in missing]

        def work() -> object:
            found = [view_points(kind, mode, rate, curve.filter, reference) for curve in missing]
            return dict(zip(keys, zip(missing, found)))

        self._errand.send(work)

    def _take(self, found: dict[tuple[object, ...], tuple[Curve, Points]]) -> None:
        self._errand.is_patient = False  # what has been seen once follows a hand
        self._known.update(found)
        if all(self._key(curve) in self._known for curve in self._drawn()):
            self._draw()
        while len(self._known) > max(KNOWN, 2 * len(self.curves)):
            self._known.pop(next(iter(self._known)))

    def _key(self, curve: Curve) -> tuple[object, ...]:
        """What a curve's points depend on. Filters go by identity: what is known keeps them, and long ones hash slowly."""
        rate = self.requirement.sample_rate_hz if self.requirement is not None else 0.0
        return self.mode, rate, id(curve.filter), id(self.reference.filter) if self.reference is not None else 0

    def _draw(self) -> None:
        for item in self._items:
            self.take_out(item)
        self._items = []
        if self.requirement is None or not self.curves:
            return
        ranges = []
        for curve in self._drawn():
            x, y = self._placed(curve)
            item = Stems() if self.kind == "time" and self.mode == "impulse" else Stroke()
            item.set_look(THEME.color(curve.role), curve.width, curve.dashed)
            item.show_points(x, y)
            self._items.append(item)
            self.add(item)
            ranges.append((float(x[0]), float(x[-1]), float(np.min(y)), float(np.max(y))))
        if not ranges:
            self.tell("pin a filter first: the difference is taken to the first one shown")
            return
        self._frame(ranges)
        self.unit = self._unit()
        self.plain_unit = "samples"
        self.label_axes()

    def _drawn(self) -> list[Curve]:
        """The curves of this view; a difference needs something to differ from."""
        if self.kind == "level" and self.mode == "difference to pin":
            return [curve for curve in self.curves if curve is not self.reference] if self.reference else []
        return self.curves

    def _placed(self, curve: Curve) -> tuple[np.ndarray, np.ndarray]:
        """The curve's points where they lie on the axis."""
        points = self._known[self._key(curve)][1]
        x, y = points.places, points.values
        if self.frequency_axis is not None and self.frequency_axis.is_log:
            inside = x >= self.frequency_axis.floor_hz
            return self.frequency_axis.x_of(x[inside]), y[inside]
        return x, y

    def set_log(self, is_log: bool) -> None:
        """Frequencies by decades, or evenly again."""
        if self.frequency_axis is not None:
            self.frequency_axis.set_log(is_log)
            self.is_zoomed = False
            if self.requirement is not None:
                self.show_requirement(self.requirement, self.frequency_axis.counted)
                self.show_curves(self.curves)

    def _frame(self, ranges: list[tuple[float, float, float, float]]) -> None:
        left, right = min(r[0] for r in ranges), max(r[1] for r in ranges)
        low, high = min(r[2] for r in ranges), max(r[3] for r in ranges)
        least = {"delay": 2.0 if self.mode.endswith("samples") else 2e-9, "phase": 0.5, "level": 0.01}.get(
            self.kind, 1e-9
        )
        if self.kind == "delay" and self.mode.endswith("seconds") and self.requirement is not None:
            least = 2 / self.requirement.sample_rate_hz
        if self.kind == "stages":
            low = max(low, self._floor())
        room = max((high - low) * 0.08, least)
        pad = (right - left) * 0.012 + (0.5 if self.kind == "time" else 0)
        self.set_home(left - pad, right + pad, low - room, high + room)

    def _floor(self) -> float:
        """How far down a picture of gains goes: a good way below what is asked."""
        if self.requirement is None:
            return -100.0
        rate = self.requirement.rate
        asked = [level for level in (rate.alias_db, rate.image_db) if level is not None] if rate is not None else []
        return min(asked, default=-70.0) - 30.0

    def _unit(self) -> str:
        if self.kind == "phase":
            return "rad"
        if self.kind == "stages":
            return "dB"
        if self.kind == "level":
            return {"zero-phase amplitude": "amplitude", "energy above": "energy above, dB"}.get(
                self.mode, "difference, dB"
            )
        if self.kind == "delay" and self.mode.startswith("phase"):
            return "phase delay, samples" if self.mode.endswith("samples") else "phase delay, s"
        if self.kind == "delay":
            return "group delay, samples" if self.mode == "samples" else "group delay, s"
        if self.mode == "impulse" or not self.curves:
            return "impulse response"
        chosen = next((curve for curve in self.curves if curve.name == "ideal"), self.curves[-1])
        points = self._known[self._key(chosen)][1]
        over = "" if points.overshoot is None else f", overshoot {points.overshoot:.1f} %"
        return f"step response (settled after {points.settled} samples{over})"

    def _on_pointed(self, x: float, _: float) -> None:
        if not self.curves or self.requirement is None:
            return
        if self.frequency_axis is not None:
            x = float(self.frequency_axis.hz_of(x))
        words = [f"sample {round(x)}" if self.kind == "time" else self.frequency_words(x)]
        for curve in self._drawn():
            known = self._known.get(self._key(curve))
            if known is None:
                continue
            places, values = known[1].places, known[1].values
            if places[0] <= x <= places[-1]:
                value = float(
                    values[min(round(x), len(values) - 1)] if self.kind == "time" else np.interp(x, places, values)
                )
                seconds = self.kind == "delay" and self.mode.endswith("seconds")
                words.append(f"{curve.name} {duration_text(value) if seconds else short(value, 6)}")
        self.tell("   ".join(words))
