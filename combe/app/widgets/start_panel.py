"""Beside the brief: shapes to start from, and how figures are typed."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QToolButton, QWidget

from combe.app.theme.marks import icon
from combe.app.widgets.parts import Panel, Scroller, label
from combe.requirement.presets import SHAPES

HINTS = (
    ("12k, 12 kHz, 12e3", "a frequency"),
    ("0.25fs, 0.5fn", "a share of the sample rate, or of half of it"),
    ("60, -60 dB, 0.1 %", "how far down a band is blocked"),
    ("0.1, 1 %, -0.2 to 0.1", "how flat a band is kept"),
    ("400 us, 50 samples", "a delay"),
)

OTHERS = {
    "cutoff": ("only a cut-off and an order", "A Butterworth filter by its −3 dB point; any other method from there"),
    "turn": ("this brief turned around", "Keep what it blocks: low- becomes highpass, band- becomes notch-like"),
    "hand": ("coefficients by hand…", "Type or paste taps, b and a, sections or roots"),
}


class StartPanel(Panel):
    """``shape_picked`` carries the name of a shape, ``other_wanted`` another way to begin."""

    shape_picked = pyqtSignal(str)
    other_wanted = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.column.addWidget(label("Start from", "title"))
        scroller = Scroller()
        self.column.addWidget(scroller, 1)
        column = scroller.column
        column.setSpacing(3)
        grid = QGridLayout()
        grid.setSpacing(8)
        self.buttons: dict[str, QToolButton] = {}
        self.others: dict[str, QToolButton] = {}
        for index, name in enumerate(SHAPES):
            button = QToolButton()
            button.setObjectName("quiet")
            button.setText(name)
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            button.setToolTip(f"Replace the brief with a simple {name}; undo brings it back")
            button.clicked.connect(partial(self.shape_picked.emit, name))
            grid.addWidget(button, index // 2, index % 2)
            self.buttons[name] = button
        for index, (name, (words, hint)) in enumerate(OTHERS.items()):
            button = QToolButton()
            button.setObjectName("quiet")
            button.setText(words)
            button.setToolTip(hint)
            button.clicked.connect(partial(self.other_wanted.emit, name))
            grid.addWidget(button, 2 + index, 0, 1, 2)
            self.others[name] = button
        column.addLayout(grid)
        column.addWidget(label("Typing figures", "title"))
        for example, meaning in HINTS:
            column.addWidget(label(example, "strong"))
            column.addWidget(label(meaning, "muted", wrap=True))
        column.addWidget(label("On the plot, drag an edge sideways or a limit up and down.", "muted", wrap=True))
        self.dress()

    def dress(self) -> None:
        """Icons in the theme's colours."""
        for name, button in self.buttons.items():
            button.setIcon(icon(name))
