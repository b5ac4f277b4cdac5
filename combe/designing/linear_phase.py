"""Symmetric taps against a requirement: their amplitude on a fine grid, and the share of each tolerance used."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.equiripple.problem import Piece, Table, pieces_of
from combe.requirement import Requirement

Array = NDArray[np.float64]
POINTS_PER_TAP = 12


class Scale(Struct, frozen=True, eq=False):
    """The grid of one size with targets and tolerances on it; ``band`` numbers the pieces."""

    size: int
    index: NDArray[np.intp]
    omega: Array
    target: Array
    room: Array
    band: NDArray[np.intp]
    edges: Array
    edge_target: Array
    edge_room: Array
    edge_band: NDArray[np.intp]


@lru_cache(maxsize=32)
def scale_for(pieces: tuple[Piece, ...], size: int) -> Scale:
    """The grid of an FFT of ``size`` points inside each piece, and the pieces' edges."""
    table = Table.of(pieces)
    omega = 2 * np.pi * np.arange(size // 2 + 1) / size
    index, band = [], []
    for number, piece in enumerate(pieces):
        inside = np.flatnonzero((omega >= piece.start) & (omega <= piece.stop))
        index.append(inside)
        band.append(np.full(len(inside), number))
    where, owner = np.concatenate(index), np.concatenate(band)
    target, room = table.target(omega[where], owner)
    edges = np.array([[piece.start, piece.stop] for piece in pieces]).ravel()
    edge_band = np.repeat(np.arange(len(pieces)), 2)
    edge_target, edge_room = table.target(edges, edge_band)
    return Scale(size, where, omega[where], target, room, owner, edges, edge_target, edge_room, edge_band)


def shares(taps: Array, requirement: Requirement, pieces: tuple[Piece, ...] | None = None) -> Array:
    """The largest share of its tolerance each piece uses, on the grid: 1 fills it, above 1 misses a limit."""
    pieces = pieces_of(requirement) if pieces is None else pieces
    size = 1 << int(np.ceil(np.log2(max(POINTS_PER_TAP * len(taps), 256))))
    scale = scale_for(pieces, size)
    half = (len(taps) - 1) / 2
    response = np.fft.rfft(taps, size)[scale.index]
    amplitude = np.real(response * np.exp(1j * half * scale.omega))
    error = np.abs(amplitude - scale.target) / scale.room
    found = np.zeros(len(pieces))
    np.maximum.at(found, scale.band, error)
    offset = half - np.arange(len(taps))
    at_edges = np.cos(np.outer(scale.edges, offset)) @ taps
    np.maximum.at(found, scale.edge_band, np.abs(at_edges - scale.edge_target) / scale.edge_room)
    return found


def share(taps: Array, requirement: Requirement) -> float:
    """The largest of all."""
    return float(np.max(shares(taps, requirement)))


def from_cosines(a: Array, taps: int) -> Array:
    """Taps of the amplitude Σ a_k cos(kω) (odd counts) or Σ a_k cos((k + ½)ω) (even counts)."""
    if taps % 2:
        return np.concatenate([a[:0:-1] / 2, a[:1], a[1:] / 2])
    return np.concatenate([a[::-1] / 2, a / 2])


def cosine_steps(taps: int) -> Array:
    """The multiples of ω in that sum."""
    return np.arange((taps + 1) // 2, dtype=np.float64) + 0.5 * (1 - taps % 2)


def crowded(pieces: tuple[Piece, ...], points: float, least: int = 9) -> tuple[Array, NDArray[np.intp]]:
    """Frequencies over each piece, crowded at its edges as extremes are, and the piece each belongs to.

    ``points`` is how many the whole axis would get.
    """
    parts, owner = [], []
    for number, piece in enumerate(pieces):
        count = max(least, int(points * (piece.stop - piece.start) / np.pi))
        spread = (1 - np.cos(np.linspace(0, np.pi, count))) / 2
        parts.append(piece.start + (piece.stop - piece.start) * spread)
        owner.append(np.full(count, number))
    return np.concatenate(parts), np.concatenate(owner)
