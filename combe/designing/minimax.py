"""Minimax approximation by reweighted least squares, real or complex, over any linear basis.

Source: Lawson (1961), "Contributions to the theory of linear least maximum approximations"; Ellacott & Williams (1976)
for the complex case. Weights grow where the error is large until the largest errors are alike; it comes within a few
parts in a thousand of the optimum in a few dozen small linear systems.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.designing.least_squares.equations import solve_symmetric

Array = NDArray[np.float64]


def minimax(basis: NDArray[Any], target: NDArray[Any], room: Array, rounds: int = 40) -> tuple[Array, float]:
    """Real x with the least largest |basis·x − target|/room found, and that value.

    Parameters
    ----------
    basis
        One row per frequency, one column per unknown; real or complex.
    room
        The tolerance at each frequency.
    """
    scaled, wanted = basis / room[:, None], target / room
    if np.iscomplexobj(scaled):
        rows = np.vstack([scaled.real, scaled.imag])
        values = np.concatenate([wanted.real, wanted.imag])
    else:
        rows, values = scaled, wanted
    weight = np.full(len(room), 1 / len(room))
    best, least = np.zeros(basis.shape[1]), np.inf
    for _ in range(rounds):
        twice = np.concatenate([weight, weight]) if len(rows) != len(weight) else weight
        weighted = rows * twice[:, None]
        x = solve_symmetric(weighted.T @ rows, weighted.T @ values)
        error = np.abs(scaled @ x - wanted)
        largest = float(np.max(error))
        if largest < least * (1 - 1e-9):
            best, least = x, largest
        # A floor under the weights lets a frequency that was quiet early on come back.
        weight = weight * np.maximum(error / largest, 1e-3) ** 1.5
        weight = weight / np.sum(weight) + 1e-9 / len(room)
    return best, least
