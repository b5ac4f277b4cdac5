"""The approximation problem behind a requirement: targets and tolerances over the bands, caps over the transitions."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.errors import DesignError
from combe.requirement import Requirement

Array = NDArray[np.float64]

TRANSITION_ALLOWANCE_DB = 0.5
"""In a transition the gain may exceed the highest passband limit by this much, nowhere more."""

TOUCHING = 4
"""Pieces of which one frequency may be the end."""
SMALLEST_TOLERANCE = 1e-13
"""Finer limits than this, relative to the largest gain, drown in double-precision rounding."""


class Piece(Struct, frozen=True):
    """A stretch of the axis in radians per sample with gain limits straight in dB.

    ``is_cap`` marks a transition held below a level, as a stopband of that level would be; ``times_omega`` limits
    that are multiples of ω, as a differentiator's are.
    """

    start: float
    stop: float
    lower_db: tuple[float, float] | None
    upper_db: tuple[float, float]
    is_cap: bool = False
    times_omega: bool = False


class Table(Struct, frozen=True, eq=False):
    """The pieces as columns, so that targets at many frequencies are computed at once."""

    start: Array
    stop: Array
    lower: Array
    upper: Array
    is_flat: bool
    middle: Array
    room: Array
    times_omega: NDArray[np.bool_]

    @classmethod
    @lru_cache(maxsize=64)
    def of(cls, pieces: tuple[Piece, ...]) -> Table:
        """The columns of some pieces; a missing lower limit is NaN. A search asks for those of the same pieces at every
        length."""
        lower = np.array([piece.lower_db if piece.lower_db is not None else (np.nan, np.nan) for piece in pieces])
        upper = np.array([piece.upper_db for piece in pieces])
        high, low = 10 ** (upper[:, 0] / 20), 10 ** (lower[:, 0] / 20)
        low = np.where(np.isnan(low), -high, low)
        level = bool(
            np.all(upper[:, 0] == upper[:, 1]) and np.all((lower[:, 0] == lower[:, 1]) | np.isnan(lower[:, 0]))
        )
        # Columns of their own: for slices of one array loops would be compiled once more, while a hand waits.
        starts, stops = (np.array([getattr(piece, end) for piece in pieces]) for end in ("start", "stop"))
        rising = np.array([piece.times_omega for piece in pieces])
        level = level and not np.any(rising)
        return cls(starts, stops, lower, upper, level, (low + high) / 2, (high - low) / 2, rising)

    def target(self, omega: Array, piece: NDArray[np.intp]) -> tuple[Array, Array]:
        """Middle of the limits and half the room between them, each frequency within the piece named for it."""
        if self.is_flat:
            return self.middle[piece], self.room[piece]
        share = (omega - self.start[piece]) / (self.stop - self.start)[piece]
        high = 10 ** ((self.upper[piece, 0] + share * (self.upper[piece, 1] - self.upper[piece, 0])) / 20)
        low = 10 ** ((self.lower[piece, 0] + share * (self.lower[piece, 1] - self.lower[piece, 0])) / 20)
        low = np.where(np.isnan(low), -high, low)
        scale = np.where(self.times_omega[piece], omega, 1.0)
        return scale * (low + high) / 2, scale * (high - low) / 2

    def tightest(self, omega: Array) -> NDArray[np.intp]:
        """The piece each frequency lies in; where two touch, the one with less room."""
        best = np.zeros(len(omega), dtype=np.intp)
        least = np.full(len(omega), np.inf)
        # Pieces touch at their ends, so that no frequency lies in more than a few: those that start last before it.
        order = np.argsort(self.start, kind="stable")
        last = np.searchsorted(self.start[order], omega, "right")
        for back in range(1, min(TOUCHING, len(order)) + 1):
            index = order[np.maximum(last - back, 0)]
            inside = (last >= back) & (omega >= self.start[index]) & (omega <= self.stop[index])
            room = self.target(omega, index)[1]
            better = inside & ((room < least) | ((room == least) & (index < best)))
            best, least = np.where(better, index, best), np.where(better, room, least)
        return best


class Problem(Struct, frozen=True):
    """All stretches in order of frequency, and the fixed factor of the symmetry chosen."""

    pieces: tuple[Piece, ...]
    taps: int
    symmetry: int

    @property
    def unknowns(self) -> int:
        """Free coefficients of the polynomial in cos ω."""
        if self.symmetry == 1:
            return (self.taps + 1) // 2
        return self.taps // 2

    def factor(self, omega: Array) -> Array:
        """The part of the amplitude the symmetry fixes: 1, cos(ω/2), sin ω or sin(ω/2) for types I to IV."""
        if self.symmetry == 1:
            return np.ones_like(omega) if self.taps % 2 else np.cos(omega / 2)
        return np.sin(omega) if self.taps % 2 else np.sin(omega / 2)


def transition_cap_db(requirement: Requirement) -> float:
    """The level no transition may exceed."""
    highest = max(db for band in requirement.passbands for _, db in band.upper.points)
    return highest + TRANSITION_ALLOWANCE_DB


@lru_cache(maxsize=64)
def pieces_of(requirement: Requirement) -> tuple[Piece, ...]:
    """The bands of a requirement, each cut where the slope of a limit changes."""
    turn = 2 * np.pi / requirement.sample_rate_hz
    found = []
    for band in requirement.bands:
        knots = sorted({p[0] for p in band.upper.points} | ({p[0] for p in band.lower.points} if band.lower else set()))
        for start, stop in zip(knots, knots[1:]):
            ends = np.array([start, stop])
            inner = ends + 1e-9 * (stop - start) * np.array([1, -1])
            upper = band.upper.at(inner, "least")
            lower = None if band.lower is None else band.lower.at(inner, "most")
            low_db = None if lower is None else (float(lower[0]), float(lower[1]))
            end = np.pi if stop >= requirement.nyquist_hz else min(stop * turn, np.pi)
            found.append(Piece(start * turn, end, low_db, (float(upper[0]), float(upper[1]))))
    return tuple(found)


def caps_of(requirement: Requirement, capped: frozenset[int], level_db: float, unknowns: int) -> tuple[Piece, ...]:
    """Pieces that hold transitions (picked by their index in ``transitions()``) below a level.

    They keep a fraction of a ripple away from the bands, whose own limits hold there.
    """
    turn = 2 * np.pi / requirement.sample_rate_hz
    found = []
    for index, (start_hz, stop_hz) in enumerate(requirement.transitions()):
        if index in capped:
            start, stop = start_hz * turn, min(stop_hz * turn, np.pi)
            inset = min(np.pi / (8 * unknowns), (stop - start) / 10)
            low = start + inset * (start > 0)
            high = stop - inset * (stop < np.pi)
            found.append(Piece(low, high, None, (level_db, level_db), True))
    return tuple(found)


def check_precision(pieces: tuple[Piece, ...]) -> None:
    """Refuse tolerances that double precision can't resolve."""
    largest, finest = 0.0, np.inf
    for piece in pieces:
        for end, omega in enumerate((piece.start, piece.stop)):
            scale = omega if piece.times_omega else 1.0
            high = scale * 10 ** (piece.upper_db[end] / 20)
            low = -high if piece.lower_db is None else scale * 10 ** (piece.lower_db[end] / 20)
            largest = max(largest, abs(low + high) / 2 + (high - low) / 2)
            finest = min(finest, (high - low) / 2)
    if finest < SMALLEST_TOLERANCE * largest:
        asked = 20 * np.log10(finest / largest)
        most = 20 * np.log10(SMALLEST_TOLERANCE)
        what = f"a tolerance of {asked:.0f} dB below the passband lies under what double precision can hold"
        raise DesignError(what, instead=f"{most:.0f} dB is the finest that can be designed")


def fits_symmetry(pieces: tuple[Piece, ...], taps: int, symmetry: int) -> str:
    """Why this symmetry can't do it ("" if it can): it has a zero at 0 or at half the sample rate."""
    at_zero = symmetry == -1
    at_nyquist = (symmetry == 1 and taps % 2 == 0) or (symmetry == -1 and taps % 2 == 1)
    for piece in pieces:
        if piece.lower_db is None:
            continue
        if at_zero and piece.start == 0:
            return "antisymmetric taps have a zero at 0 Hz, where a passband is asked"
        if at_nyquist and piece.stop >= np.pi:
            count = "an even number of symmetric" if symmetry == 1 else "an odd number of antisymmetric"
            return f"{count} taps has a zero at half the sample rate, where a passband is asked"
    return ""
