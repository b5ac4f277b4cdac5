"""Zeros and poles moved by hand: conjugates follow, real roots slide and split, nothing leaves the circle unsaid."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct

from combe.errors import DesignError
from combe.filters.rational import Rational, rational_of
from combe.filters.simultaneous import roots_of
from combe.filters.values import Cascade, Filter, Fir, Roots
from combe.values import replace

MOST_ROOTS = 400
ON_AXIS = 0.012
"""A root this near the real axis comes to lie on it."""
LARGEST_POLE = 0.99999
NEARLY = 0.03


class Mark(Struct, frozen=True):
    """One root that can be taken hold of: ``kind`` is ``zero`` or ``pole``, ``index`` its place in the list.

    A conjugate pair has one mark for each half; ``times`` counts roots in the same place.
    """

    kind: str
    index: int
    place: complex
    times: int = 1


@lru_cache(maxsize=8)
def unlocked(source: Filter) -> Roots:
    """Any filter as roots that can be moved.

    Raises
    ------
    DesignError
        If there are more roots than a hand could move.
    """
    if isinstance(source, Roots):
        return source
    if source.order > MOST_ROOTS:
        raise DesignError(f"{source.order} roots are too many to move by hand", "order", f"{MOST_ROOTS} are the most")
    if isinstance(source, Cascade):
        found = rational_of(source)
        # z^−delay stands for poles at the origin beyond the zeros there.
        zeros = [complex(z) for z in found.zeros] + [0j] * max(len(found.poles) - len(found.zeros) - found.delay, 0)
        poles = [complex(p) for p in found.poles]
        poles += [0j] * max(len(zeros) + found.delay - len(poles), 0)
        return Roots(tuple(zeros), tuple(poles), found.gain)
    return _from_taps(source)


def _from_taps(source: Fir) -> Roots:
    used = np.flatnonzero(source.array)
    if len(used) == 0:
        raise DesignError("all taps are zero, so there are no roots", "taps")
    core = source.array[used[0] : used[-1] + 1]
    poles = (0j,) * (len(core) - 1 + int(used[0]))
    return Roots(tuple(complex(z) for z in roots_of(core)), poles, float(core[0]))


def marks_of(source: Roots) -> list[Mark]:
    """Every root away from the origin, those in one place counted."""
    found: list[Mark] = []
    for kind, roots in (("zero", source.zeros), ("pole", source.poles)):
        seen: dict[complex, int] = {}
        for index, root in enumerate(roots):
            if root == 0:
                continue
            key = complex(round(root.real, 9), round(root.imag, 9))
            if key in seen:
                at = seen[key]
                found[at] = replace(found[at], times=found[at].times + 1)
            else:
                seen[key] = len(found)
                found.append(Mark(kind, index, root))
    return found


def added(source: Roots, kind: str, place: complex) -> Roots:
    """A root added, with its conjugate where it is complex; near the axis it is real."""
    place = _settled(kind, place)
    new = (place,) if place.imag == 0 else (place, place.conjugate())
    gain = _kept_gain(source)
    return _with_peak(_with_roots(source, kind, (*getattr(source, _field(kind)), *new)), gain)


def moved(source: Roots, mark: Mark, place: complex) -> Roots:
    """A root moved, its conjugate with it. A pair that meets the axis becomes two real roots there, and two real
    roots in one place split into a pair when drawn off the axis."""
    roots = list(getattr(source, _field(mark.kind)))
    here = roots[mark.index]
    place = _settled(mark.kind, place)
    if here.imag:
        partner = _partner(roots, mark.index)
        roots[mark.index], roots[partner] = place, place.conjugate()
    elif place.imag == 0:
        roots[mark.index] = place
    else:
        near = [k for k, r in enumerate(roots) if k != mark.index and r.imag == 0 and abs(r - here) < NEARLY]
        if not near:
            roots[mark.index] = complex(place.real, 0)
        else:
            roots[mark.index], roots[near[0]] = place, place.conjugate()
    return _with_peak(_with_roots(source, mark.kind, tuple(roots)), _kept_gain(source))


def removed(source: Roots, mark: Mark) -> Roots:
    """A root taken away, its conjugate with it."""
    roots = list(getattr(source, _field(mark.kind)))
    drop = {mark.index} | ({_partner(roots, mark.index)} if roots[mark.index].imag else set())
    kept = tuple(root for index, root in enumerate(roots) if index not in drop)
    return _with_peak(_with_roots(source, mark.kind, kept), _kept_gain(source))


def doubled(source: Roots, mark: Mark) -> Roots:
    """A second root (and conjugate) in the same place."""
    return added(source, mark.kind, getattr(source, _field(mark.kind))[mark.index])


def near_pairs(source: Roots) -> list[tuple[Mark, Mark]]:
    """Zeros and poles that all but cancel: nearer to each other than a small part of the pole's distance to the
    circle, or than a hair."""
    zeros = [mark for mark in marks_of(source) if mark.kind == "zero" and mark.place.imag >= 0]
    poles = [mark for mark in marks_of(source) if mark.kind == "pole" and mark.place.imag >= 0]
    found = []
    for pole in poles:
        reach = max(NEARLY * abs(1 - abs(pole.place)), 1e-6)
        near = min(zeros, key=lambda zero: abs(zero.place - pole.place), default=None)
        if near is not None and abs(near.place - pole.place) < reach:
            found.append((near, pole))
    return found


def without_pair(source: Roots, pair: tuple[Mark, Mark]) -> Roots:
    """Both roots of a pair that nearly cancels taken away."""
    return removed(removed(source, pair[0]), pair[1])


def _with_roots(source: Roots, kind: str, roots: tuple[complex, ...]) -> Roots:
    return replace(source, zeros=roots) if kind == "zero" else replace(source, poles=roots)


def _field(kind: str) -> str:
    return "zeros" if kind == "zero" else "poles"


def _settled(kind: str, place: complex) -> complex:
    """On the axis where it is near it; poles kept inside the unit circle."""
    if abs(place.imag) < ON_AXIS:
        place = complex(place.real, 0.0)
    if kind == "pole" and abs(place) > LARGEST_POLE:
        place = place / abs(place) * LARGEST_POLE
    return place


def _partner(roots: list[complex], index: int) -> int:
    """The conjugate of a complex root."""
    others = [k for k in range(len(roots)) if k != index]
    return min(others, key=lambda k: abs(roots[k] - roots[index].conjugate()))


def _kept_gain(source: Roots) -> float:
    """The largest gain of a filter, which moving a root leaves as it is."""
    return _peak(source)


def _with_peak(source: Roots, peak: float) -> Roots:
    """The gain set so that the largest gain is ``peak`` again."""
    here = _peak(source)
    if here <= 0 or not np.isfinite(here) or peak <= 0 or not np.isfinite(peak):
        return source
    return replace(source, gain=source.gain * peak / here)


def _peak(source: Roots) -> float:
    """The largest gain on a grid crowded around the poles."""
    found: Rational = rational_of(source)
    omega = [np.linspace(0, np.pi, 513)]
    for pole in found.poles[found.poles.imag >= 0]:
        omega.append(np.angle(pole) + max(1 - abs(pole), 1e-7) * np.linspace(-3, 3, 13))
    w = np.clip(np.concatenate(omega), 0, np.pi)
    z = np.exp(-1j * w)[:, None]
    with np.errstate(divide="ignore"):
        level = np.log(np.abs(1 - found.zeros * z)).sum(axis=1) - np.log(np.abs(1 - found.poles * z)).sum(axis=1)
    return float(abs(found.gain) * np.exp(np.max(level)))
