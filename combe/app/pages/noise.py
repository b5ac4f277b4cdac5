"""The noise of all roundings over frequency: predicted as a line, measured on a test signal beside it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PyQt6.QtWidgets import QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.curve import NOTHING, Curve
from combe.app.plots.stroke import Stroke
from combe.app.theme.palette import THEME
from combe.app.widgets.parts import label
from combe.requirement.quantities import short
from combe.signals.noise_run import SIGNALS, NoiseRun


class NoisePage(Page):
    """Asks for another test signal by ``listen``."""

    def __init__(self) -> None:
        super().__init__()
        self.heard: NoiseRun | None = None
        self.signal = SIGNALS[0]
        self.density = Plot("dB of full scale per Hz")
        self.predicted, self.found = Stroke(), Stroke()
        for item in (self.found, self.predicted):
            self.density.add(item)
        self.words = label("Listening…", "muted", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.density, 1)
        self.density.pointed.connect(self._on_pointed)

    def show_scene(self, scene: Scene) -> None:
        """Another sample rate, what was heard."""
        if self.density.frequency_axis is not None:
            self.density.frequency_axis.set_rate(scene.requirement.sample_rate_hz, scene.counted)
        self.density.label_axes()
        if scene.results.heard is None or scene.results.heard is not self.heard:
            self.show_run(scene.results.heard, scene.trouble("heard"))

    def modes(self) -> Sequence[str]:
        """Test signals."""
        return SIGNALS

    @property
    def mode(self) -> str:
        """The one listened to."""
        return self.signal

    def set_mode(self, mode: str) -> None:
        """Listen to another one."""
        self.signal = mode
        self.asked.emit("listen", mode)

    def legend(self) -> Sequence[Curve]:
        """The prediction is dashed."""
        return Curve("predicted", NOTHING, "river", 2.0, True), Curve("measured", NOTHING, "heather")

    @property
    def plot(self) -> Plot:
        """The density."""
        return self.density

    def show_run(self, heard: NoiseRun | None, sentence: str = "") -> None:
        """What was heard, or why nothing was."""
        self.heard = heard
        self.words.setText(" ".join(heard.sentences()) if heard is not None else sentence or "Listening…")
        for item in (self.predicted, self.found):
            item.setVisible(heard is not None and heard.measured.power > 0)
        if heard is None or heard.measured.power == 0:
            return
        self.found.show_points(heard.hz, heard.heard_db)
        self.predicted.show_points(heard.hz, heard.told_db)
        self._pens()
        every = np.concatenate([heard.told_db, np.sort(heard.heard_db)[len(heard.heard_db) // 50 :]])
        self.density.set_home(0.0, float(heard.hz[-1]), float(np.min(every)) - 4, float(np.max(every)) + 4)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.density.dress()
        self._pens()

    def _pens(self) -> None:
        self.predicted.set_look(THEME.color("river"), 2.0, dashed=True)
        self.found.set_look(THEME.color("heather"), 1.2)

    def _on_pointed(self, x: float, _: float) -> None:
        if self.heard is None or self.heard.measured.power == 0:
            return
        told, found = (float(np.interp(x, self.heard.hz, each)) for each in (self.heard.told_db, self.heard.heard_db))
        self.density.tell(
            f"{self.density.frequency_words(x)}   predicted {short(told, 5)} dB   measured {short(found, 5)} dB"
        )
