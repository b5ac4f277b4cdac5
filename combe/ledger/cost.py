"""What one output sample of a filter costs, counted on the exact filter in the structure that is cheapest for it."""

from __future__ import annotations

from math import frexp
from typing import Any

from msgspec import Struct

from combe.filters import Cascade, Filter, Fir, rational_of, sections_of
from combe.responses.allpass_pair import ALLPASS_STRUCTURES, AllpassPair, allpass_pair, group_polynomial


class Cost(Struct, frozen=True):
    """Operations per input sample, on average where the rate changes, and memory words; ``structure`` names the form that
    was counted, as ``realize`` takes it, or is empty where there are several."""

    multiplies: float
    adds: float
    delays: float
    structure: str = ""

    def document(self) -> dict[str, Any]:
        """As files have it."""
        found = {"multiplies": self.multiplies, "adds": self.adds, "delays": self.delays}
        return found | ({"structure": self.structure} if self.structure else {})

    @property
    def multiply_words(self) -> str:
        """The multiplies, and how they come to be so few."""
        return f"{self.multiplies} multiplies{' as two allpasses' if self.structure in ALLPASS_STRUCTURES else ''}"


def cost_of(source: Filter) -> Cost:
    """A symmetric or antisymmetric pair of taps counts as one multiply; zero taps cost nothing.

    In sections a coefficient that is zero or a power of two, of either sign, is no multiply but a shift. Where a filter is
    half the sum of two allpasses, and these take fewer multiplies, they are counted: one for each pole
    (Vaidyanathan, Mitra & Neuvo 1986).
    """
    if isinstance(source, Fir):
        taps = source.taps
        half = taps[: (len(taps) + 1) // 2] if source.symmetry else taps
        used = sum(1 for tap in taps if tap)
        form = "folded" if source.symmetry and len(taps) > 1 else "direct"
        return Cost(sum(1 for tap in half if tap), max(used - 1, 0), len(taps) - 1, form)
    if isinstance(source, Cascade):
        plain = cost_of_sections(source)
        pair = allpass_pair(source)
        other = _cost_of_pair(pair) if pair is not None else plain
        return other if other.multiplies < plain.multiplies else plain
    return cost_of(sections_of(rational_of(source)))


def cost_of_sections(source: Cascade) -> Cost:
    """Sections in a row, whatever else the filter may be."""
    numbers = [value for section in source.sections for value in section]
    multiplies = sum(1 for value in (*numbers, source.gain) if not _is_shift(value))
    adds = sum(max(sum(1 for b in s[:3] if b) - 1, 0) + sum(1 for a in s[3:] if a) for s in source.sections)
    return Cost(multiplies, adds, source.order, "direct-1")


def _cost_of_pair(pair: AllpassPair) -> Cost:
    """Both branches section by section, y = a2·(x − y[2]) + a1·(x[1] − y[1]) + x[2], their sum and its gain.

    Words of memory: the input as far back as either branch needs it, and the values of every section.
    """
    multiplies = adds = delays = furthest = 0
    for branch in pair.branches:
        for place, group in enumerate(branch):
            factors = [a for a in group_polynomial(group) if a]
            multiplies += sum(1 for a in factors if not _is_shift(a))
            adds += 2 * len(factors)
            following = len(branch[place + 1]) if place + 1 < len(branch) else 0
            delays += max(len(group), following)
        furthest = max(furthest, len(branch[0]) if branch else 0)
    multiplies += 0 if _is_shift(pair.gain) else 1
    return Cost(multiplies, adds + 1, delays + furthest, "allpass-direct")


def _is_shift(value: float) -> bool:
    return value == 0 or abs(frexp(value)[0]) == 0.5
