"""Taps that are polynomials of the place between two samples: any ratio from a few coefficients (Farrow 1988).

An output that lies x/2 of a sample from the middle between two inputs, -1 < x < 1, is the sum over samples i and powers k of
branches[k][i]·x^k. Up by L these are the taps of a prototype at L places alike on both sides of the middle, x = (2p + 1 − L)/L.
The coefficients are the best there are over frequency and place together (Laakso, Välimäki, Karjalainen and Laine 1996): the response is
linear in them, so that the least worst error in units of the room between the limits is a linear program, whose frequencies are
added where its last answer was worst.
"""

from __future__ import annotations

from functools import lru_cache
from math import ceil

import numpy as np
from msgspec import Struct
from numpy.polynomial import legendre
from numpy.typing import NDArray

from combe.designing.equiripple.problem import Piece, Table, caps_of, check_precision, pieces_of, transition_cap_db
from combe.designing.estimates import estimated_taps
from combe.designing.rates.branches import Branches, places, taps_of
from combe.designing.rates.least_worst import LeastWorst
from combe.errors import DesignError
from combe.requirement import Requirement

Array = NDArray[np.float64]
FEWEST_POWER, HIGHEST_POWER = 1, 9
MOST_COEFFICIENTS, MOST_LONGER = 110, 6
"""Of the linear program, whose time grows with their cube; samples more than estimated that are tried."""
LOBES, NEAR = 4, 4.0
"""Frequencies in each lobe at first, and up to how many times the rate of the input: higher ones are added where they are worst."""
ROUNDS, SETTLED, ENOUGH, FEW = 24, 1.002, 0.9998, 8
PER_TAP = 16
MOST_ADDED = 2
"""Frequencies that join at a time, for each coefficient."""
NEARLY = 0.6
"""Of the error: how near a frequency has to be to stay."""
TELLING = 1e-8
"""Of what the largest combination of coefficients does: what one has to do to be used."""


class Kernel(Struct, frozen=True):
    """Branches, by power and then by sample, whose gain for a constant is ``phases``; and their worst error in units of the room."""

    branches: Branches
    error: float


@lru_cache(maxsize=32)
def shortest_kernel(asked: Requirement, phases: int) -> Branches:
    """The branches with the fewest multiplies that keep the limits of a prototype at ``phases`` times the rate of the input.

    Raises
    ------
    DesignError
        If it takes more coefficients than can be searched.
    """
    pieces = pieces_of(asked)
    check_precision(pieces)
    estimated = ceil(estimated_taps(asked)[0] / phases)
    # Of few samples the estimate says too many.
    first, longest = max(2, estimated - 1) if estimated > FEW else 2, max(2, estimated - 1) + MOST_LONGER
    best: Kernel | None = None
    least, power = np.inf, HIGHEST_POWER
    lowest = _lowest_power(asked, phases, longest)
    for samples in range(first, longest + 1):
        if _multiplies(samples, lowest) >= least:
            break
        # A longer kernel never needs a higher power than a shorter one.
        degrees = [d for d in range(lowest, power + 1) if _is_worth_trying(samples, d, least)]
        found = _of_least_power(asked, phases, samples, degrees) if degrees else None
        if found is not None:
            power = len(found.branches) - 1
            best, least = found, _multiplies(samples, power)
    if best is None:
        what = f"taps that follow a polynomial would take more than {MOST_COEFFICIENTS} coefficients here"
        raise DesignError(what, "--plan", "let a stage of taps go before or behind, such as 2xfarrow80/147")
    return best.branches


def _of_least_power(asked: Requirement, phases: int, samples: int, degrees: list[int]) -> Kernel | None:
    """Of so many samples the kernel of the lowest degree that does. The error falls with the degree: where that of the first program, which
    no later one gets below, is too large at the highest, none does; else it is halved down to the first for which it isn't."""
    begun: dict[int, _Search] = {}

    def is_open(place: int) -> bool:
        if place not in begun:
            begun[place] = _Search(asked, phases, samples, degrees[place])
        error, solution = begun[place].first()
        return solution is None or error <= ENOUGH

    low, high = 0, len(degrees) - 1
    if not is_open(high):
        return None
    while low < high:
        middle = (low + high) // 2
        low, high = (low, middle) if is_open(middle) else (middle + 1, high)
    for place in range(low, len(degrees)):
        is_open(place)
        found = _refined(begun[place])
        if found is not None:
            return found
    return None


def _is_worth_trying(samples: int, degree: int, least: float) -> bool:
    """Whether it could be the one, and is searched at all."""
    return _multiplies(samples, degree) < least and _unknowns(samples, degree) <= MOST_COEFFICIENTS


def _lowest_power(asked: Requirement, phases: int, samples: int) -> int:
    """The lowest that the longest kernel tried may do with: no shorter one does with less."""
    for degree in range(FEWEST_POWER, HIGHEST_POWER + 1):
        if _unknowns(samples, degree) > MOST_COEFFICIENTS:
            return degree
        error, solution = _Search(asked, phases, samples, degree).solved()
        if solution is not None and error <= 1:
            return degree
    return HIGHEST_POWER


