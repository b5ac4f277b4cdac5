"""Phase, delay, time and level: a plot of the same curves in a few modes each."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.others import SidePlot
from combe.responses.views import MODES


class SidePage(Page):
    """One kind of view of all curves."""

    kind = "phase"

    def __init__(self) -> None:
        super().__init__()
        self.side = SidePlot(self.kind)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.side)

    def show_scene(self, scene: Scene) -> None:
        """Other curves, another rate."""
        self.side.show_all(scene.requirement, scene.curves, scene.counted)

    def modes(self) -> Sequence[str]:
        """Ways of looking at the kind."""
        return MODES[self.kind]

    @property
    def mode(self) -> str:
        """Which of them."""
        return self.side.mode

    def set_mode(self, mode: str) -> None:
        """Another one."""
        self.side.set_mode(mode)

    @property
    def plot(self) -> Plot:
        """The plot."""
        return self.side

    def set_log(self, is_log: bool) -> None:
        """Frequencies by decades."""
        self.side.set_log(is_log)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.side.dress()


class PhasePage(SidePage):
    """Phase over frequency."""

    kind = "phase"


class DelayPage(SidePage):
    """Group and phase delay over frequency."""

    kind = "delay"


class TimePage(SidePage):
    """Impulse and step response."""

    kind = "time"


class LevelPage(SidePage):
    """Zero-phase amplitude, energy above a frequency, difference to a pin."""

    kind = "level"
