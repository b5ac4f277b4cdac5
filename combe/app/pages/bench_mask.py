"""The mask that an output's spectrum stays under, on the bench: pieces drawn, dragged, read from a file."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import pyqtgraph as pg
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QMenu, QToolButton, QWidget

from combe.app.plots.axes import Plot
from combe.app.plots.handle import Handle
from combe.app.theme.palette import THEME
from combe.benching.asks import MOST_ASKS, Ask, altered, ask_from, mask_from_file
from combe.errors import CombeError, FileError

SPARE_DB = 3.0
"""So far above what stands there a new piece begins."""
ENDS = ("start", "level", "stop")


class SpectrumMask(QObject):
    """Pieces of the mask on a plot of spectra; ``changed`` tells all of the bench's limits once the hand lets go."""

    changed = pyqtSignal(object)
    complained = pyqtSignal(str)

    def __init__(self, plot: Plot, parent: QWidget) -> None:
        super().__init__(parent)
        self.plot, self.home = plot, parent
        self.asks: tuple[str, ...] = ()
        self.rate, self.top = 1.0, 0.0
        self.pieces: list[Ask] = []
        self._places: list[int] = []
        self._lines: list[pg.PlotDataItem] = []
        self._handles: list[Handle] = []
        self.button = QToolButton(parent)
        self.button.setText("Mask")
        self.button.setToolTip("What the spectrum of the bit-true output must stay under, below its highest density")
        self.button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.button)
        for words, act in (
            ("Add a piece", self.add),
            ("Read a file…", self._ask_file),
            ("Remove all pieces", self.clear),
        ):
            menu.addAction(words).triggered.connect(lambda _=False, act=act: act())  # type: ignore[union-attr]
        self.button.setMenu(menu)

    @property
    def is_held(self) -> bool:
        """Whether the hand has one of its grips."""
        return any(handle.is_held for handle in self._handles)

    def show_asks(self, asks: tuple[str, ...], rate: float, top: float, is_seen: bool = True) -> None:
        """The bench's limits, the rate of their sentences, and the highest density in the plot's dB; pieces aren't drawn where
        what the plot shows can't be held against them."""
        if self.is_held:
            return
        self.asks, self.rate, self.top = asks, rate, top
        found = [(place, ask_from(text, rate)) for place, text in enumerate(asks)]
        self._places = [place for place, ask in found if ask.figure == "spectrum"]
        self.pieces = [ask for _, ask in found if ask.figure == "spectrum" and is_seen]
        self._draw()

    def _draw(self) -> None:
        while len(self._lines) > len(self.pieces):
            self.plot.take_out(self._lines.pop())
            for _ in ENDS:
                self.plot.take_out(self._handles.pop())
        while len(self._lines) < len(self.pieces):
            place = len(self._lines)
            self._lines.append(pg.PlotDataItem())
            self.plot.add(self._lines[-1])
            for end in ENDS:
                handle = Handle(
                    end != "level", "Drag a piece of the mask; its sentence stands among what must come out"
                )
                handle.moved.connect(partial(self._on_moved, place, end))
                handle.released.connect(self._on_released)
                self.plot.add(handle)
                self._handles.append(handle)
        pen = pg.mkPen(THEME.color("ink"), width=1.5)
        for place, piece in enumerate(self.pieces):
            self._lines[place].setData(
                [piece.hz, piece.until_hz], [self.top + piece.value, self.top + piece.end], pen=pen
            )
            middle = (piece.hz + piece.until_hz) / 2, self.top + (piece.value + piece.end) / 2
            spots = ((piece.hz, self.top + piece.value), middle, (piece.until_hz, self.top + piece.end))
            for handle, spot in zip(self._handles[3 * place : 3 * place + 3], spots):
                handle.setPos(*spot)

    def _on_moved(self, place: int, end: str, x: float, y: float) -> None:
        piece = self.pieces[place]
        least = (piece.until_hz - piece.hz) * 1e-3
        if end == "level":
            rise = round(y - self.top - (piece.value + piece.end) / 2, 1)
            moved = altered(piece, value=round(piece.value + rise, 1), end=round(piece.end + rise, 1))
        elif end == "start":
            moved = altered(piece, hz=float(f"{min(max(x, 0.0), piece.until_hz - least):.4g}"))
        else:
            moved = altered(piece, until_hz=float(f"{max(x, piece.hz + least):.4g}"))
        if not moved.hz < moved.until_hz:
            return
        # Pieces that touch go on touching.
        for other, beside in enumerate(self.pieces):
            if other == place:
                continue
            if (beside.until_hz, beside.end) == (piece.hz, piece.value) and beside.hz < moved.hz:
                self.pieces[other] = altered(beside, until_hz=moved.hz, end=moved.value)
            elif (beside.hz, beside.value) == (piece.until_hz, piece.end) and moved.until_hz < beside.until_hz:
                self.pieces[other] = altered(beside, hz=moved.until_hz, value=moved.end)
        self.pieces[place] = moved
        self._draw()

    def _on_released(self) -> None:
        asks = list(self.asks)
        for place, piece in zip(self._places, self.pieces):
            asks[place] = piece.sentence
        self._tell(asks)

    def _tell(self, asks: list[str]) -> None:
        if tuple(asks) != self.asks:
            self.changed.emit(tuple(asks))

    def add(self) -> None:
        """Another piece over the right third of what is seen, above all that stands there."""
        (left, right), (low, high) = self.plot.view.viewRange()
        start, stop = (float(f"{left + share * (right - left):.3g}") for share in (0.6, 0.9))
        level = float(round(min((low + high) / 2 - self.top, -SPARE_DB)))
        if len(self.asks) >= MOST_ASKS or not 0 <= start < stop:
            self.complained.emit(f"{MOST_ASKS} limits on the bench are the most")
            return
        self._tell([*self.asks, Ask("spectrum", 1, level, start, stop, level).sentence])

    def clear(self) -> None:
        """Only the other limits stay."""
        self._tell([text for place, text in enumerate(self.asks) if place not in self._places])

    def _ask_file(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self.home, "A mask", str(Path.home()), "Tables (*.csv *.txt);;All files (*)"
        )
        if path:
            self.read(path)

    def read(self, path: str) -> None:
        """In place of the pieces there are, those of a file."""
        try:
            found = mask_from_file(path, self.rate)
            others = [text for place, text in enumerate(self.asks) if place not in self._places]
            if len(others) + len(found) > MOST_ASKS:
                raise FileError(f"{len(found)} pieces beside {len(others)} limits", path, f"{MOST_ASKS} are the most")
        except CombeError as error:
            self.complained.emit(error.at(path).sentence())
            return
        self._tell([*others, *found])
