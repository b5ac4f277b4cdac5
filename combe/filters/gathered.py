"""Sections without poles gathered into taps, as a signal has to meet them: one by one, some of them make it huge first."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from combe.filters.values import Cascade

FEW = 4
"""So many sections without poles do no harm."""
LEAST = 1e-300


@lru_cache(maxsize=64)
def taps_and_sections(source: Cascade) -> tuple[tuple[float, ...], Cascade]:
    """Taps and a cascade that do in a row what the cascade does; no taps where it has few sections without poles.

    The product of the sections is formed in the order of Leja (1957): each time the one whose zeros lie farthest from all
    before it, so that no partial product grows, and the taps are good to rounding.
    """
    zeros = [section for section in source.sections if section[3] == 0 and section[4] == 0]
    if len(zeros) <= FEW:
        return (), source
    rest = tuple(section for section in source.sections if section[3] != 0 or section[4] != 0)
    taps = np.ones(1)
    roots = [np.asarray(np.roots(np.trim_zeros(np.array(section[:3]), "b")), dtype=np.complex128) for section in zeros]
    for place in _order(roots):
        taps = np.convolve(taps, np.array(zeros[place][:3]))
    return tuple(np.trim_zeros(taps, "b").tolist()), Cascade(rest, source.gain)


def _order(roots: list[NDArray[np.complex128]]) -> list[int]:
    """Places of the factors, the outermost first, then each the farthest from those before."""
    points = np.array([found[0] if len(found) else 0.0 for found in roots])
    left = np.ones(len(roots), dtype=bool)
    order = [int(np.argmax(np.abs(points)))]
    far = np.zeros(len(roots))
    while len(order) < len(roots):
        left[order[-1]] = False
        for root in roots[order[-1]]:
            far += np.log(np.maximum(np.abs(points - root), LEAST))
        order.append(int(np.argmax(np.where(left, far, -np.inf))))
    return order
