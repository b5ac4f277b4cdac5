"""What a circuit on a board heard of itself, read from its serial line or simulated: word by word against the model, and as a gain."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyqtgraph as pg
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.dots import Dots
from combe.app.plots.stroke import Stroke
from combe.app.theme.palette import THEME
from combe.app.widgets.parts import label
from combe.errors import CombeError
from combe.files import read_bytes
from combe.filters import Filter
from combe.proof.captured import Capture
from combe.responses import frequency_response, gain_db

POINTS = 240
LARGEST = 1 << 16
DEEPEST = -140.0
"""dB that are drawn: below, words of so few bits say nothing."""
BEGIN = "A board tests itself at its start, keeps its first outputs and sends them over its serial line: simulate that, or read what came."


class CapturePage(Page):
    """Asks for a capture by ``capture``, with the bytes and where they are from, or without for a simulation."""

    def __init__(self) -> None:
        super().__init__()
        self.capture: Capture | None = None
        self.words = label(BEGIN, "muted", wrap=True)
        self.simulate = QPushButton("Simulate the board")
        self.simulate.setToolTip("The whole top level with its self-test, clock by clock")
        self.simulate.clicked.connect(lambda _: self.asked.emit("capture", None))
        self.read = QPushButton("Read a capture…")
        self.read.setToolTip("A file of the bytes that came over the board's serial line")
        self.read.clicked.connect(self._ask_file)
        head = QHBoxLayout()
        head.addWidget(self.words, 1)
        head.addWidget(self.simulate)
        head.addWidget(self.read)
        self.outputs, self.gain = Plot("output", frequency=False), Plot("dB")
        self.outputs.plain_unit = "sample of the self-test"
        self.model, self.designed = Stroke(), Stroke()
        self.heard = Dots(5.0)
        self.wrong = pg.ScatterPlotItem(size=11, symbol="d", pen=None)
        self.found = Dots(4.0)
        for plot, items in (
            (self.outputs, (self.model, self.heard, self.wrong)),
            (self.gain, (self.designed, self.found)),
        ):
            for item in items:
                plot.add(item)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(head)
        column.addWidget(self.outputs, 3)
        column.addWidget(self.gain, 3)
        self.outputs.label_axes()
        self.outputs.pointed.connect(self._on_pointed)
        self.show_capture(None, None, 1.0)
        self.dress()

    def show_scene(self, scene: Scene) -> None:
        """Another capture, or another circuit that has none yet."""
        if self.gain.frequency_axis is not None:
            self.gain.frequency_axis.set_rate(scene.requirement.sample_rate_hz, scene.counted)
        self.gain.label_axes()
        results = scene.results
        is_running = "captured" in results.pending
        self.simulate.setEnabled(not is_running)
        self.read.setEnabled(not is_running)
        self.show_capture(results.captured, scene.chosen, scene.requirement.sample_rate_hz)
        if is_running:
            self.words.setText(results.progress.get("captured", "reading the capture"))
        elif scene.trouble("captured"):
            self.words.setText(scene.trouble("captured"))

    @property
    def plot(self) -> Plot:
        """The outputs."""
        return self.outputs

    def show_capture(self, capture: Capture | None, designed: Filter | None, rate_hz: float) -> None:
        """What was heard over what the model gives; where the impulse's answer is in it, its gain over the designed one."""
        self.capture = capture
        answer = capture.answer() if capture is not None else None
        for item in (self.model, self.heard, self.wrong):
            item.setVisible(capture is not None)
        self.gain.setVisible(capture is None or answer is not None)
        for item in (self.designed, self.found):
            item.setVisible(answer is not None)
        if capture is None:
            self.words.setText(BEGIN)
            return
        places = np.arange(len(capture.heard), dtype=np.float64)
        step = capture.output.step
        wanted, heard = capture.wanted * step, capture.heard * step
        wrong = np.array(capture.differing, dtype=np.intp)
        self.model.show_points(places, np.asarray(wanted, dtype=np.float64))
        self.heard.show_points(places, np.asarray(heard, dtype=np.float64))
        self.wrong.setData(places[wrong], heard[wrong])
        low, high = float(min(wanted.min(), heard.min())), float(max(wanted.max(), heard.max()))
        room = max(0.06 * (high - low), step)
        self.outputs.set_home(-1.0, float(len(places)), low - room, high + room)
        told = " Dots: heard. Line: the model." if capture.holds else " Diamonds: words that differ."
        if answer is not None and designed is not None:
            omega = np.linspace(0.0, np.pi, 4 * POINTS)
            hz = omega * rate_hz / (2 * np.pi)
            wished = np.maximum(gain_db(frequency_response(designed, omega)), DEEPEST)
            measured = np.maximum(gain_db(frequency_response(answer, omega[::4])), DEEPEST)
            self.designed.show_points(hz, wished)
            self.found.show_points(hz[::4], measured)
            self.gain.set_home(
                0.0, rate_hz / 2, float(max(min(wished.min(), measured.min()), -110.0)) - 4, float(wished.max()) + 4
            )
            told += " Below: the gain of what answers the impulse, over the designed one."
        self.words.setText(f"{capture.sentence()}.{told}")

    def dress(self) -> None:
        """Take on the theme's colours."""
        for plot in (self.outputs, self.gain):
            plot.dress()
        for line in (self.model, self.designed):
            line.set_look(THEME.color("river"), 2.0)
        self.heard.set_color(THEME.color("ochre"))
        self.found.set_color(THEME.color("ochre"))
        self.wrong.setBrush(pg.mkBrush(THEME.color("clay")))

    def read_file(self, path: str) -> None:
        """Ask for the capture in a file to be shown."""
        try:
            data = read_bytes(path, LARGEST)
        except CombeError as error:
            self.told.emit(error.sentence())
            return
        self.asked.emit("capture", (data, Path(path).name))

    def _ask_file(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Read a capture", str(Path.home()), "All files (*)")
        if path:
            self.read_file(path)

    def _on_pointed(self, x: float, _: float) -> None:
        if self.capture is None:
            return
        place = min(max(round(x), 0), len(self.capture.heard) - 1)
        heard, wanted = int(self.capture.heard[place]), int(self.capture.wanted[place])
        model = "as the model" if heard == wanted else f"the model {wanted}"
        self.outputs.tell(f"output {place}   heard {heard}   {model}")
