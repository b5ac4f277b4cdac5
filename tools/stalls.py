"""When the machine itself stood still: a process that only sleeps, and says when it was woken late.

A virtual machine is taken off its processors now and then, for a tenth of a second or for seconds; what a clock shows of that
time is nobody's work.
"""

from __future__ import annotations

import subprocess
import sys
import threading
import time

NAP_S = 0.02
LATE_S = 0.1
"""Other processes hold up one that only sleeps for a few milliseconds; this late, none of them ran either."""


class Stalls:
    """Watches from now on; ``with`` ends it."""

    def __init__(self) -> None:
        self._found: list[tuple[float, float]] = []
        words = [sys.executable, "-S", "-E", __file__]
        self._sleeper = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def __enter__(self) -> Stalls:
        return self

    def __exit__(self, *_: object) -> None:
        self._sleeper.kill()
        self._sleeper.wait()
        self._reader.join()

    def _read(self) -> None:
        assert self._sleeper.stdout is not None
        for line in self._sleeper.stdout:
            start, stop = (float(word) for word in line.split())
            self._found.append((start, stop))

    def between(self, start: float, stop: float) -> float:
        """Seconds of a stretch of ``time.perf_counter()`` in which the machine stood still; waits until the sleeper has told."""
        time.sleep(2 * NAP_S)
        return overlap(self._found, start, stop)


def overlap(found: list[tuple[float, float]], start: float, stop: float) -> float:
    """Seconds that a stretch has in common with some that don't meet each other."""
    return sum(max(0.0, min(stop, end) - max(start, begun)) for begun, end in found)


def sleep_on() -> None:
    """Sleep and tell, until killed or nobody reads any more."""
    before = time.perf_counter()
    while True:
        time.sleep(NAP_S)
        now = time.perf_counter()
        if now - before > NAP_S + LATE_S:
            print(f"{before + NAP_S!r} {now!r}", flush=True)
        before = now


if __name__ == "__main__":
    sleep_on()
