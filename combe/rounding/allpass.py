"""A filter as the sum or difference of two allpasses, where it is one.

Odd-order Butterworth, Chebyshev and elliptic filters, and bandpasses made from them, split their poles between two
allpass branches (Vaidyanathan, Mitra & Neuvo 1986, "A new approach to the realization of low-sensitivity IIR digital
filters"). Rounded reflections leave each branch an allpass, so that the passband can't rise above the sum's gain.
"""

from __future__ import annotations

from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from combe.errors import PoleError, StructureError
from combe.filters import Cascade, rational_of
from combe.realization.term import INPUT, ONE, Term
from combe.responses import frequency_response
from combe.rounding.forms import Draft, Rounder, Sum, allpass_sums

ComplexArray = NDArray[np.complex128]
MOST_GROUPS, CLOSE = 13, 1e-5


def allpass_draft(source: Cascade, rounder: Rounder) -> Draft:
    """One network for the whole filter.

    Raises
    ------
    FormatError
        ``StructureError`` if the filter is no sum of two allpasses.
    """
    groups = _groups(source)
    chosen, sign, gain = _split(source, groups)
    draft: Draft = []
    ends = []
    for branch, members in enumerate((chosen, [k for k in range(len(groups)) if k not in chosen])):
        at = INPUT
        for place, member in enumerate(members):
            mark = f"{'ab'[branch]}{place}"
            wanted = _reflections(groups[member])
            entry, integers = rounder.integers(*wanted, *(-value for value in wanted))
            own = integers[: len(wanted)]
            if any(abs(value * entry.step) >= 1 for value in own):
                what = f"at {rounder.bits} bits the pole at {abs(groups[member][0]):.6g} moves onto the unit circle"
                raise PoleError(what, "coefficient_bits", "take more coefficient bits")
            draft += allpass_sums(mark, at, entry, own)
            at = f"g{len(own)}{mark}"
        ends.append(at)
    out, (c, d) = rounder.integers(gain / 2, sign * gain / 2)
    out = out if c or d else ONE
    return [*draft, Sum("y", (Term(ends[0], 0, c, out), Term(ends[1], 0, d, out)))]


def is_allpass_sum(source: Cascade) -> bool:
    """Whether the filter splits into two allpasses."""
    try:
        _split(source, _groups(source))
    except StructureError:
        return False
    return True


def _groups(source: Cascade) -> list[tuple[complex, ...]]:
    """Real poles alone, others with their conjugates, by angle."""
    poles = rational_of(source).poles
    real: list[tuple[complex, ...]] = [(complex(p),) for p in poles if p.imag == 0]
    pairs: list[tuple[complex, ...]] = [(complex(p), complex(p.conjugate())) for p in poles if p.imag > 0]
    return sorted(real + pairs, key=lambda group: float(np.angle(group[0])))


def _reflections(group: tuple[complex, ...]) -> tuple[float, ...]:
    if len(group) == 1:
        return (-group[0].real,)
    a1, a2 = -2 * group[0].real, abs(group[0]) ** 2
    return a1 / (1 + a2), a2


def _split(source: Cascade, groups: list[tuple[complex, ...]]) -> tuple[list[int], int, float]:
    """Members of the first branch, the sign between the branches, and the gain."""
    refused = StructureError(
        "this filter is no sum of two allpasses", "structure",
        "odd orders of butterworth, chebyshev and elliptic are, and every form of sections takes all filters",
    )  # fmt: skip
    if not groups or len(groups) > MOST_GROUPS:
        raise refused
    omega = np.concatenate([np.linspace(0.003, 3.13, 97), *(np.angle(group[0]) + np.array([0.0]) for group in groups)])
    wanted = frequency_response(source, omega)
    turn = np.exp(-1j * omega)
    answers = np.array([np.prod([(turn - np.conj(p)) / (1 - p * turn) for p in group], axis=0) for group in groups])
    whole = np.prod(answers, axis=0)
    best: tuple[float, list[int], int, float] = (np.inf, [], 1, 1.0)
    for count in range(len(groups) // 2 + 1):
        for members in combinations(range(len(groups)), count):
            first = np.prod(answers[list(members)], axis=0) if members else np.ones_like(turn)
            for sign in (1, -1):
                total = (first + sign * whole / first) / 2
                size = float(np.vdot(total, total).real)
                gain = float(np.vdot(total, wanted).real) / size if size else 0.0
                off = float(np.max(np.abs(wanted - gain * total)))
                if off < best[0]:
                    best = off, list(members), sign, gain
    if best[0] > CLOSE * max(float(np.max(np.abs(wanted))), 1e-300):
        raise refused
    return best[1:]
