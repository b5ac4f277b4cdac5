"""The three ways a filter is written down."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Array = NDArray[np.float64]


FEW = 5


def _some(values: tuple[float, ...]) -> str:
    return ", ".join(f"{value:.4g}" for value in values[:3]) + ", ..."


class Fir(Struct, frozen=True):
    """A filter without feedback: y[n] = Σ taps[k]·x[n−k]."""

    taps: tuple[float, ...]

    def __repr__(self) -> str:
        """All taps where they are few, else how many there are."""
        return f"Fir({self.taps})" if len(self.taps) <= FEW else f"Fir({_some(self.taps)}: {len(self.taps)} taps)"

    @property
    def array(self) -> Array:
        """The taps as an array."""
        return np.array(self.taps, dtype=np.float64)

    @property
    def order(self) -> int:
        """One less than the number of taps."""
        return len(self.taps) - 1

    @property
    def symmetry(self) -> int:
        """1 for taps that read the same backwards, -1 for taps that change sign, 0 for neither."""
        if self.taps == self.taps[::-1]:
            return 1
        return -1 if self.taps == tuple([-tap for tap in reversed(self.taps)]) else 0


class Cascade(Struct, frozen=True):
    """Second-order sections: H(z) = gain · Π (b0 + b1·z⁻¹ + b2·z⁻²)/(1 + a1·z⁻¹ + a2·z⁻²)."""

    sections: tuple[tuple[float, float, float, float, float], ...]
    gain: float = 1.0

    def __repr__(self) -> str:
        """All sections where they are few, else how many there are."""
        inside = str(self.sections) if len(self.sections) <= 1 else f"{len(self.sections)} sections"
        return f"Cascade({inside}, gain {self.gain:.9g})"

    @property
    def order(self) -> int:
        """Poles away from the origin or delays, whichever is more."""
        degree = 0
        for _, b1, b2, a1, a2 in self.sections:
            degree += 2 if b2 or a2 else 1 if b1 or a1 else 0
        return degree


class Roots(Struct, frozen=True):
    """H(z) = gain · Π(z − zero)/Π(z − pole), poles at the origin filled in where zeros outnumber poles."""

    zeros: tuple[complex, ...]
    poles: tuple[complex, ...]
    gain: float = 1.0

    @property
    def order(self) -> int:
        """The larger number of roots."""
        return max(len(self.zeros), len(self.poles))


Filter = Fir | Cascade | Roots
