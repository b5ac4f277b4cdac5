"""What takes long to paint takes turns: of one window's frame, what would keep the interface for longer than a hand notices is painted
in the frames that follow at once."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from PyQt6.QtCore import QPoint, QRect, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QRegion
from PyQt6.QtWidgets import QAbstractScrollArea, QWidget
from PyQt6.sip import isdeleted

from combe.app.calm import CALM
from combe.app.theme.palette import THEME

SHARE_S = 0.005
"""Of a frame, after which nothing further is begun but what follows a hand."""


class Frame:
    """The frame that a window paints; outside of one (a picture is taken) everything is painted as it is asked for."""

    def __init__(self) -> None:
        self._began = 0.0
        self._waiting: list[InTurn] = []
        self._is_served = False

    @contextmanager
    def open(self) -> Iterator[None]:
        """While a window paints what has changed."""
        if self._began:
            yield
            return
        CALM.begin()
        self._began, self._is_served = time.perf_counter(), False
        self._waiting = [part for part in self._waiting if part.is_there()]
        try:
            yield
        finally:
            self._began = 0.0
            CALM.end()
            for part in self._waiting:
                if part.is_there():
                    part.paint_owed()

    def has_turn(self, part: InTurn) -> bool:
        """Whether it is painted now; in each frame at least the one that has waited longest is."""
        is_longest = not self._is_served and bool(self._waiting) and self._waiting[0] is part
        if self._began and not part.is_held and not is_longest and time.perf_counter() - self._began > SHARE_S:
            if part not in self._waiting:
                self._waiting.append(part)
            return False
        if part in self._waiting:
            self._waiting.remove(part)
            self._is_served = True
        return True


FRAME = Frame()


class InTurn:
    """Stands before the class of a widget that takes long to paint; all of its surface is its own."""

    has_ground = False
    """Whether it paints its own ground; that of the cards is laid where it doesn't."""
    _place = QRect()
    _owed = QRegion()

    @property
    def is_held(self) -> bool:
        """Whether it follows a hand, and doesn't wait."""
        return False

    @property
    def surface(self) -> QWidget:
        """What is painted: of something that scrolls the part within its frame."""
        view = self.viewport() if isinstance(self, QAbstractScrollArea) else self
        assert isinstance(view, QWidget)
        return view

    def take_turns(self) -> None:
        """What was there stays until it is painted."""
        self.surface.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)

    def is_there(self) -> bool:
        """Whether it can be seen at all."""
        return isinstance(self, QWidget) and not isdeleted(self) and self.isVisible()

    def paint_owed(self) -> None:
        """Ask for what wasn't painted when it was asked for."""
        self.surface.update(self._owed)

    def forget_place(self) -> None:
        """What was there is another theme's."""
        self._place = QRect()

    def paint_whole(self, event: QPaintEvent) -> None:
        """Paint what is asked for: as the class behind does it."""
        super().paintEvent(event)  # type: ignore[misc]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Now, or in a later frame; until then what was there stays, unless that was another thing's place."""
        assert event is not None
        view = self.surface
        place = QRect(view.mapTo(view.window(), QPoint()), view.size())
        if FRAME.has_turn(self):
            self._place, self._owed = place, QRegion()
            if not self.has_ground:
                QPainter(view).fillRect(event.rect(), THEME.color("card"))
            self.paint_whole(event)
            return
        self._owed = self._owed.united(event.region())
        if place != self._place:
            QPainter(view).fillRect(event.rect(), THEME.color("card"))
