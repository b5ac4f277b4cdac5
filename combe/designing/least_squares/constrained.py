"""Least squares under peak limits: the least energy of error of all filters whose ripples stay within the limits.

Source: Selesnick, Lang & Burrus (1996), "Constrained least square design of FIR filters without specified transition
bands". The squared error runs over the whole axis, against an ideal that steps in the middle of each transition, so
that its matrix is diagonal; the limits hold over the bands. With the limits on a growing set of extremes, each problem
is one of least distance, which non-negative least squares solves exactly (Lawson & Hanson 1974, chapter 23).
"""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from combe.designing.caps import transition_pieces
from combe.designing.designed import Design
from combe.designing.equiripple.levels import narrowest, transition_words
from combe.designing.equiripple.problem import Table, pieces_of
from combe.designing.lengths import allowed_lengths, first_guess
from combe.designing.linear_phase import cosine_steps, from_cosines
from combe.designing.task import Task
from combe.designing.windowed.cutoff import check_taps
from combe.designing.windowed.ideal import ideal_of
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.values import replace

Array = NDArray[np.float64]
MAXIMUM_TAPS = 401
ROUNDS = 60
TIGHTER = 1e-4
POINTS_PER_STEP = 28


def make(task: Task) -> Design:
    """The filter of least energy error within the limits, of least or of given length."""
    started = time.perf_counter()
    if task.choice.cutoffs_hz:
        return _by_levels(task, started)
    requirement = task.asked
    if task.choice.order is not None:
        taps = task.order + 1
        check_taps(requirement, taps)
        if taps > MAXIMUM_TAPS:
            raise DesignError(f"order {taps - 1} is out of reach", "order", f"the most is {MAXIMUM_TAPS - 1}")
        found = _within(task, taps)
        if found is None:
            what = f"no {taps} symmetric taps keep these peak limits"
            raise DesignError(what, "order", "raise the order or relax a limit")
    else:
        found = _least(task)
    notes = tuple(f"{name} goes with a cut-off; here the limits say it" for name, _ in task.choice.settings)
    return Design(
        "constrained-least-squares", found, task.sample_rate_hz, requirement, notes, time.perf_counter() - started
    )


def _by_levels(task: Task, started: float) -> Design:
    """Length, cut-offs and levels given: within the narrowest transition they allow, the least energy of error."""
    best, asked = narrowest(task)
    within = replace(task, requirement=asked, choice=replace(task.choice, cutoffs_hz=()))
    # Where the narrowest transition leaves the levels no room at all, the equiripple filter is the only one that does.
    found = (_within(within, len(best.taps)) if len(best.taps) <= MAXIMUM_TAPS else None) or best
    held = task.requirement if task.requirement is not None else asked
    return Design(
        "constrained-least-squares", found, task.sample_rate_hz, held, (transition_words(asked),),
        time.perf_counter() - started, levels=asked,
    )  # fmt: skip


def _least(task: Task) -> Fir:
    """Longer and longer until the limits can be kept; the peak limits decide, as they do for equiripple."""
    requirement = task.asked
    guess = first_guess(requirement)
    if guess > MAXIMUM_TAPS:
        what = f"this would take about {guess:,} taps, and constrained least squares goes to {MAXIMUM_TAPS}"
        raise DesignError(what, "bands", "take equiripple, or widen a transition")
    from combe.designing import equiripple

    near = equiripple.shortest(requirement, 1, task.is_stopped, None, True)
    allowed = allowed_lengths(requirement)
    for taps in range(near.order + 1, min(near.order + 14, MAXIMUM_TAPS + 1)):
        if allowed(taps):
            found = _within(task, taps)
            if found is not None:
                return found
    raise DesignError("the limits leave no room that least squares could use", "bands", "relax a limit a little")


def _within(task: Task, taps: int) -> Fir | None:
    """The least-squares filter within the limits; None where no filter of this length keeps them."""
    requirement = task.asked
    problem = _Problem(task, taps)
    a = problem.free
    rows: list[Array] = []
    bounds: list[float] = []
    for _ in range(ROUNDS):
        if task.is_stopped():
            raise Stopped
        new_rows, new_bounds, worst = problem.violations(a)
        if worst <= TIGHTER / 2:
            fir = Fir(tuple(from_cosines(a, taps).tolist()))
            return fir if all(line.margin >= 0 for line in gain_lines(fir, requirement)) else None
        rows += new_rows
        bounds += new_bounds
        solved = problem.nearest(np.array(rows), np.array(bounds))
        if solved is None:
            return None
        a, active = solved
        if len(rows) > 6 * len(a):
            rows = [row for row, kept in zip(rows, active) if kept]
            bounds = [bound for bound, kept in zip(bounds, active) if kept]
    return None


