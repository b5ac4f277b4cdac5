"""White samples that never change with a library."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from combe.realization.formats import Format

Integers = NDArray[np.int64]


def random_integers(count: int, entry: Format, seed: int) -> Integers:
    """Uniform over the whole format. Source: Steele, Lea & Flood (2014), "Fast splittable pseudorandom number
    generators" (the SplitMix64 step), so that the sequence never changes with a library."""
    with np.errstate(over="ignore"):
        state = np.arange(1, count + 1, dtype=np.uint64) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(seed)
        state = (state ^ (state >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        state = (state ^ (state >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        state ^= state >> np.uint64(31)
    bits = state >> np.uint64(64 - entry.bits)
    return bits.astype(np.int64) + (entry.least if entry.signed else 0)
