"""The figures of merit of every curve, side by side."""

from __future__ import annotations

from combe.app.jobs import Errand
from combe.app.pages.page import Scene
from combe.app.pages.sheet import SheetPage
from combe.ledger.goodness import Table, table_of


class MeasuresPage(SheetPage):
    """A column for each curve, those of the chosen filter first, worked out aside."""

    def __init__(self) -> None:
        super().__init__("measured goodness")
        self._errand = Errand(is_patient=True)
        self._errand.arrived.connect(self._take)
        self._shown: object = None
        self._filled: object = None

    @property
    def is_working(self) -> bool:
        """Whether figures of what is shown are still to come."""
        return self._filled != self._shown

    def show_scene(self, scene: Scene) -> None:
        """Other filters."""
        named = [(curve.name, curve.filter) for curve in sorted(scene.curves, key=lambda c: (c.is_pin, c.name))]
        rate = scene.requirement.sample_rate_hz
        key = tuple(named), rate
        if key == self._shown:
            return
        self._shown = key
        self._errand.send(lambda: (key, table_of(named, rate)))

    def _take(self, found: tuple[object, Table]) -> None:
        key, table = found
        if key == self._shown:
            self._filled = key
            self.fill(table)
