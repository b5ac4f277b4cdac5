"""A filter as the sum or difference of two allpasses, rounded: whatever the integers, each branch stays an allpass, so
that the passband can't rise above the sum's gain."""

from __future__ import annotations

from combe.errors import PoleError, StructureError
from combe.filters import Cascade
from combe.realization.term import INPUT, ONE, Term
from combe.responses.allpass_pair import AllpassPair, Group, allpass_pair, group_polynomial
from combe.rounding.forms import Draft, Rounder, Sum, allpass_sums, unit_term


def allpass_draft(source: Cascade, rounder: Rounder, form: str) -> Draft:
    """One network for the whole filter.

    Raises
    ------
    FormatError
        ``StructureError`` if the filter is no sum of two allpasses, ``PoleError`` if rounding moves a pole out.
    """
    pair = allpass_pair(source)
    if pair is None:
        raise StructureError(
            "this filter is no sum of two allpasses", "structure",
            "odd orders of butterworth, chebyshev and elliptic are, and every form of sections takes all filters",
        )  # fmt: skip
    build = _lattices if form == "allpass-sum" else _direct
    draft: Draft = []
    ends = []
    for mark, members in zip("ab", pair.branches):
        sums, end = build(mark, members, rounder)
        draft += sums
        ends.append(end)
    return [*draft, *_way_out(pair, ends, rounder, form)]


def _way_out(pair: AllpassPair, ends: list[str], rounder: Rounder, form: str) -> Draft:
    out, (c, d) = rounder.integers(pair.gain / 2, pair.sign * pair.gain / 2)
    out = out if c or d else ONE
    if form == "allpass-direct" and abs(c) & (abs(c) - 1):
        both = Sum("s", (unit_term(ends[0]), Term(ends[1], 0, pair.sign, ONE)))
        return [both, Sum("y", (Term("s", 0, c, out),))]
    return [Sum("y", (Term(ends[0], 0, c, out), Term(ends[1], 0, d, out)))]


def _lattices(mark: str, members: tuple[Group, ...], rounder: Rounder) -> tuple[Draft, str]:
    draft: Draft = []
    at = INPUT
    for place, group in enumerate(members):
        wanted = _reflections(group)
        entry, integers = rounder.integers(*wanted, *(-value for value in wanted))
        own = integers[: len(wanted)]
        _inside(group, rounder, all(abs(value * entry.step) < 1 for value in own))
        draft += allpass_sums(f"{mark}{place}", at, entry, own)
        at = f"g{len(own)}{mark}{place}"
    return draft, at


def _direct(mark: str, members: tuple[Group, ...], rounder: Rounder) -> tuple[Draft, str]:
    """y = a2·(x − y[2]) + a1·(x[1] − y[1]) + x[2]: the differences are taken before they are multiplied."""
    draft: Draft = []
    at = INPUT
    for place, group in enumerate(members):
        wanted = group_polynomial(group)
        entry, own = rounder.integers(*wanted)
        a = [value * entry.step for value in own]
        _inside(group, rounder, abs(a[-1]) < 1 and (len(a) == 1 or abs(a[0]) < 1 + a[1]))
        y = f"y{mark}{place}"
        products = []
        for k, value in enumerate(own, 1):
            if value:
                difference = f"d{k}{mark}{place}"
                draft.append(Sum(difference, (unit_term(at, len(own) - k), Term(y, k, -1, ONE))))
                products.append(Term(difference, 0, value, entry))
        draft.append(Sum(y, (*products, unit_term(at, len(own)))))
        at = y
    return draft, at


def _inside(group: Group, rounder: Rounder, is_inside: bool) -> None:
    if not is_inside:
        what = f"at {rounder.bits} bits the pole at {abs(group[0]):.6g} moves onto the unit circle"
        raise PoleError(what, "coefficient_bits", "take more coefficient bits")


def is_allpass_sum(source: Cascade) -> bool:
    """Whether the filter splits into two allpasses."""
    return allpass_pair(source) is not None


def _reflections(group: Group) -> tuple[float, ...]:
    if len(group) == 1:
        return (-group[0].real,)
    a1, a2 = group_polynomial(group)
    return a1 / (1 + a2), a2
