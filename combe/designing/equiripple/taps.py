"""From a converged amplitude to taps."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from combe.designing.equiripple.exchange import Approximation
from combe.filters import Fir
from combe.values import replace

Array = NDArray[np.float64]
REFINEMENTS = 3
LONG = 1000


def taps_of(found: Approximation, refinements: int = REFINEMENTS) -> Fir:
    """Sample the amplitude at as many equispaced frequencies as there are taps and transform back.

    In a wide transition the samples lie far from every reference point, and rounding there grows until it shows
    between the ripples of a deep stopband. What the taps then miss on the reference is interpolated and added in
    turn, which leaves rounding alone. The taps come out symmetric or antisymmetric to the last bit.
    """
    problem = found.problem
    factor = problem.factor(found.reference)
    taps = _transformed(found)
    for _ in range(refinements):
        missed = found.values - _amplitude(taps, problem.symmetry, found.reference) / factor
        taps = taps + _transformed(replace(found, values=missed))
    return Fir(tuple(taps.tolist()))


def _transformed(found: Approximation) -> Array:
    count, symmetry = found.problem.taps, found.problem.symmetry
    omega = 2 * np.pi * np.arange(count // 2 + 1) / count
    phase = np.exp(-1j * omega * (count - 1) / 2) * (1 if symmetry == 1 else 1j)
    taps = np.fft.irfft(found.amplitude(omega) * phase, count)
    return np.asarray((taps + symmetry * taps[::-1]) / 2)


def _amplitude(taps: Array, symmetry: int, omega: Array) -> Array:
    """The real amplitude of symmetric or antisymmetric taps, by direct summation in chunks."""
    offset = (len(taps) - 1) / 2 - np.arange(len(taps))
    wave = np.cos if symmetry == 1 else np.sin
    if len(taps) > LONG:  # half of them say all: cosines of thousands by thousands are felt
        half = len(taps) // 2
        taps = np.append(2 * taps[:half], taps[half : len(taps) - half])
        offset = offset[: len(taps)]
    pieces = max(1, len(omega) * len(taps) // 2_000_000)
    return np.concatenate([wave(np.outer(part, offset)) @ taps for part in np.array_split(omega, pieces)])
