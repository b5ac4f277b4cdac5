"""The data path of a circuit as a drawing, to choose the architecture on."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout, QToolButton, QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.plots.diagram import PathView
from combe.app.widgets.parts import label
from combe.delivery.hdl.choices import ARCHITECTURES
from combe.delivery.hdl.page import multipliers_text, several
from combe.project.edits import choose_architecture


class PathPage(Page):
    """A click on an architecture takes it."""

    def __init__(self) -> None:
        super().__init__()
        row = QHBoxLayout()
        row.setSpacing(4)
        self.buttons: dict[str, QToolButton] = {}
        for name in ARCHITECTURES:
            button = QToolButton()
            button.setObjectName("tab")
            button.setText(name)
            button.setCheckable(True)
            button.clicked.connect(lambda _, name=name: self.edited.emit(choose_architecture(name)))
            self.buttons[name] = button
            row.addWidget(button)
        row.addStretch(1)
        self.words = label("", "muted", wrap=True)
        self.view = PathView()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(row)
        column.addWidget(self.words)
        column.addWidget(self.view, 1)

    def show_scene(self, scene: Scene) -> None:
        """The data path of the architecture in force."""
        drawing = scene.results.drawing
        trouble = scene.trouble("drawing")
        if drawing is None or trouble:
            self.words.setText(trouble or "Drawing…")
            self.view.show_diagram(None)
            return
        built = drawing.built
        for name, button in self.buttons.items():
            button.setChecked(name == built.architecture)
        count = built.count
        itself = "" if scene.project.hardware.architecture else ", chosen by itself"
        self.words.setText(
            f"{built.architecture}{itself}: latency {built.latency} clocks, {several(built.clocks, 'clock')} a sample; "
            f"{multipliers_text(count)}, {several(count.adders, 'adder')}, "
            f"{count.registers} register bits, {count.memory_bits} bits of memory. Figures on wires are bits."
        )
        self.view.show_diagram(drawing.diagram)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.view.update()
