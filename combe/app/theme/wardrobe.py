"""The style sheet, worn by parts of the window one at a time.

The window is born with a sheet. Another one in its place would be matched against every widget there is in one go,
hidden forms of plots included: half a second in which nothing moves. When the theme changes, parts put on sheets of their
own instead, one after another between other events; what stands nearer wins.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import cast

from PyQt6 import sip
from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtWidgets import QScrollArea, QStackedWidget, QWidget

from combe.app.theme.palette import THEME, style_sheet


class Wardrobe(QObject):
    """``parts`` are the widgets that wear a sheet of their own, each with what else has to change with it."""

    def __init__(self, window: QWidget, parts: Callable[[], list[QWidget]]) -> None:
        super().__init__(window)
        self.window, self.parts = window, parts
        self._waiting: list[tuple[QWidget, str]] = []
        """With the sheet it has still to put on, or none: what else has to change with it."""
        self._timer = QTimer(self)
        self._timer.setInterval(0)
        self._timer.timeout.connect(self._next)

    @property
    def is_changing(self) -> bool:
        """Whether parts still wear the sheet of before."""
        return self._timer.isActive()

    def dress_all(self) -> None:
        """All of them at once, before they are there: the window's own sheet is read once for everything in it."""
        self.window.setStyleSheet(style_sheet(THEME.colors))

    def change(self) -> None:
        """All of them soon, those on screen first."""
        sheet = style_sheet(THEME.colors)
        pieces = [piece for part in self.parts() for piece in _pieces(part)]
        self._waiting = [(piece, sheet) for piece in sorted(pieces, key=lambda piece: not piece.isVisible())]
        for piece in pieces:
            if piece.isVisible():
                # Painted once, when it is dressed, and not before with all others in one stretch.
                piece.setUpdatesEnabled(False)
        self._timer.start()

    def finish(self) -> None:
        """What still waits, now."""
        while self._waiting:
            self._next()

    def _next(self) -> None:
        if not self._waiting:
            self._timer.stop()
            return
        piece, sheet = self._waiting.pop(0)
        if sip.isdeleted(piece):
            return  # a row that has given way to another, which found the sheet in force by itself
        if sheet:
            piece.setStyleSheet(sheet)
            if hasattr(piece, "dress"):  # as long again: another piece of work
                self._waiting.insert(0, (piece, ""))
                return
        else:
            piece.dress()  # type: ignore[attr-defined]
        piece.setUpdatesEnabled(True)
        piece.update()


def dress_late(child: QObject | None) -> None:
    """Whoever comes into a bare parent, or as a dialog, wears the sheet in force: its own where the window's is another."""
    if not isinstance(child, QWidget):
        return
    sheet, above = style_sheet(THEME.colors), child.parentWidget()
    while above is not None and not above.styleSheet():
        above = above.parentWidget()
    if above is None or above.styleSheet() == sheet:
        return  # whatever has no place yet will find its sheet there
    for piece in _pieces(child):
        if not piece.styleSheet():
            piece.setStyleSheet(sheet)


def _pieces(part: QWidget) -> list[QWidget]:
    """A part, or what it consists of where it wears nothing itself. Of what scrolls over such parts only the bars are dressed:
    all else of it is transparent in every theme."""
    if isinstance(part, QScrollArea) and getattr(part.widget(), "is_bare", False):
        bars = [part.verticalScrollBar(), part.horizontalScrollBar()]
        return [bar for bar in bars if bar is not None] + _pieces(cast(QWidget, part.widget()))
    if not getattr(part, "is_bare", False) and not isinstance(part, QStackedWidget):
        return [part]
    children = [child for child in part.children() if isinstance(child, QWidget)]
    return [piece for child in children for piece in _pieces(child)]
