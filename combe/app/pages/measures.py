"""The figures of merit of every curve, side by side."""

from __future__ import annotations

from combe.app.pages.page import Scene
from combe.app.pages.sheet import SheetPage
from combe.ledger.goodness import table_of


class MeasuresPage(SheetPage):
    """A column for each curve, those of the chosen filter first."""

    def __init__(self) -> None:
        super().__init__("measured goodness")
        self._shown: object = None

    def show_scene(self, scene: Scene) -> None:
        """Other filters."""
        named = [(curve.name, curve.filter) for curve in sorted(scene.curves, key=lambda c: (c.is_pin, c.name))]
        key = tuple(named), scene.requirement.sample_rate_hz
        if key != self._shown:
            self._shown = key
            self.fill(table_of(named, scene.requirement.sample_rate_hz))
