"""Two cursors on a plot: put with Shift and with Ctrl, told with what lies between them."""

from __future__ import annotations

from collections.abc import Callable

import pyqtgraph as pg
from PyQt6.QtCore import QObject, Qt, pyqtSignal

from combe.app.plots.axes import Plot
from combe.app.theme.palette import THEME

NAMES = ("first", "second")


class Cursors(QObject):
    """The cursors of one plot.

    Parameters
    ----------
    words
        What is told of a place, and of two: a sentence of the places in order.
    """

    told = pyqtSignal(str)

    def __init__(self, plot: Plot, words: Callable[[list[float]], str]) -> None:
        super().__init__(plot)
        self.plot, self.words = plot, words
        self.places: dict[str, float] = {}
        self._items: dict[str, pg.InfiniteLine] = {}
        plot.marked.connect(self.put)

    def put(self, name: str, x: float) -> None:
        """Put a cursor at a place."""
        self.places[name] = x
        if name not in self._items:
            self._items[name] = pg.InfiniteLine(angle=90, movable=False)
            self.plot.add(self._items[name])
        style = Qt.PenStyle.SolidLine if name == NAMES[0] else Qt.PenStyle.DashLine
        self._items[name].setPen(pg.mkPen(THEME.color("heather"), width=1.2, style=style))
        self._items[name].setPos(x)
        self.tell()

    def tell(self) -> None:
        """Tell what lies at the cursors; curves may be others by now."""
        if self.places:
            self.told.emit(self.words([self.places[name] for name in NAMES if name in self.places]))

    def clear(self) -> None:
        """Take them away."""
        for item in self._items.values():
            self.plot.take_out(item)
        self.places, self._items = {}, {}
        self.told.emit("")
