"""A filter as half the sum or difference of two allpasses, where it is one.

Odd-order Butterworth, Chebyshev and elliptic filters, and bandpasses made from them, split their poles between two
allpass branches (Vaidyanathan, Mitra & Neuvo 1986, "A new approach to the realization of low-sensitivity IIR digital
filters").
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from itertools import combinations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.filters import Cascade, rational_of
from combe.responses.evaluate import frequency_response

ComplexArray = NDArray[np.complex128]
Group = tuple[complex, ...]
ALLPASS_STRUCTURES = ("allpass-sum", "allpass-direct")
"""Branches of two-multiplier lattices, and of direct sums with one multiply for each pole."""
MOST_GROUPS, CLOSE = 13, 1e-5
"""So many poles, pairs counted once, are divided in every way; so close to the filter, as a share of its largest gain,
the two branches must come."""


class AllpassPair(Struct, frozen=True):
    """H = gain·(A0 + sign·A1)/2: the poles of either branch, conjugates together."""

    branches: tuple[tuple[Group, ...], tuple[Group, ...]]
    sign: int
    gain: float


def group_polynomial(group: Group) -> tuple[float, ...]:
    """a1, or a1 and a2, of 1 + a1·z⁻¹ + a2·z⁻² with these poles."""
    if len(group) == 1:
        return (-group[0].real,)
    return -2 * group[0].real, abs(group[0]) ** 2


@lru_cache(maxsize=64)
def allpass_pair(source: Cascade) -> AllpassPair | None:
    """The two branches, or None where the filter isn't made so.

    Poles go to the branches in turn, by angle, in all the classics; other ways are tried after that one.
    """
    groups = _groups(source)
    if not groups or len(groups) > MOST_GROUPS:
        return None
    omega = np.concatenate([np.linspace(0.003, 3.13, 97), [abs(float(np.angle(group[0]))) for group in groups]])
    wanted = frequency_response(source, omega)
    if not _ends_fit(source, wanted, sum(map(len, groups))):
        return None
    turn = np.exp(-1j * omega)
    answers = np.array([np.prod([(turn - np.conj(p)) / (1 - p * turn) for p in group], axis=0) for group in groups])
    whole = np.prod(answers, axis=0)
    enough = CLOSE * max(float(np.max(np.abs(wanted))), 1e-300)
    for members in _divisions(len(groups)):
        first = np.prod(answers[list(members)], axis=0) if members else np.ones_like(turn)
        for sign in (1, -1):
            total = (first + sign * whole / first) / 2
            size = float(np.vdot(total, total).real)
            gain = float(np.vdot(total, wanted).real) / size if size else 0.0
            if float(np.max(np.abs(wanted - gain * total))) <= enough:
                chosen = tuple(groups[k] for k in members)
                others = tuple(group for k, group in enumerate(groups) if k not in members)
                return AllpassPair((chosen, others), sign, gain)
    return None


def _groups(source: Cascade) -> list[Group]:
    """Real poles alone, others with their conjugates, by angle."""
    poles = rational_of(source).poles
    real: list[Group] = [(complex(p),) for p in poles if p.imag == 0]
    pairs: list[Group] = [(complex(p), complex(p.conjugate())) for p in poles if p.imag > 0]
    return sorted(real + pairs, key=lambda group: float(np.angle(group[0])))


def _ends_fit(source: Cascade, wanted: ComplexArray, order: int) -> bool:
    """A real allpass is 1 at frequency 0 and ±1 at half the rate: there the filter has its largest gain or none."""
    ends = np.abs(frequency_response(source, np.array([0.0, np.pi])))
    most = max(float(np.max(np.abs(wanted))), float(np.max(ends)))
    is_loud = [bool(end > most / 2) for end in ends]
    if any(abs(end - (most if loud else 0.0)) > CLOSE * most for end, loud in zip(ends, is_loud)):
        return False
    return (is_loud[0] is not is_loud[1]) == bool(order % 2)


def _divisions(count: int) -> Iterator[tuple[int, ...]]:
    """Members of the first branch: every other one first, then all there are."""
    yield tuple(range(0, count, 2))
    yield tuple(range(1, count, 2))
    for size in range(count // 2 + 1):
        yield from combinations(range(count), size)
