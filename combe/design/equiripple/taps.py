"""From a converged amplitude to taps."""

from __future__ import annotations

import numpy as np

from combe.design.equiripple.exchange import Approximation
from combe.filters import Fir


def taps_of(found: Approximation) -> Fir:
    """Sample the amplitude at as many equispaced frequencies as there are taps and transform back.

    The taps come out symmetric or antisymmetric to the last bit.
    """
    count, symmetry = found.problem.taps, found.problem.symmetry
    omega = 2 * np.pi * np.arange(count // 2 + 1) / count
    phase = np.exp(-1j * omega * (count - 1) / 2) * (1 if symmetry == 1 else 1j)
    taps = np.fft.irfft(found.amplitude(omega) * phase, count)
    taps = (taps + symmetry * taps[::-1]) / 2
    return Fir(tuple(taps.tolist()))
