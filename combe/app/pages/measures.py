"""The figures of merit of every curve, side by side."""

from __future__ import annotations

import contextlib
import threading

from PyQt6.QtCore import pyqtSignal

from combe.app.pages.page import Scene
from combe.app.pages.sheet import SheetPage
from combe.filters import Filter, Fir, Roots
from combe.ledger.goodness import Table, table_of

AT_ONCE = 100
"""Taps of all filters together whose figures take no longer than a frame or two, whatever else is being worked out."""


class MeasuresPage(SheetPage):
    """A column for each curve, those of the chosen filter first. What takes long is worked out aside."""

    worked_out = pyqtSignal(object, object)

    def __init__(self) -> None:
        super().__init__("measured goodness")
        self.worked_out.connect(self._on_worked_out)
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
        if sum(weight_of(source) for _, source in named) <= AT_ONCE:
            self._on_worked_out(key, table_of(named, rate))
            return
        threading.Thread(target=self._work, args=(key, named, rate), daemon=True).start()

    def _work(self, key: object, named: list[tuple[str, Filter]], rate: float) -> None:
        table = table_of(named, rate)
        with contextlib.suppress(RuntimeError):  # the page may have gone meanwhile
            self.worked_out.emit(key, table)

    def _on_worked_out(self, key: object, table: Table) -> None:
        if key == self._shown:
            self._filled = key
            self.fill(table)


def weight_of(source: Filter) -> int:
    """Roughly how long the figures of a filter take, in taps."""
    if isinstance(source, Fir):
        return len(source.taps)
    return 40 if isinstance(source, Roots) else 12 * len(source.sections)
