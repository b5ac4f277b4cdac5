"""Margin and noise of every structure at every width, one above the other; a click on a point takes it."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.curve import NOTHING, Curve
from combe.app.plots.points import LOOKS, PointPlot
from combe.app.widgets.parts import label
from combe.project import edits
from combe.rounding.choices import Choices
from combe.rounding.widths import WidthPoint


class WidthsPage(Page):
    """A taken point becomes a choice about the arithmetic."""

    def __init__(self) -> None:
        super().__init__()
        self.chart: Sequence[WidthPoint] = []
        self.choices = Choices()
        self.is_fir = True
        self.margin = PointPlot("margin, dB", "coefficient bits", True)
        self.noise = PointPlot("sine to noise, dB", "state bits")
        self.words = label("", "muted", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.margin, 3)
        column.addWidget(self.noise, 2)
        self.noise.zero.hide()
        self.margin.taken.connect(lambda structure, bits: self.take(structure, bits, False))
        self.noise.taken.connect(lambda structure, bits: self.take(structure, bits, True))

    def show_scene(self, scene: Scene) -> None:
        """Other points, or more of them."""
        ideal = scene.results.ideal
        self.is_fir = ideal is None or ideal.design.kind == "fir"
        self.show_chart(scene.results.chart, scene.project.arithmetic, "chart" in scene.results.fresh)

    def take(self, structure: str, bits: int, is_state: bool) -> None:
        """A point was clicked: coefficients, or states, of so many bits."""
        changes: dict[str, object] = {"state_bits": bits} if is_state else {"coefficient_bits": bits}
        if not self.is_fir:
            changes["structure"] = structure
        self.edited.emit(edits.choose_arithmetic("take a point of the chart", **changes))

    def legend(self) -> Sequence[Curve]:
        """A look for each structure."""
        return [Curve(name, NOTHING, LOOKS[k % len(LOOKS)][0]) for k, name in enumerate(self.structures)]

    @property
    def plot(self) -> Plot:
        """The margins."""
        return self.margin

    def go_home(self) -> None:
        """Both plots."""
        self.margin.go_home()
        self.noise.go_home()

    @property
    def structures(self) -> list[str]:
        """The structures charted, in the order they came."""
        return list(dict.fromkeys(point.structure for point in self.chart))

    def show_chart(self, chart: Sequence[WidthPoint], choices: Choices, is_done: bool) -> None:
        """Other points, or more of them."""
        self.chart, self.choices = chart, choices
        names = self.structures
        margins = [(p.structure, p.bits, p.margin_db) for p in chart if p.margin_db is not None]
        ratios = [(p.structure, p.bits, p.signal_to_noise_db) for p in chart if p.signal_to_noise_db is not None]
        self.words.setText(
            ("" if is_done else "Still counting… ")
            + "Least margin with coefficients of so many bits"
            + ("; below, a full-scale sine over all roundings, with states of so many bits" if ratios else "")
            + ". A click takes a point."
            if names
            else "Counting every structure at every width…"
        )
        structure = choices.structure or (names[0] if names else "")
        best = max((margin for *_, margin in margins), default=1.0)
        bent = self.margin.bent
        assert bent is not None
        bent.even = float(f"{max(abs(best) / 3, 1e-3):.1g}")
        shown = [(name, bits, bent.bent(margin)) for name, bits, margin in margins]
        self.margin.show_points(shown, (structure, choices.coefficient_bits), names)
        self.noise.show_points(ratios, (structure, choices.state_bits or 0), names)
        self.noise.setVisible(bool(ratios))
        if chart:
            left, right = min(p.bits for p in chart) - 0.7, max(p.bits for p in chart) + 0.7
            low, high = min((y for *_, y in shown), default=-1.0), max((y for *_, y in shown), default=1.0)
            self.margin.set_home(left, right, min(low, -0.5) - 0.3, max(high, 0.5) + 0.4)
            if ratios:
                self.noise.set_home(left, right, 0.0, max(r for *_, r in ratios) * 1.1)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.margin.dress()
        self.noise.dress()
        self.show_chart(self.chart, self.choices, True)