class _Problem:
    """One length: the unconstrained best, and where an amplitude leaves its limits."""

    def __init__(self, task: Task, taps: int) -> None:
        pieces = (*pieces_of(task.asked), *transition_pieces(task.asked))
        self.table = table = Table.of(pieces)
        self.steps = cosine_steps(taps)
        ideal = ideal_of(task.asked).taps(taps)
        middle = (taps - 1) / 2
        half = ideal[int(np.ceil(middle)) :]
        self.free = np.where(self.steps == 0, 1.0, 2.0) * half
        # ∫ over the whole axis: π for the constant, π/2 for each cosine; as a scale it is the root.
        self.scale = np.where(self.steps == 0, 1.0, np.sqrt(0.5))
        parts, owner = [], []
        for number, piece in enumerate(pieces):
            count = max(17, int(POINTS_PER_STEP * len(self.steps) * (piece.stop - piece.start) / np.pi))
            parts.append(np.linspace(piece.start, piece.stop, count))
            owner.append(np.full(count, number))
        self.omega, self.owner = np.concatenate(parts), np.concatenate(owner)
        target, room = table.target(self.omega, self.owner)
        self.target, self.room = target, room * (1 - TIGHTER)
        self.cosines = np.cos(np.outer(self.omega, self.steps))

    def violations(self, a: Array) -> tuple[list[Array], list[float], float]:
        """Rows g·a ≤ h at each local extreme of the error beyond its limit."""
        error = (self.cosines @ a - self.target) / self.room
        size = np.abs(error)
        left = np.append(np.inf, size[:-1])
        right = np.append(size[1:], np.inf)
        new = np.append(True, self.owner[1:] != self.owner[:-1])
        left = np.where(new, -np.inf, left)
        right = np.where(np.append(new[1:], True), -np.inf, right)
        peaks = np.flatnonzero((size >= left) & (size >= right) & (size > 0.9))
        omega = self._tops(peaks, size, new)
        target, room = self.table.target(omega, self.owner[peaks])
        room = room * (1 - TIGHTER)
        cosines = np.cos(np.outer(omega, self.steps))
        at_top = (cosines @ a - target) / room
        over = np.flatnonzero(np.abs(at_top) > 1 + TIGHTER / 4)
        sign = np.sign(at_top)
        # In units of the tolerance, so that all rows weigh alike.
        rows = [sign[k] * cosines[k] / room[k] for k in over]
        bounds = [1.0 + sign[k] * target[k] / room[k] for k in over]
        return rows, bounds, float(np.max(np.abs(at_top), initial=0.0) - 1)

    def _tops(self, peaks: NDArray[np.intp], size: Array, new: NDArray[np.bool_]) -> Array:
        """Grid peaks moved to the tops of parabolas, those at an edge left where they are."""
        omega = self.omega[peaks].copy()
        last = np.append(new[1:], True)
        inner = ~new[peaks] & ~last[peaks]
        at = peaks[inner]
        before, here, after = size[at - 1], size[at], size[at + 1]
        bend = before - 2 * here + after
        shift = np.where(bend < 0, 0.5 * (before - after) / np.where(bend < 0, bend, -1.0), 0.0)
        omega[inner] += np.clip(shift, -1, 1) * (self.omega[at + 1] - self.omega[at])
        return omega

    def nearest(self, rows: Array, bounds: Array) -> tuple[Array, NDArray[np.bool_]] | None:
        """The point nearest to the free solution with rows·a ≤ bounds: min |u| with G u ≥ h by NNLS."""
        # Imported late: the window opens without it.
        from scipy.optimize import nnls

        g = -rows / self.scale
        h = rows @ self.free - bounds
        matrix = np.vstack([g.T, h[None, :]])
        side = np.zeros(len(matrix))
        side[-1] = 1.0
        try:
            dual, _ = nnls(matrix, side, maxiter=20 * matrix.shape[1])
        except RuntimeError:
            return None
        residual = matrix @ dual - side
        if abs(residual[-1]) < 1e-12:
            return None
        u = -residual[:-1] / residual[-1]
        return self.free + u / self.scale, dual > 0
