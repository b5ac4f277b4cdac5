"""Which zeros go with which poles, and which section comes first: a search for the least noise.

Jackson (1970) shows that the noise of a cascade depends on pairing and order by tens of dB; Dehner (2003, "Noise
optimized IIR digital filter design") finds exchange searches to come within tenths of the best.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from combe.filters import Cascade, rational_of

Array = NDArray[np.float64]
POINTS, NEAR = 512, 24
MOST_PASSES = 12


def best_order(source: Cascade) -> Cascade:
    """Sections exchanged, and numerators exchanged between them, as long as that lowers the predicted noise."""
    if len(source.sections) < 2:
        return source
    top, bottom, weight = _tables(source)
    count = len(source.sections)
    starts = [list(range(count)), list(range(count))[::-1]]
    found = min((_descended(start, top, bottom, weight) for start in starts), key=lambda each: each[0])
    _, poles, zeros = found
    sections = tuple((*source.sections[z][:3], *source.sections[p][3:]) for p, z in zip(poles, zeros))
    return Cascade(sections, source.gain)


def _tables(source: Cascade) -> tuple[Array, Array, Array]:
    """|B|² and |A|² of every section on a grid that is dense where poles are near, with the weights of a mean."""
    poles = rational_of(source).poles
    angles = np.abs(np.angle(poles))
    gaps = np.maximum(1 - np.abs(poles), 1e-9)
    near = [angle + gap * np.sinh(np.linspace(-6, 6, NEAR)) / 2 for angle, gap in zip(angles, gaps)]
    omega = np.unique(np.clip(np.concatenate([np.linspace(0, np.pi, POINTS), *near]), 0, np.pi))
    weight = np.gradient(omega) / np.pi
    turn = np.exp(-1j * omega)
    rows = np.array(source.sections)
    top = np.abs(rows[:, [0]] + rows[:, [1]] * turn + rows[:, [2]] * turn**2) ** 2
    bottom = np.abs(1 + rows[:, [3]] * turn + rows[:, [4]] * turn**2) ** 2
    return top + 1e-300, bottom + 1e-300, np.asarray(weight)


def _cost(poles: list[int], zeros: list[int], top: Array, bottom: Array, weight: Array) -> float:
    """Each section's rounding, a step that grows with the peak up to there, through its own poles and all that follows."""
    upto = np.cumsum(np.log(top[zeros]) - np.log(bottom[poles]), axis=0)
    after = upto[-1] - upto - np.log(bottom[poles])
    peaks = np.max(upto, axis=1)
    most = np.max(after, axis=1)
    paths = np.log(np.sum(np.exp(after - most[:, None]) * weight, axis=1)) + most
    return float(np.sum(np.exp(np.clip(peaks + paths, -700, 700))))


def _descended(start: list[int], top: Array, bottom: Array, weight: Array) -> tuple[float, list[int], list[int]]:
    """The best exchange of two places, or of two numerators, taken until none helps."""
    poles, zeros = list(start), list(start)
    least = _cost(poles, zeros, top, bottom, weight)
    for _ in range(MOST_PASSES):
        best: tuple[float, list[int], list[int]] | None = None
        for i in range(len(poles)):
            for j in range(i + 1, len(poles)):
                for with_poles, with_zeros in ((True, True), (False, True), (True, False)):
                    p, z = list(poles), list(zeros)
                    if with_poles:
                        p[i], p[j] = p[j], p[i]
                    if with_zeros:
                        z[i], z[j] = z[j], z[i]
                    cost = _cost(p, z, top, bottom, weight)
                    if cost < (best[0] if best else least * (1 - 1e-9)):
                        best = cost, p, z
        if best is None:
            break
        least, poles, zeros = best
    return least, poles, zeros
