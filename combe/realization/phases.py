"""Where between two samples an output lies, as an integer: counted in steps of a fixed length, without a division.

Of a rate that goes up by L and down by M, output m lies (m·M mod L)/L of a sample behind the newest one. Half a step of 1/L is added,
so that phases lie alike on both sides of the middle, and -1 to 1 stands for a whole sample.
"""

from __future__ import annotations

from functools import lru_cache

from combe.realization.formats import Format

WHOLE_BITS = 31
"""A sample of the input is at most 2^31 steps of the counter."""
MOST_PHASE_BITS = 31


MOST_FASTER = (8, 7)
"""Code whose ratio can be set while it runs gives at most this much more than it was designed for."""


def step_of(up: int) -> int:
    """Steps of the counter in one of the ``up`` parts of a sample."""
    return (1 << WHOLE_BITS) // up


def phase_of(place: int, half: int, entry: Format) -> int:
    """The phase at a place of the counter, in steps of its format, the rest cut off."""
    return ((place + half) >> (WHOLE_BITS - 1 - entry.fraction)) - (1 << entry.fraction)


@lru_cache(maxsize=256)
def phases_of(up: int, entry: Format) -> tuple[int, ...]:
    """Phase p of each of the ``up`` places."""
    step = step_of(up)
    return tuple(phase_of(place * step, step // 2, entry) for place in range(up))


def steps_between(up: int, down: int) -> tuple[int, int]:
    """Whole samples of the input from one output to the next, and what is left in steps of the counter."""
    return down // up, down % up * step_of(up)


def least_steps(up: int, down: int) -> tuple[int, int]:
    """The shortest way from one output to the next that may be set: whole samples, and parts of 2^31."""
    more, than = MOST_FASTER
    least = -((-down * than << WHOLE_BITS) // (up * more))
    return least >> WHOLE_BITS, least & ((1 << WHOLE_BITS) - 1)
