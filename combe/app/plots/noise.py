"""The noise of all roundings over frequency: predicted as a line, measured on a test signal beside it."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from combe.app.plots.axes import Plot
from combe.app.theme.palette import THEME
from combe.app.widgets.parts import label
from combe.requirement import Requirement
from combe.requirement.quantities import short
from combe.signals.listening import Heard


class NoisePage(QWidget):
    """``signal_picked`` carries the name of a test signal."""

    signal_picked = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.heard: Heard | None = None
        self.plot = Plot("dB of full scale per Hz")
        self.told = pg.PlotCurveItem(antialias=True)
        self.found = pg.PlotCurveItem(antialias=True)
        for item in (self.found, self.told):
            self.plot.addItem(item, ignoreBounds=True)
        self.words = label("Listening…", "muted", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.plot, 1)
        self.plot.pointed.connect(self._on_pointed)

    def show_requirement(self, requirement: Requirement, counted: str) -> None:
        """Another sample rate."""
        if self.plot.frequency_axis is not None:
            self.plot.frequency_axis.set_rate(requirement.sample_rate_hz, counted)
        self.plot.label_axes()

    def show_heard(self, heard: Heard | None, sentence: str = "") -> None:
        """What was heard, or why nothing was."""
        self.heard = heard
        self.words.setText(" ".join(heard.sentences()) if heard is not None else sentence or "Listening…")
        for item in (self.told, self.found):
            item.setVisible(heard is not None and heard.measured.power > 0)
        if heard is None or heard.measured.power == 0:
            return
        self.found.setData(heard.hz, heard.heard_db)
        self.told.setData(heard.hz, heard.told_db)
        self._pens()
        every = np.concatenate([heard.told_db, np.sort(heard.heard_db)[len(heard.heard_db) // 50 :]])
        self.plot.set_home(0.0, float(heard.hz[-1]), float(np.min(every)) - 4, float(np.max(every)) + 4)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.plot.dress()
        self._pens()

    def _pens(self) -> None:
        self.told.setPen(pg.mkPen(THEME.color("river"), width=2.0, style=Qt.PenStyle.DashLine))
        self.found.setPen(pg.mkPen(THEME.color("heather"), width=1.2))

    def _on_pointed(self, x: float, _: float) -> None:
        if self.heard is None or self.heard.measured.power == 0:
            return
        told, found = (float(np.interp(x, self.heard.hz, each)) for each in (self.heard.told_db, self.heard.heard_db))
        self.plot.tell(
            f"{self.plot.frequency_words(x)}   predicted {short(told, 5)} dB   measured {short(found, 5)} dB"
        )
