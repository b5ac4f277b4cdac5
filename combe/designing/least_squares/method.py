"""Least squares as Combe offers it: weights shared out so that every band uses its tolerance alike, or given by hand."""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from combe.designing.caps import bulges, transition_pieces
from combe.designing.designed import Design
from combe.designing.equiripple.problem import pieces_of
from combe.designing.least_squares.equations import Equations
from combe.designing.lengths import allowed_lengths, drafted_length, first_guess, least_length
from combe.designing.linear_phase import shares
from combe.designing.task import Task
from combe.designing.weights import check_weights
from combe.designing.windowed.cutoff import check_taps
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Requirement

Array = NDArray[np.float64]
MAXIMUM_TAPS = 1501
BALANCINGS = 8
DAMPINGS = (1e-6, 1e-5, 1e-4, 1e-3, 1e-2, 1e-1)


def make(task: Task) -> Design:
    """The taps with the least weighted squared error, of least or of given length."""
    started = time.perf_counter()
    requirement = task.asked
    search = _Search(task)
    notes: tuple[str, ...] = ()
    if task.choice.order is None:
        near = task.drafted_from
        taps = (
            drafted_length(search.used, near, allowed_lengths(requirement), MAXIMUM_TAPS) if near else None
        ) or search.least()
    else:
        taps = task.order + 1
        check_taps(requirement, taps)
        if taps > MAXIMUM_TAPS:
            raise DesignError(f"order {taps - 1} is out of reach", "order", f"the most is {MAXIMUM_TAPS - 1}")
        search.hold_transitions(taps)
    found = search.filter(taps)
    if not task.choice.weights:
        weights = search.best(taps)[1]
        names = [f"{band.name} {weight:.3g}" for band, weight in zip(requirement.bands, search.by_band(weights))]
        notes = ("weights: " + ", ".join(names),)
    return Design("least-squares", found, task.sample_rate_hz, requirement, notes, time.perf_counter() - started)


def piece_weights(requirement: Requirement, weights: tuple[float, ...]) -> Array:
    """Weights per band spread over the pieces of each band."""
    check_weights(requirement, weights)
    return np.array([weights[index] for index in owners(requirement)])


def owners(requirement: Requirement) -> list[int]:
    """The band each piece belongs to."""
    turn = 2 * np.pi / requirement.sample_rate_hz
    found = []
    for piece in pieces_of(requirement):
        middle = (piece.start + piece.stop) / 2 / turn
        found.append(next(k for k, b in enumerate(requirement.bands) if b.start_hz <= middle <= b.stop_hz))
    return found


class _Search:
    """Least squares designs of one requirement at several lengths."""

    def __init__(self, task: Task) -> None:
        self.requirement, self.is_stopped = task.asked, task.is_stopped
        self.pieces = pieces_of(self.requirement)
        given = task.choice.weights
        self.given = piece_weights(self.requirement, given) if given else None
        self.known: dict[int, tuple[float, Array, Array]] = {}
        self.start = self._first_weights()
        self.damping = 0.0

    def hold_transitions(self, taps: int) -> None:
        """Where a transition bulges above the cap, weigh its energy a little, more until it doesn't."""
        for damping in DAMPINGS:
            if not bulges(self.filter(taps), self.requirement):
                return
            self.damping = damping
            self.known.clear()

    def _damped(self, taps: int, equations: Equations) -> tuple[float, Array, Array]:
        """The same weights with the energy in the transitions added."""
        weights = self.known[taps][1]
        quiet = Equations(transition_pieces(self.requirement), taps)
        quiet.sides = [np.zeros_like(side) for side in quiet.sides]
        found = equations.solved(weights, quiet, self.damping * float(np.max(weights)))
        return float(np.max(shares(found, self.requirement, self.pieces))), weights, found

    def _first_weights(self) -> Array:
        from combe.designing.equiripple.problem import Table

        room = Table.of(self.pieces).room
        return np.asarray((np.min(room) / room) ** 2)

    def by_band(self, weights: Array) -> list[float]:
        """One weight for each band, relative to the largest."""
        where = owners(self.requirement)
        return [float(max(weights[k] for k, owner in enumerate(where) if owner == band) / np.max(weights))
                for band in range(len(self.requirement.bands))]  # fmt: skip

    def best(self, taps: int) -> tuple[float, Array, Array]:
        """The least share at a length, with the weights and taps that reach it."""
        if self.is_stopped():
            raise Stopped
        if taps not in self.known:
            equations = Equations(self.pieces, taps)
            if self.given is not None:
                found = equations.solved(self.given)
                self.known[taps] = float(np.max(shares(found, self.requirement, self.pieces))), self.given, found
            else:
                self.known[taps] = self._balanced(equations)
                self.start = self.known[taps][1]
            if self.damping:
                self.known[taps] = self._damped(taps, equations)
        return self.known[taps]

    def used(self, taps: int) -> float:
        """The least share at a length."""
        return self.best(taps)[0]

    def _balanced(self, equations: Equations) -> tuple[float, Array, Array]:
        """Weights raised where a band uses more than its share, until all use the same."""
        weights = self.start.copy()
        best: tuple[float, Array, Array] | None = None
        for _ in range(BALANCINGS):
            taps = equations.solved(weights)
            used = shares(taps, self.requirement, self.pieces)
            largest = float(np.max(used))
            if best is None or largest < best[0]:
                best = largest, weights.copy(), taps
            if np.min(used) > 0.97 * largest or len(used) == 1:
                break
            weights = weights * np.maximum(used, 1e-6 * largest) ** 1.2
            weights = np.maximum(weights / np.max(weights), 1e-13)
        assert best is not None
        return best

    def filter(self, taps: int) -> Fir:
        """The taps of a length."""
        return Fir(tuple(self.best(taps)[2].tolist()))

    def least(self) -> int:
        """The shortest that keeps every limit, verified on its true extremes."""
        guess = first_guess(self.requirement, 1.1)
        if guess > MAXIMUM_TAPS:
            what = f"this would take about {guess:,} taps, and least squares goes to {MAXIMUM_TAPS}"
            raise DesignError(what, "bands", "widen a transition")
        allowed = allowed_lengths(self.requirement)
        most = min(MAXIMUM_TAPS, 6 * guess + 60)
        taps = least_length(self.used, guess, allowed, most)
        if taps is not None:
            self.hold_transitions(taps)
            if self.damping:
                taps = least_length(self.used, taps, allowed, most)
        for _ in range(12):
            if taps is None or taps > MAXIMUM_TAPS:
                break
            if all(line.margin >= 0 for line in gain_lines(self.filter(taps), self.requirement)):
                return taps
            taps += 1 if allowed(taps + 1) else 2
        what = "squared error leaves peaks beside the edges that no length up to a sensible one brings down"
        raise DesignError(what, "bands", "take constrained-least-squares or equiripple")
