"""The least length that will do, where only a share of the tolerances can be worked out for each length."""

from __future__ import annotations

from collections.abc import Callable
from math import cos, pi

from combe.designing.equiripple.problem import fits_symmetry, pieces_of
from combe.designing.estimates import estimated_taps
from combe.designing.linear_phase import POINTS_PER_TAP
from combe.requirement import Requirement

LOOK_BELOW = 3
DRAFT_ROOM = 1 / cos(pi / (2 * POINTS_PER_TAP))
"""What a grid of so many points a tap may miss of a share: a cosine polynomial of degree n falls from its largest value no
faster than cos nω does (M. Riesz 1914)."""


def least_length(
    share: Callable[[int], float],
    guess: int,
    allowed: Callable[[int], bool],
    most: int,
    least: int = 1,
    step: int | None = None,
    look_below: int = LOOK_BELOW,
) -> int | None:
    """The least allowed length whose share is at most 1, both parities looked at; None if there is none.

    Shares mostly fall with length, so each parity is bracketed from a guess, by an even ``step`` to begin with, and halved in
    between; a few lengths below are looked at in case they fare better than their neighbors.
    """
    found: int | None = None
    for parity in (0, 1):
        start = max(least, min(guess if found is None else found, most))
        start += (start + parity + guess) % 2
        if not allowed(start):
            continue
        best = _of_parity(share, start, most if found is None else min(found + 1, most), least, step, look_below)
        if best is not None and (found is None or best < found):
            found = best
    return found


def drafted_length(share: Callable[[int], float], near: int, allowed: Callable[[int], bool], most: int) -> int | None:
    """About the least length, looked for from one that did for a requirement nearby, and not verified: a little room is left."""
    return least_length(lambda n: share(n) * DRAFT_ROOM, near, allowed, min(2 * near + 16, most), step=2, look_below=0)


def _of_parity(
    share: Callable[[int], float], start: int, most: int, least: int, step: int | None, look_below: int
) -> int | None:
    floor = least + (start - least) % 2
    high = low = start
    step = step or max(2, start // 10 * 2)
    if share(start) <= 1:
        while low > floor and share(low) <= 1:
            high, low = low, max(floor, low - step)
            step *= 2
        if share(low) <= 1:
            return low
    else:
        while share(high) > 1:
            if high + 2 > most:
                return None
            low, high = high, min(high + step, most - (most - high) % 2)
            step *= 2
    while high - low > 2:
        middle = low + (high - low) // 4 * 2
        low, high = (low, middle) if share(middle) <= 1 else (middle, high)
    for below in range(high - 2 * look_below, high, 2):
        if below >= floor and share(below) <= 1:
            return below
    return high


def allowed_lengths(requirement: Requirement) -> Callable[[int], bool]:
    """Which lengths symmetric taps may have: an even count is zero at half the sample rate."""
    pieces = pieces_of(requirement)
    return lambda taps: not fits_symmetry(pieces, taps, 1)


def first_guess(requirement: Requirement, factor: float = 1.0) -> int:
    """Where to start looking."""
    guess, _ = estimated_taps(requirement)
    return max(3, round(min(guess, 1e6) * factor))
