"""What the compiled program was heard to do: gain, phase and delay over the ideal, as a bench instrument draws them."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.dots import Dots
from combe.app.plots.stroke import Stroke
from combe.app.theme.palette import THEME
from combe.app.widgets.parts import label
from combe.filters import Filter
from combe.proof.c import Proof
from combe.requirement import Requirement
from combe.requirement.quantities import short
from combe.responses import frequency_response, gain_db, group_delay, unwrapped_phase
from combe.signals.broadband import MeasuredResponse

UNITS = ("dB", "rad", "samples")
SHOWN_DOWN_TO = 12.0
"""dB below the floor of the measurement that are still drawn."""


class MeasuredPage(Page):
    """Three plots on one frequency axis."""

    def __init__(self) -> None:
        super().__init__()
        self.heard: MeasuredResponse | None = None
        self.designed: list[np.ndarray] = []
        self.words = label("", "muted", wrap=True)
        self.three = [Plot(unit) for unit in UNITS]
        self.ideal = [Stroke() for _ in UNITS]
        self.found = [Dots(3.0) for _ in UNITS]
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.words)
        for index, plot in enumerate(self.three):
            plot.add(self.ideal[index])
            plot.add(self.found[index])
            plot.has_bottom_label = index == len(UNITS) - 1
            plot.axis("bottom").showLabel(plot.has_bottom_label)
            column.addWidget(plot, 3 if index == 0 else 2)
            if index:
                plot.follow(self.three[0])
            plot.pointed.connect(self._on_pointed)
        self.show_heard(None, None, None)

    def show_scene(self, scene: Scene) -> None:
        """Another sample rate, another measurement."""
        for plot in self.three:
            if plot.frequency_axis is not None:
                plot.frequency_axis.set_rate(scene.requirement.sample_rate_hz, scene.counted)
            plot.label_axes()
        proof = scene.results.proof
        heard = proof.response if isinstance(proof, Proof) else None
        self.show_heard(heard, scene.chosen, scene.requirement)

    @property
    def plot(self) -> Plot:
        """The gain."""
        return self.three[0]

    def show_heard(self, heard: MeasuredResponse | None, ideal: Filter | None, requirement: Requirement | None) -> None:
        """What was measured, over what was designed."""
        self.heard = heard
        for line, dots in zip(self.ideal, self.found):
            line.setVisible(heard is not None)
            dots.setVisible(heard is not None)
        if heard is None or ideal is None or requirement is None:
            self.words.setText("Prove the code, and noise through the compiled program measures what it does.")
            return
        omega = 2 * np.pi * heard.hz / requirement.sample_rate_hz
        loud = heard.db > heard.floor_db - SHOWN_DOWN_TO
        passed = heard.db > max(-40.0, heard.floor_db + 12)
        phase = unwrapped_phase(ideal, omega)
        turns = (
            2 * np.pi * np.round(np.median((heard.phase_rad - phase)[passed]) / (2 * np.pi)) if np.any(passed) else 0.0
        )
        self.designed = [gain_db(frequency_response(ideal, omega)), phase, group_delay(ideal, omega)]
        seen = [(heard.db, loud), (heard.phase_rad - turns, passed), (heard.delay_samples, passed)]
        for index, (values, mask) in enumerate(seen):
            self.ideal[index].show_points(
                heard.hz, np.maximum(self.designed[index], -400) if index == 0 else self.designed[index]
            )
            self.found[index].show_points(heard.hz[mask], values[mask])
            shown = np.concatenate([values[mask], self.designed[index][mask]]) if np.any(mask) else self.designed[index]
            low, high = float(np.min(shown)), float(np.max(shown))
            room = max(0.06 * (high - low), 0.5)
            self.three[index].set_home(0.0, requirement.nyquist_hz, low - room, high + room)
        self.words.setText(
            f"Noise through the compiled program, {len(heard.hz)} frequencies; gains are measured down to "
            f"{short(heard.floor_db, 3)} dB. Dots: measured. Line: designed. Phase and delay only where enough comes through."
        )
        self.dress()

    def dress(self) -> None:
        """Take on the theme's colours."""
        for plot, line, dots in zip(self.three, self.ideal, self.found):
            plot.dress()
            line.set_look(THEME.color("river"), 2.0)
            dots.set_color(THEME.color("ochre"))
        for plot in self.three:
            plot.read_out.setAlignment(Qt.AlignmentFlag.AlignRight)

    def _on_pointed(self, x: float, _: float) -> None:
        if self.heard is None or not self.designed:
            return
        found = (self.heard.db, self.heard.phase_rad, self.heard.delay_samples)
        for plot, told, heard, unit in zip(self.three, self.designed, found, UNITS):
            words = f"designed {short(float(np.interp(x, self.heard.hz, told)), 5)}"
            near = int(np.argmin(np.abs(self.heard.hz - x)))
            plot.tell(f"{plot.frequency_words(x)}   {words}   measured {short(float(heard[near]), 5)} {unit}")
