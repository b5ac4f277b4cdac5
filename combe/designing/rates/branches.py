"""Taps that follow polynomials of the place between two samples, written out."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Branches = tuple[tuple[float, ...], ...]
"""Coefficients by power, and then by sample."""


def places(phases: int) -> Array:
    """Where the outputs of each phase lie, -1 to 1 from one middle to the next."""
    return (2 * np.arange(phases) + 1 - phases) / phases


def taps_of(branches: Branches, at: Array) -> Array:
    """The prototype's taps: those of one sample after the other, each at every place."""
    powers = np.vander(at, len(branches), increasing=True)
    return np.asarray((powers @ np.array(branches)).T.ravel())
