"""A signal by levels of detail: the least and the largest of ever longer stretches, so that a picture of any part of it takes
as many points as the eye can tell apart, and no more."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Small = NDArray[Any]
MOST_FINEST = 1 << 20
"""Stretches of the finest level; a shorter signal is kept sample by sample, a longer one to 24 bits."""
FACTOR = 4
COARSEST = 1024


class Levels:
    """Takes a signal of a known length piece by piece.

    Parameters
    ----------
    count
        Samples that will come.
    """

    def __init__(self, count: int) -> None:
        self.count = count
        self.wide = 1
        while count > self.wide * MOST_FINEST:
            self.wide *= 2
        self._rest: Array = np.zeros(0)
        self._finest: list[tuple[Small, Small]] = []
        self._levels: list[tuple[Small, Small]] = []

    @classmethod
    def of(cls, values: Array) -> Levels:
        """Of a whole signal, ready to be drawn."""
        found = cls(len(values))
        found.take(values)
        found.make_ready()
        return found

    def make_ready(self) -> None:
        """Make all levels now, not when they are first looked at."""
        self._every()

    def take(self, values: Array) -> None:
        """The next samples."""
        self._levels = []
        if len(self._rest):
            values = np.concatenate([self._rest, values])
        whole = len(values) // self.wide * self.wide
        rows = values[:whole].reshape(-1, self.wide)
        self._finest.append(_ends(rows))
        self._rest = values[whole:].copy()

    def _every(self) -> list[tuple[Small, Small]]:
        """All levels, the finest first, made when they are first looked at."""
        if not self._levels:
            parts = [*self._finest, *([_ends(self._rest[None, :])] if len(self._rest) else [])]
            least, most = (np.concatenate([part[k] for part in parts]) if parts else np.zeros(0) for k in (0, 1))
            levels = [(least, most)]
            while len(levels[-1][0]) > COARSEST:
                levels.append((_folded(levels[-1][0], np.minimum), _folded(levels[-1][1], np.maximum)))
            self._levels = levels
        return self._levels

    @property
    def peak(self) -> float:
        """The largest magnitude."""
        least, most = self._every()[-1]
        return float(max(np.max(most, initial=0.0), -np.min(least, initial=0.0)))

    def points(self, start: float, stop: float, most: int) -> tuple[Array, Array]:
        """Places in samples and values from ``start`` to ``stop``, a little beyond both, of the finest level with at most
        ``most`` stretches there: every sample, or the least and the largest of each stretch side by side.
        """
        levels = self._every()
        wide = self.wide
        for level in levels:
            if (stop - start) / wide <= most or level is levels[-1]:
                break
            wide *= FACTOR
        least, largest = level
        first = int(np.clip(np.floor(start / wide) - 1, 0, len(least)))
        last = int(np.clip(np.ceil(stop / wide) + 2, first, len(least)))
        low, high = least[first:last].astype(np.float64), largest[first:last].astype(np.float64)
        places: Array = np.arange(first, last, dtype=np.float64) * wide
        if wide == 1:
            return places, low
        # The order within a stretch isn't kept: from low to high and, in the next, on from there.
        middles: Array = np.repeat(places + (wide - 1) / 2, 2)
        return middles, np.column_stack([low, high]).reshape(-1)


def _ends(rows: Array) -> tuple[Small, Small]:
    """The least and the largest of each row; the same array where a row is a sample."""
    if rows.shape[1] == 1:
        return rows[:, 0], rows[:, 0]
    return np.min(rows, axis=1).astype(np.float32), np.max(rows, axis=1).astype(np.float32)


def _folded(values: Small, pick: np.ufunc) -> Small:
    """The next coarser level."""
    whole = len(values) // FACTOR * FACTOR
    found = pick.reduce(values[:whole].reshape(-1, FACTOR), axis=1)
    rest = values[whole:]
    return np.concatenate([found, [pick.reduce(rest)]]).astype(values.dtype) if len(rest) else np.asarray(found)
