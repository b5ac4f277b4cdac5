"""Symmetric taps against a requirement: their amplitude on a fine grid, and the share of each tolerance used."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.equiripple.problem import Piece, Table, pieces_of
from combe.remembered import remembered
from combe.requirement import Requirement

Array = NDArray[np.float64]
POINTS_PER_TAP = 12


class Scale(Struct, frozen=True, eq=False):
    """The grid of one size inside the pieces, with targets and tolerances on it, cos ω/2 and sin ω/2 for even counts of
    taps; where each piece begins that has points at all, and which it is; the pieces' edges, two each."""

    index: NDArray[np.intp]
    target: Array
    room: Array
    half_turn: tuple[Array, Array]
    starts: NDArray[np.intp]
    filled: NDArray[np.intp]
    edges: Array
    edge_target: Array
    edge_room: Array


@remembered(16 << 20)
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
    starts = np.searchsorted(owner, np.arange(len(pieces)))
    filled = np.unique(owner)
    turns = np.cos(omega[where] / 2), np.sin(omega[where] / 2)
    return Scale(where, target, room, turns, starts[filled], filled, edges, edge_target, edge_room)


@remembered(16 << 20)
def _scale_of(requirement: Requirement, size: int) -> Scale:
    return scale_for(pieces_of(requirement), size)


@remembered(4 << 20)
def _edge_waves(edges: tuple[float, ...], taps: int) -> Array:
    """cos(ω·distance from the middle), edges by taps."""
    return np.asarray(np.cos(np.outer(edges, (taps - 1) / 2 - np.arange(taps))))


def shares(taps: Array, requirement: Requirement, pieces: tuple[Piece, ...] | None = None) -> Array:
    """The largest share of its tolerance each piece uses, on the grid: 1 fills it, above 1 misses a limit."""
    size = 1 << (max(POINTS_PER_TAP * len(taps), 256) - 1).bit_length()
    scale = _scale_of(requirement, size) if pieces is None else scale_for(pieces, size)
    # The middle tap (of an even count, the one before the middle) stands at time zero.
    before = (len(taps) - 1) // 2
    turned = np.zeros(size)
    turned[: len(taps) - before] = taps[before:]
    turned[size - before :] = taps[:before]
    response = np.fft.rfft(turned)[scale.index]
    amplitude = response.real
    if len(taps) % 2 == 0:
        cosine, sine = scale.half_turn
        amplitude = amplitude * cosine - response.imag * sine
    error = np.abs(amplitude - scale.target) / scale.room
    at_edges = _edge_waves(tuple(scale.edges.tolist()), len(taps)) @ taps
    found = np.max((np.abs(at_edges - scale.edge_target) / scale.edge_room).reshape(-1, 2), axis=1)
    found[scale.filled] = np.maximum(found[scale.filled], np.maximum.reduceat(error, scale.starts))
    return np.asarray(found)


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