def _unknowns(samples: int, degree: int) -> int:
    """Free coefficients: samples on both sides of the middle share theirs."""
    return samples // 2 * (degree + 1) + samples % 2 * (degree // 2 + 1)


def _multiplies(samples: int, degree: int) -> float:
    """For each output: coefficients that share a product once, and one for each power."""
    return _unknowns(samples, degree) + degree


def best_kernel(asked: Requirement, phases: int, samples: int, degree: int) -> Kernel | None:
    """The kernel of so many samples and such a degree whose worst error is least; None where it isn't below 1."""
    return _refined(_Search(asked, phases, samples, degree))


def _refined(search: _Search) -> Kernel | None:
    """The frequencies where the answer is worst added, until none is worse than the program says."""
    for turn in range(ROUNDS):
        error, solution = search.solved() if turn else search.first()
        if solution is None or error > ENOUGH:
            return None
        branches = search.branches(solution)
        worst = search.add_worst(branches, solution, error)
        if worst <= min(max(SETTLED * error, 1e-9), ENOUGH):
            return Kernel(branches, worst)
    return Kernel(branches, worst) if worst <= ENOUGH else None


class _Search:
    """The linear program of one size, and the frequencies it has so far."""

    def __init__(self, asked: Requirement, phases: int, samples: int, degree: int) -> None:
        self.phases, self.samples, self.degree = phases, samples, degree
        self.begun: tuple[float, Array | None] | None = None
        at = places(phases)
        self.at, self.powers = at, legendre.legvander(at, degree)
        self.right = slice(phases // 2, None)
        self.sides = np.where(at[self.right] > 0, 2.0, 1.0) / phases
        # Searched for as Legendre's polynomials, which are told apart best; handed on as powers.
        self.to_powers = np.zeros((degree + 1, degree + 1))
        for power, row in enumerate(np.eye(degree + 1)):
            own = legendre.leg2poly(row)
            self.to_powers[: len(own), power] = own
        every = range(len(asked.transitions()))
        pieces = pieces_of(asked) + caps_of(asked, frozenset(every), transition_cap_db(asked), samples * phases // 2)
        self.pieces = tuple(_per_sample(piece, phases) for piece in pieces if piece.stop > piece.start)
        self.table = Table.of(self.pieces)
        self.caps = np.array([piece.is_cap for piece in self.pieces])
        density, least = float(LOBES), 2 * _unknowns(samples, degree)
        near, far = self._spread(NEAR, density), self._spread(np.inf, LOBES / phases)
        while np.count_nonzero(~self.caps[near[1]]) < least:
            density *= 2
            near = self._spread(NEAR, density)
        # What makes a difference between bands alone is left out, too: no limit there is near.
        self.directions = _told_apart(np.vstack([self._rows(*at)[~self.caps[at[1]]] for at in (near, far)]))
        self.points = LeastWorst(self.directions.shape[1])
        self._add(*near)
        self._add(*far)
        size = 1 << (PER_TAP * samples * phases).bit_length()
        grid = np.linspace(0, np.pi * phases, size // 2 + 1)
        self.size, self.grid = size, grid
        self.turn = np.exp(0.5j * (samples - 1 / phases) * grid)
        self.spots = [
            (k, slice(int(np.searchsorted(grid, piece.start)), int(np.searchsorted(grid, piece.stop, "right"))))
            for k, piece in enumerate(self.pieces)
        ]

    def _spread(self, most: float, density: float) -> tuple[Array, NDArray[np.intp]]:
        """Frequencies in all pieces up to ``most`` times the rate of the input, so many in each lobe, and the piece of each."""
        omega, of = [], []
        for index, piece in enumerate(self.pieces):
            stop = min(piece.stop, 2 * np.pi * most)
            if piece.start < stop:
                count = max(ceil((stop - piece.start) / (2 * np.pi) * self.samples * density), 1) + 1
                omega.append(np.linspace(piece.start, stop, count))
                of.append(np.full(count, index))
        return np.concatenate(omega), np.concatenate(of)

    def _rows(self, omega: Array, piece: NDArray[np.intp]) -> Array:
        """What each free coefficient adds, in units of the room."""
        return self._amplitudes(omega) / self.table.target(omega, piece)[1][:, None]

    def _add(self, omega: Array, piece: NDArray[np.intp]) -> None:
        target, room = self.table.target(omega, piece)
        # A cap is a limit whatever the error elsewhere.
        self.points.add(self._rows(omega, piece) @ self.directions, target / room, self.caps[piece])

    def _amplitudes(self, omega: Array) -> Array:
        """What each free coefficient adds to the amplitude, in radians per sample of the input."""
        # Places lie alike on both sides of the middle, where the cosine is even and the sine odd.
        turn, powers = np.outer(omega, self.at[self.right] / 2), self.powers[self.right] * self.sides[:, None]
        even, odd = np.cos(turn) @ powers, np.sin(turn) @ powers
        columns = []
        for sample in range((self.samples + 1) // 2):
            late = sample + 0.5 - self.samples / 2
            for power in range(self.degree + 1):
                if late == 0:
                    if power % 2 == 0:
                        columns.append(even[:, power])
                elif power % 2 == 0:
                    columns.append(2 * np.cos(omega * late) * even[:, power])
                else:
                    columns.append(-2 * np.sin(omega * late) * odd[:, power])
        return np.array(columns).T

    def first(self) -> tuple[float, Array | None]:
        """What ``solved`` says of the frequencies it begins with."""
        if self.begun is None:
            self.begun = self.solved()
        return self.begun

    def solved(self) -> tuple[float, Array | None]:
        """The least worst error over the frequencies there are, and the coefficients that have it."""
        try:
            error, found = self.points.solved(ENOUGH)
        except (ArithmeticError, np.linalg.LinAlgError):
            return np.inf, None  # rounding errors stand against this size; another one may do
        return error, None if found is None else self.directions @ found

    def branches(self, solution: Array) -> Branches:
        """Free coefficients as branches of powers, by sample."""
        whole = np.zeros((self.degree + 1, self.samples))
        place = 0
        for sample in range((self.samples + 1) // 2):
            mirror = self.samples - 1 - sample
            for power in range(self.degree + 1):
                if mirror == sample and power % 2:
                    continue
                whole[power, sample] = solution[place]
                whole[power, mirror] = solution[place] * (-1) ** power
                place += 1
        return tuple(tuple(float(value) for value in row) for row in self.to_powers @ whole)

    def add_worst(self, branches: Branches, solution: Array, error: float) -> float:
        """The worst error at the tops of a fine grid; those above that of the linear program join it. Above a cap it counts as far as it is
        too large."""
        taps = taps_of(branches, self.at) / self.phases
        amplitude = np.real(np.fft.rfft(taps, self.size) * self.turn)
        omega, of = [np.zeros(0)], [np.zeros(0, dtype=np.intp)]
        for index, spots in self.spots:
            grid = self.grid[spots]
            if len(grid) == 0:
                continue
            piece = np.full(len(grid), index)
            target, room = self.table.target(grid, piece)
            off = np.abs(amplitude[spots] - target) / room
            tops, moved, height = _tops(off)
            chosen = height > (ENOUGH if self.pieces[index].is_cap else error)
            found = grid[tops[chosen]] + moved[chosen] * self.grid[1]
            omega.append(np.clip(found, self.pieces[index].start, self.pieces[index].stop))
            of.append(piece[tops[chosen]])
        return self._add_those_above(np.concatenate(omega), np.concatenate(of), solution, error)

    def _add_those_above(self, omega: Array, of: NDArray[np.intp], solution: Array, error: float) -> float:
        """Of the tops of parabolas through a grid those that are really above, the highest first; the worst there is."""
        target, room = self.table.target(omega, of)
        height = np.abs((self._amplitudes(omega) @ solution - target) / room)
        is_cap = self.caps[of]
        above = np.flatnonzero(height > np.where(is_cap, ENOUGH, error))
        above = above[np.argsort(-height[above])][: MOST_ADDED * len(solution)]
        # What is far from its limit says nothing; should it come up again, it joins again.
        self.points.keep(NEARLY, error, ENOUGH)
        self._add(omega[above], of[above])
        return float(np.max(height[above][(height[above] > 1) | ~is_cap[above]], initial=error))


def _tops(off: Array) -> tuple[NDArray[np.intp], Array, Array]:
    """Where errors are largest among their neighbors: the parabola through three of them, its place between these and its height."""
    around = np.concatenate([off[:1], off, off[-1:]])
    before, after = around[:-2], around[2:]
    tops = np.flatnonzero((off >= before) & (off >= after))
    left, top, right = before[tops], off[tops], after[tops]
    bend = left - 2 * top + right
    # At the ends of a band, which are in the program themselves, there is no neighbor to tell.
    is_bent = (bend < 0) & (tops > 0) & (tops < len(off) - 1)
    moved = np.where(is_bent, (left - right) / (2 * np.where(is_bent, bend, -1.0)), 0.0)
    return tops, moved, top - (left - right) * moved / 4


def _told_apart(rows: Array) -> Array:
    """Combinations of coefficients that make a difference, each of the same size: others leave the error nearly as it is, and a program
    that may use them makes coefficients of millions of them."""
    from scipy.linalg import qr, svd

    _, sizes, directions = svd(qr(rows, mode="economic")[1], full_matrices=False)
    told = sizes > TELLING * sizes[0]
    return np.asarray(directions[told].T / sizes[told])


def _per_sample(piece: Piece, phases: int) -> Piece:
    """From radians per sample of the prototype to those per sample of the input."""
    return Piece(piece.start * phases, piece.stop * phases, piece.lower_db, piece.upper_db, piece.is_cap)
