"""When a double buffer's interrupts come, are served, are missed: times only, no samples yet.

While one half of a buffer fills, the other is worked on. Two flags say that a half is full; a flag that is still up when its
half fills again has cost a block. The output buffer is played at the same places as the input buffer is filled, so that what
was written into a half is heard when the converters come round to it again: a sample is heard two halves after it came.
"""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Array = NDArray[np.float64]
MOST_BLOCK = 1 << 16
INTERRUPT_CYCLES = 120.0
"""To get in and out of an interrupt and to call the filter, with what compilers save and restore."""


class Pace(Struct, frozen=True):
    """How fast samples come and how long work takes."""

    sample_rate_hz: float
    block: int
    """Samples of half a buffer."""
    clock_hz: float
    cycles_per_sample: float
    cycles_per_interrupt: float

    @property
    def period_s(self) -> float:
        """From one interrupt to the next."""
        return self.block / self.sample_rate_hz

    @property
    def work_s(self) -> float:
        """What one interrupt takes."""
        return (self.cycles_per_interrupt + self.block * self.cycles_per_sample) / self.clock_hz

    @property
    def load(self) -> float:
        """The share of the clock that is spent."""
        return self.work_s / self.period_s


class Served(Struct, frozen=True):
    """One interrupt: which block's half was full, when, and from when to when it was worked on."""

    block: int
    full_s: float
    start_s: float
    stop_s: float


class Schedule(Struct, frozen=True):
    """Interrupts in the order in which they were served, and the blocks that never were."""

    served: tuple[Served, ...]
    lost: tuple[int, ...]


def schedule(pace: Pace, blocks: int) -> Schedule:
    """What happens to so many blocks."""
    served: list[Served] = []
    lost: list[int] = []
    waiting: list[tuple[int, float]] = []
    free = 0.0

    def serve_until(now: float) -> None:
        nonlocal free
        while waiting and max(free, waiting[0][1]) < now:
            block, full = waiting.pop(0)
            start = max(free, full)
            free = start + pace.work_s
            served.append(Served(block, full, start, free))

    for block in range(blocks):
        now = (block + 1) * pace.period_s
        serve_until(now)
        same = next((place for place, (other, _) in enumerate(waiting) if other % 2 == block % 2), None)
        if same is None:
            waiting.append((block, now))
        else:
            # The flag is up already: one interrupt will find this block where the other was.
            lost.append(waiting[same][0])
            waiting[same] = (block, waiting[same][1])
    serve_until(float("inf"))
    return Schedule(tuple(served), tuple(lost))


def read_times(pace: Pace, served: Served) -> Array:
    """When each sample of a block is read; it is written a sample's work later."""
    cycles = pace.cycles_per_interrupt + np.arange(pace.block) * pace.cycles_per_sample
    return np.asarray(served.start_s + cycles / pace.clock_hz, dtype=np.float64)


def played_times(pace: Pace, block: int) -> Array:
    """When the converter takes each sample of the half that a block's outputs go into."""
    return np.asarray(((block + 2) * pace.block + np.arange(pace.block)) / pace.sample_rate_hz)


def samples_read(pace: Pace, served: Served, count: int) -> NDArray[np.int64]:
    """Which of ``count`` samples the code finds in the half it works on: the block's own, unless newer ones have come over
    them."""
    first = served.block * pace.block + np.arange(pace.block)
    # The half's n-th filling puts sample first + 2nB into a place, at the end of that sample's own time. A hair is left for
    # times that are the same but for rounding.
    arrived = read_times(pace, served) * pace.sample_rate_hz * (1 + 1e-12)
    fillings = np.floor((np.minimum(arrived, count) - 1 - first) / (2 * pace.block))
    return np.asarray(first + 2 * pace.block * np.maximum(fillings, 0), dtype=np.int64)
