"""The impulse response of an ideal filter: gains level or sloped over bands, steps in the middle of transitions."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.equiripple.problem import Table, pieces_of
from combe.requirement import Requirement

Array = NDArray[np.float64]
SLOPE_STEPS = 96


class Ideal(Struct, frozen=True, eq=False):
    """Gains between rising frequencies in radians: ``gain[k]`` holds from ``edge[k]`` to ``edge[k + 1]``."""

    edge: Array
    gain: Array

    def taps(self, count: int) -> Array:
        """∫ gain·cos(nω) dω/π about the middle: differences of sines."""
        n = np.arange(count) - (count - 1) / 2
        n = np.abs(n[: (count + 1) // 2])
        steps = np.diff(np.concatenate([[0.0], self.gain, [0.0]]))
        inner = (steps != 0) & (self.edge > 0)
        sums = -np.sin(np.outer(n, self.edge[inner])) @ steps[inner]
        with np.errstate(divide="ignore", invalid="ignore"):
            half = sums / (np.pi * n)
        middle = float(np.sum(self.gain * np.diff(self.edge)) / np.pi)
        half = np.where(n == 0, middle, half)
        return np.concatenate([half, half[::-1][count % 2 :]])


def ideal_of(requirement: Requirement) -> Ideal:
    """The middle of all limits; sloped limits as a fine staircase."""
    pieces = pieces_of(requirement)
    table = Table.of(pieces)
    edges, gains = [0.0], []
    for number, piece in enumerate(pieces):
        if number:
            edges.append((pieces[number - 1].stop + piece.start) / 2)
        sloped = piece.lower_db is not None and (
            piece.lower_db[0] != piece.lower_db[1] or piece.upper_db[0] != piece.upper_db[1]
        )
        count = SLOPE_STEPS if sloped else 1
        walls = np.linspace(piece.start, piece.stop, count + 1)
        middles = (walls[1:] + walls[:-1]) / 2
        target, _ = table.target(middles, np.full(count, number))
        gains += target.tolist()
        edges += walls[1:-1].tolist()
    edges.append(np.pi)
    return Ideal(np.array(edges), np.array(gains))


def ideal_between(shape: str, cutoffs: list[float]) -> Ideal:
    """One of the four basic shapes with its steps at the cut-offs, in radians."""
    first = 1.0 if shape in ("lowpass", "bandstop") else 0.0
    gains = [first if k % 2 == 0 else 1.0 - first for k in range(len(cutoffs) + 1)]
    return Ideal(np.array([0.0, *cutoffs, np.pi]), np.array(gains))
