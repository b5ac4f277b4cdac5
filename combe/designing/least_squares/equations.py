"""The normal equations of weighted least squares over bands, in closed form.

Source: Vaidyanathan & Nguyen (1987) for the integrals; Burrus, Soewito & Gopinath (1992), "Least squared error FIR
filter design with transition bands". The amplitude is Σ a_k cos(m_k ω); the matrix entries are integrals of products
of cosines, each the half-sum of a difference and a sum frequency.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from combe.designing.equiripple.problem import Piece, Table
from combe.designing.linear_phase import cosine_steps, from_cosines

Array = NDArray[np.float64]
GAUSS_POINTS_PER_STEP = 1.2


class Equations:
    """Matrix and right side of each band at one length, to be summed with any weights."""

    def __init__(self, pieces: tuple[Piece, ...], taps: int) -> None:
        self.taps = taps
        steps = cosine_steps(taps)
        table = Table.of(pieces)
        self.matrices = [_gram(steps, piece.start, piece.stop) for piece in pieces]
        self.sides = [_side(steps, table, number, piece) for number, piece in enumerate(pieces)]

    def solved(self, weights: Array, beside: Equations | None = None, weight: float = 0.0) -> Array:
        """The taps that minimize Σ weight·∫(A − target)² dω over the bands, and over those ``beside`` at one weight."""
        matrix = sum(w * m for w, m in zip(weights, self.matrices))
        if beside is not None:
            matrix = matrix + weight * sum(beside.matrices)
        side = sum(w * s for w, s in zip(weights, self.sides))
        return from_cosines(solve_symmetric(np.asarray(matrix), np.asarray(side)), self.taps)


def solve_symmetric(matrix: Array, side: Array) -> Array:
    """Cholesky's factors where the matrix is definite in double precision, else the least solution."""
    # Imported late: the window opens without it.
    import scipy.linalg

    try:
        factor = scipy.linalg.cho_factor(matrix)
        found = scipy.linalg.cho_solve(factor, side)
        if np.all(np.isfinite(found)):
            return np.asarray(found)
    except np.linalg.LinAlgError:
        pass
    values, vectors = scipy.linalg.eigh(matrix)
    keep = values > 1e-15 * values[-1]
    return np.asarray(vectors[:, keep] @ ((vectors[:, keep].T @ side) / values[keep]))


def _gram(steps: Array, start: float, stop: float) -> Array:
    """∫ cos(mω)cos(nω) dω."""

    def integral(frequency: Array) -> Array:
        with np.errstate(divide="ignore", invalid="ignore"):
            found = (np.sin(frequency * stop) - np.sin(frequency * start)) / frequency
        return np.where(frequency == 0, stop - start, found)

    spread = np.arange(-(len(steps) - 1), len(steps))
    differences = integral(spread.astype(float))
    sums = integral(2 * steps[0] + np.arange(2 * len(steps) - 1))
    row = np.arange(len(steps))
    return np.asarray((differences[row[:, None] - row + len(steps) - 1] + sums[row[:, None] + row]) / 2)


def _side(steps: Array, table: Table, number: int, piece: Piece) -> Array:
    """∫ target·cos(mω) dω: in closed form where level, else by Gauss's rule with more points than wiggles."""
    low, high = table.target(np.array([piece.start, piece.stop]), np.array([number, number]))[0]
    if low == high:
        with np.errstate(divide="ignore", invalid="ignore"):
            found = (np.sin(steps * piece.stop) - np.sin(steps * piece.start)) / steps
        return np.asarray(low * np.where(steps == 0, piece.stop - piece.start, found))
    count = int(24 + GAUSS_POINTS_PER_STEP * steps[-1] * (piece.stop - piece.start))
    x, w = np.polynomial.legendre.leggauss(min(count, 400))
    omega = (piece.start + piece.stop) / 2 + x * (piece.stop - piece.start) / 2
    target, _ = table.target(omega, np.full(len(omega), number))
    return np.asarray(np.cos(np.outer(steps, omega)) @ (w * target) * (piece.stop - piece.start) / 2)
