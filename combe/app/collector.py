"""Garbage of the interface is collected on the interface thread only.

Python's collector runs on whichever thread allocates next. If that is a background thread, it may take down widgets
there, which Qt doesn't survive. So automatic collection is off, and a timer collects between events instead.
"""

from __future__ import annotations

import ctypes
import gc
import sys
from collections.abc import Callable
from threading import Thread

from PyQt6.QtCore import QObject, QTimer

INTERVAL_MS = 500
ROUNDS = 40
"""Rounds after which free memory is given back: every twenty seconds."""
THRESHOLDS = (700, 10, 10)
"""Python's own."""
FEW_MODULES = 8
"""Up to so many more than before are gone through: what is put aside with them is never collected, cycles among it neither."""
HEAPS, OWN_BYTES, REST_BYTES = 2, 256 << 10, 1 << 20
"""Heaps that all threads share, the least piece that is asked of the system and given back by itself, and what may lie free at a
heap's end. The C library's own ways (a heap for each thread, a limit that follows the largest piece ever freed) left 185 MB free and
torn after twelve minutes of a soak where this leaves 14."""
_ARENA_MAX, _MMAP_THRESHOLD, _TRIM_THRESHOLD = -8, -3, -1  # as malloc.h numbers them


class Collector(QObject):
    """Collects as often as Python would, but here."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        self._modules = 0
        self._rounds = 0
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.collect)
        self._timer.start(INTERVAL_MS)

    def set_aside(self) -> None:
        """A window closes: nothing that exists now is collected any more."""
        self._timer.stop()
        gc.freeze()

    def collect(self) -> None:
        """One round, of the generations that are due.

        What stands when the first round comes (modules, the window) stays as long as the application, and so do modules that
        are loaded later: they are left out from then on, or every full round would go through all of them, sixty milliseconds
        in which nothing moves.
        """
        if len(sys.modules) > self._modules + FEW_MODULES:
            self._modules = len(sys.modules)
            gc.freeze()
            return
        counts = gc.get_count()
        due = [level for level in range(3) if counts[level] > THRESHOLDS[level]]
        if due:
            gc.collect(due[-1])
        self._rounds += 1
        if self._rounds % ROUNDS == 0:
            Thread(target=_give_back, daemon=True).start()


def keep_heaps_small() -> None:
    """Before the first thread: what long designs leave free can be used again by any thread, or goes back to the system."""
    set_option: Callable[[int, int], int] | None = getattr(ctypes.CDLL(None), "mallopt", None)
    if set_option is not None:
        for option, value in ((_ARENA_MAX, HEAPS), (_MMAP_THRESHOLD, OWN_BYTES), (_TRIM_THRESHOLD, REST_BYTES)):
            set_option(option, value)


def _give_back() -> None:
    """Pages that are free in the middle of a heap go back to the system: the C library gives back only its end by itself."""
    trim: Callable[[int], int] | None = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is not None:
        trim(0)
