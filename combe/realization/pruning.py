"""Low bits that registers of sums in a row leave out: what becomes of what is cut off, in whole numbers.

Hogenauer (1981): a decimator's output is cut in the end, so that its integrators and combs may drop bits on the way, more and
more of them. An error at a register reaches the output through the integrators and combs behind it, a finite path.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from math import floor, log2

from msgspec import Struct


class Path(Struct, frozen=True):
    """From the adder of a register to the output: sums of the weights above zero, of those below (as a positive number), and
    of their squares."""

    positive: int
    negative: int
    energy: int

    @property
    def gain(self) -> int:
        """For a constant."""
        return self.positive - self.negative


@lru_cache(maxsize=64)
def paths(order: int, factor: int, delay: int) -> tuple[Path, ...]:
    """The path of each register of sums that go down by ``factor``: of the integrators first, then of the combs.

    Behind integrator j come integrators j … order−1, and all combs over ``factor·delay`` samples: order−j sums over a window of
    so many samples, and j differences over it. Behind comb j come the combs j … order−1.
    """
    length = factor * delay
    found = []
    for before, weights in enumerate(reversed(windows(order, length))):
        for _ in range(before):
            weights = _differences(weights, length)
        found.append(_path(weights))
    for left in range(order, 0, -1):
        weights = [1]
        for _ in range(left):
            weights = _differences(weights, delay)
        found.append(_path(weights))
    return tuple(found)


@lru_cache(maxsize=64)
def reaches(order: int, factor: int, delay: int) -> tuple[tuple[int, int], ...]:
    """What each register of sums that go up by ``factor`` holds at most, for inputs from 0 to 1 (sums of the weights above
    zero and of those below): of the combs first, then of the integrators, in the worst of the phases."""
    found = []
    weights = [1]
    for _ in range(order):
        weights = _differences(weights, delay)
        path = _path(weights)
        found.append((path.positive, path.negative))
    for through, weights in enumerate(windows(order, factor * delay), 1):
        for _ in range(order - through):
            weights = _differences(weights, factor * delay)
        phases = [_path(weights[phase::factor]) for phase in range(factor)]
        found.append((max(path.positive for path in phases), max(path.negative for path in phases)))
    return tuple(found)


def windows(order: int, length: int) -> list[list[int]]:
    """The weights of one to ``order`` sums over a window in a row."""
    found = [[1] * length]
    while len(found) < order:
        found.append(_windowed(found[-1], length))
    return found


def _windowed(weights: Sequence[int], length: int) -> list[int]:
    """Summed over a window."""
    total, found = 0, []
    for k in range(len(weights) + length - 1):
        total += (weights[k] if k < len(weights) else 0) - (weights[k - length] if k >= length else 0)
        found.append(total)
    return found


def _differences(weights: Sequence[int], length: int) -> list[int]:
    """Less what was ``length`` samples before."""
    room = [0] * length
    return [now - before for now, before in zip([*weights, *room], [*room, *weights])]


def _path(weights: Sequence[int]) -> Path:
    return Path(
        sum(value for value in weights if value > 0),
        -sum(value for value in weights if value < 0),
        sum(value * value for value in weights),
    )


def error_limits(discarded: Sequence[int], order: int, factor: int, delay: int) -> tuple[int, int]:
    """The least and the largest error of an output, in its last place were nothing dropped: what is cut off at each register is
    0 or more, and less than its last place."""
    low = high = 0
    for path, cut in zip(paths(order, factor, delay), _cuts(discarded)):
        low -= cut * path.positive
        high += cut * path.negative
    return low, high


def _cuts(discarded: Sequence[int]) -> list[int]:
    """The most that is cut off in front of each register."""
    return [(1 << now) - (1 << before) for before, now in zip([0, *discarded], discarded)]


def error_powers(discarded: Sequence[int], order: int, factor: int, delay: int) -> list[tuple[float, float]]:
    """Of what is cut off in front of each register: the variance and the mean of its error at the output, in squared last places
    and in last places, every pattern of the bits equally likely (Widrow & Kollár 2008)."""
    found = []
    for path, before, now in zip(paths(order, factor, delay), [0, *discarded], discarded):
        cut = (1 << now) - (1 << before)
        found.append((float(path.energy) * (4.0**now - 4.0**before) / 12, -float(path.gain) * cut / 2))
    return found


def pruned(order: int, factor: int, delay: int, dropped: int) -> tuple[int, ...]:
    """How many low bits each register leaves out where ``dropped`` of the output's will be cut: as many as keep the noise of
    every register's cut, its mean included, within its share of a cut of that many (Hogenauer 1981)."""
    if dropped <= 0:
        return ()
    share = 4.0**dropped / (2 * order)
    found: list[int] = []
    for path in paths(order, factor, delay):
        most = min(dropped, max(floor(log2(share / path.energy) / 2), 0))
        while most and path.gain and 4.0**most * path.energy + 3 * (float(path.gain) * ((1 << most) - 1)) ** 2 > share:
            most -= 1
        found.append(most)
    for place in range(len(found) - 2, -1, -1):
        found[place] = min(found[place], found[place + 1])
    return tuple(found) if any(found) else ()
