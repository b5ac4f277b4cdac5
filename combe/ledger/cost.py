"""What one output sample of a filter costs, counted on the exact filter."""

from __future__ import annotations

from math import frexp

from msgspec import Struct

from combe.filters import Cascade, Filter, Fir, rational_of, sections_of


class Cost(Struct, frozen=True):
    """Operations per input sample, on average where the rate changes, and memory words."""

    multiplies: float
    adds: float
    delays: float


def cost_of(source: Filter) -> Cost:
    """A symmetric or antisymmetric pair of taps counts as one multiply; zero taps cost nothing.

    In sections a coefficient that is zero or a power of two, of either sign, is no multiply but a shift.
    """
    if isinstance(source, Fir):
        taps = source.taps
        half = taps[: (len(taps) + 1) // 2] if source.symmetry else taps
        used = sum(1 for tap in taps if tap)
        return Cost(sum(1 for tap in half if tap), max(used - 1, 0), len(taps) - 1)
    if isinstance(source, Cascade):
        numbers = [value for section in source.sections for value in section]
        multiplies = sum(1 for value in (*numbers, source.gain) if not _is_shift(value))
        adds = sum(max(sum(1 for b in s[:3] if b) - 1, 0) + sum(1 for a in s[3:] if a) for s in source.sections)
        return Cost(multiplies, adds, source.order)
    return cost_of(sections_of(rational_of(source)))


def _is_shift(value: float) -> bool:
    return value == 0 or abs(frexp(value)[0]) == 0.5
