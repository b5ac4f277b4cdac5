"""What is only looked at is worked out once its page is on screen: beside the first frames it would hold the interpreter they need."""

from __future__ import annotations

import time
from collections.abc import Callable

from PyQt6.QtCore import QTimer

REST_S = 0.010
"""After the last frame; what a frame leaves to the next is asked for within half of that."""
LONGEST_S = 0.15
"""Nothing waits longer, whatever moves on the screen."""


class Calm:
    """Whether the interface has painted what it was asked to. It is told by the interface thread; the others wait."""

    def __init__(self) -> None:
        self._is_stirring = False
        self._stirred = 0.0

    def ask(self) -> None:
        """Work was asked for that can wait, until what is being done here is done, and painted."""
        self.begin()
        QTimer.singleShot(0, self.end)

    def begin(self) -> None:
        """A frame is being painted."""
        self._is_stirring = True

    def end(self) -> None:
        """It is there."""
        self._is_stirring, self._stirred = False, time.monotonic()

    def wait(self, is_stopped: Callable[[], bool] = lambda: False) -> None:
        """Until nothing has stirred for a moment."""
        ends = time.monotonic() + LONGEST_S
        while not is_stopped():
            now = time.monotonic()
            left = min((now if self._is_stirring else self._stirred) + REST_S, ends) - now
            if left <= 0:
                return
            time.sleep(left)


CALM = Calm()
