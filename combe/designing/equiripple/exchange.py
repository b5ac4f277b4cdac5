"""The Remez exchange in barycentric form.

Sources: Parks & McClellan (1972), "Chebyshev approximation for nonrecursive digital filters with linear phase";
Berrut & Trefethen (2004), "Barycentric Lagrange interpolation"; Filip (2016), "A robust and scalable implementation
of the Parks-McClellan algorithm for designing FIR filters".

The error is measured in units of the tolerance, E(ω) = (A(ω) − target)/room: a filter keeps every limit where |E| ≤ 1.
"""

from __future__ import annotations

import threading
from collections.abc import Callable

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.equiripple.problem import Problem, Table
from combe.errors import DesignError, Stopped

Array = NDArray[np.float64]

ITERATIONS = 100
LEVELLED = 1e-7
POINTS_PER_GAP = 8
CHUNK = 1_000_000
COMPILED_FROM = 3_000_000
"""Points times nodes from which a compiled loop is worth loading."""
COMPILED_NODES = 600
"""So many nodes, whose scan takes as much, have all their sums done so."""
COMPILED_TAPS = 256
"""Up to so many taps a draft sums cosines in the compiled loop, above by transforms."""
KINDS = {(1, 1): 1, (1, 0): 2, (-1, 1): 3, (-1, 0): 4}
"""Types I to IV by symmetry and odd length."""


class Approximation(Struct, frozen=True, eq=False):
    """What an exchange arrived at.

    ``error`` is the largest |E| found, ``bound`` the levelled |E| on the reference: no filter of this length gets
    below it (de la Vallée-Poussin). ``is_settled`` says that the two agree.
    """

    problem: Problem
    reference: Array
    values: Array
    weights: Array
    error: float
    bound: float
    is_settled: bool
    iterations: int

    def amplitude(self, omega: Array) -> Array:
        """A(ω), real."""
        return interpolate(np.cos(omega), np.cos(self.reference), self.values, self.weights) * self.problem.factor(
            omega
        )


def exchange(
    problem: Problem,
    start: Array | None = None,
    decide_only: bool = False,
    is_stopped: Callable[[], bool] = lambda: False,
    levelled: float = LEVELLED,
) -> Approximation:
    """The best approximation of a problem.

    Parameters
    ----------
    start
        A first reference (angular frequencies); spread over the bands when not given.
    decide_only
        Stop as soon as it is certain whether the error is below or above 1.
    levelled
        The largest error and the levelled one agree to within this share of it.
    """
    reference = first_reference(problem) if start is None else fitted_reference(problem, start)
    table = Table.of(problem.pieces)
    best: Approximation | None = None
    stale, bound = 0, 0.0
    for count in range(ITERATIONS):
        if is_stopped():
            raise Stopped
        signs: Array = np.where(np.arange(len(reference)) % 2, -1.0, 1.0)
        weights = barycentric_weights(np.cos(reference))
        values, level = _levelled(problem, table, reference, signs, weights)
        here = Approximation(problem, reference, values, weights, np.inf, abs(level), False, count + 1)
        omega, error = _extremes(here, table, np.asarray(signs * np.sign(level)) if level else signs)
        largest = float(np.max(np.abs(error)))
        settled = largest - abs(level) <= levelled * largest
        here = Approximation(problem, reference, values, weights, largest, abs(level), settled, count + 1)
        if best is None or largest < best.error * (1 - 1e-12):
            best, stale = here, 0
        elif abs(level) > bound * (1 + 1e-9):
            stale = 0
        else:
            stale += 1
        bound = max(bound, abs(level))
        decided = decide_only and (largest <= 1 or abs(level) > 1)
        if settled or decided or largest < 1e-9:
            return here if largest <= best.error or decided else best
        if stale > 30:
            break
        reference = _chosen(omega, error, len(reference))
    assert best is not None
    return best


_ready = threading.Event()


def make_ready() -> None:
    """Load, or compile, the loop that ``drafted`` runs; it may take seconds, once for all time."""
    from combe.designing.equiripple.compiled_exchange import exchanged, tapped

    if not _ready.is_set():
        flat = (np.array([0.0, 2.0]), np.array([1.0, 3.0]), np.array([1.0, 0.0]), np.array([0.1, 0.1]))
        some = exchanged(np.array([0.0, 0.5, 1.0, 2.0, 2.5, 3.0]), *flat, 1, 5, POINTS_PER_GAP, 5, 1e-2)
        tapped(*some[1:4], 1, 9)
        _ready.set()


def drafted(problem: Problem, start: Array, levelled: float) -> Approximation | None:
    """The same by the compiled loop, once it is there, from a reference nearby; None where it doesn't do.

    Last digits may differ from ``exchange``: for drafts alone, so that no file depends on what was loaded.
    """
    table = Table.of(problem.pieces)
    if not _ready.is_set() or not table.is_flat:
        return None
    from combe.designing.equiripple.compiled_exchange import SETTLED, exchanged

    kind = KINDS[problem.symmetry, problem.taps % 2]
    ended, reference, values, weights, error, bound, count = exchanged(
        fitted_reference(problem, start), table.start, table.stop, table.middle, table.room, kind, problem.unknowns,
        POINTS_PER_GAP, ITERATIONS, levelled,
    )  # fmt: skip
    if ended != SETTLED:
        return None
    return Approximation(problem, reference, values, weights, float(error), float(bound), True, int(count))


def drafted_taps(found: Approximation) -> Array | None:
    """Taps of what ``drafted`` found, by the compiled loop; None where it isn't there, or a transform would be quicker."""
    problem = found.problem
    if not _ready.is_set() or problem.taps > COMPILED_TAPS:
        return None
    from combe.designing.equiripple.compiled_exchange import tapped

    kind = KINDS[problem.symmetry, problem.taps % 2]
    return np.asarray(tapped(found.reference, found.values, found.weights, kind, problem.taps))


def first_reference(problem: Problem) -> Array:
    """Leja points of all pieces: each new point where the product of the distances to those before is largest.

    They settle at the density at which the extremes of an equiripple error lie (both follow the equilibrium
    measure of their union), whatever the widths of bands and transitions. Source: Leja (1957), "Sur certaines
    suites liées aux ensembles plans et leur application à la représentation conforme".
    """
    wanted = problem.unknowns + 1
    total = sum(piece.stop - piece.start for piece in problem.pieces)
    parts = []
    for piece in problem.pieces:
        count = max(12, int(12 * wanted * (piece.stop - piece.start) / total))
        parts.append(piece.start + (piece.stop - piece.start) * (1 - np.cos(np.linspace(0, np.pi, count))) / 2)
    omega = _usable(problem, np.unique(np.concatenate(parts)))
    x = np.cos(omega)
    picked = [0]
    logs = np.zeros(len(x))
    with np.errstate(divide="ignore"):
        for _ in range(wanted - 1):
            logs += np.log(np.abs(x - x[picked[-1]]))
            picked.append(int(np.argmax(logs)))
    return np.sort(omega[picked])


def fitted_reference(problem: Problem, start: Array) -> Array:
    """A reference of another length or of other edges brought to this problem: its density over the bands is kept."""
    bands = problem.pieces
    start = np.sort(start)
    wanted = problem.unknowns + 1
    if len(start) != wanted:
        where = np.linspace(0, len(start) - 1, wanted)
        start = np.interp(where, np.arange(len(start)), start)
    lows, highs = np.array([p.start for p in bands]), np.array([p.stop for p in bands])
    last = np.maximum(np.searchsorted(lows, start, "right") - 1, 0)
    after = np.minimum(last + 1, len(lows) - 1)
    # A point that fell between two bands belongs to the nearer one, and goes to its edge.
    owner = np.where((start > highs[last]) & (start - highs[last] > np.abs(lows[after] - start)), after, last)
    moved = np.minimum(np.maximum(start, lows[owner]), highs[owner])
    if np.min(np.diff(moved), initial=1.0) < 1e-9:
        moved = _drawn_together(start, owner, lows, highs)
    if np.min(np.diff(moved), initial=1.0) < 1e-9:
        return first_reference(problem)
    return _usable(problem, moved)


def _drawn_together(reference: Array, owner: NDArray[np.intp], lows: Array, highs: Array) -> Array:
    """Where an edge has passed more points than one, those of the whole band move a little instead of all of them to the edge."""
    moved = reference.copy()
    for band in np.unique(owner):
        mine = reference[owner == band]
        first, last = min(mine[0], lows[band]), max(mine[-1], highs[band])
        moved[owner == band] = lows[band] + (mine - first) * ((highs[band] - lows[band]) / (last - first))
    return moved


def _usable(problem: Problem, reference: Array) -> Array:
    """Keep points, in order and none of them twice, off the frequencies where the symmetry forces a zero."""
    if problem.symmetry == 1 and problem.taps % 2:
        return reference
    small = 1e-6 * np.pi / (problem.unknowns + 1)
    at_zero, at_half = problem.factor(np.array([0.0, np.pi])) < 1e-15
    return np.unique(np.clip(reference, small if at_zero else None, np.pi - small if at_half else None))


def barycentric_weights(x: Array) -> Array:
    """1/Π 2(x_i − x_j), scaled to a largest magnitude of 1; sums of logarithms, so that no length overflows."""
    if len(x) > COMPILED_NODES:
        from combe.designing.equiripple.compiled import node_weights

        return np.asarray(node_weights(x))
    logs = np.empty(len(x))
    signs = np.empty(len(x))
    step = max(1, CHUNK // len(x))
    for first in range(0, len(x), step):
        rows = np.arange(first, min(first + step, len(x)))
        gaps = x[rows, None] - x[None, :]
        gaps[np.arange(len(rows)), rows] = 1.0
        logs[rows] = -np.sum(np.log(np.maximum(np.abs(gaps), 1e-300)), axis=1)
        signs[rows] = 1.0 - 2.0 * (np.count_nonzero(gaps < 0, axis=1) % 2)
    return signs * np.exp(logs - np.max(logs))


def interpolate(x: Array, nodes: Array, values: Array, weights: Array) -> Array:
    """The polynomial through (nodes, values), by the second barycentric formula."""
    if len(x) * len(nodes) > COMPILED_FROM or len(nodes) > COMPILED_NODES:
        # Imported late: short filters don't wait for the compiler's library to load.
        from combe.designing.equiripple.compiled import barycentric

        return np.asarray(np.nan_to_num(barycentric(x, nodes, values, weights), nan=0.0, posinf=1e200, neginf=-1e200))
    result = np.empty(len(x))
    step = max(1, CHUNK // len(nodes))
    both = np.column_stack([weights * values, weights])
    for first in range(0, len(x), step):
        part = slice(first, first + step)
        gaps = x[part, None] - nodes[None, :]
        hits = gaps == 0
        rows = np.flatnonzero(hits.any(axis=1))
        gaps[hits] = 1.0
        sums = (1.0 / gaps) @ both
        with np.errstate(divide="ignore", invalid="ignore"):
            result[part] = sums[:, 0] / sums[:, 1]
        if len(rows):
            result[first + rows] = values[np.argmax(hits[rows], axis=1)]
    if not np.all(np.isfinite(result)):
        result = np.nan_to_num(result, nan=0.0, posinf=1e200, neginf=-1e200)
    return result


def _levelled(problem: Problem, table: Table, omega: Array, signs: Array, weights: Array) -> tuple[Array, float]:
    """Node values of the polynomial whose error alternates at one level on the reference, and that level."""
    factor = problem.factor(omega)
    target, room = table.target(omega, table.tightest(omega))
    if not np.all(np.isfinite(weights)):
        raise DesignError("the exchange lost its footing: two reference points fell together")
    bottom = np.sum(weights * signs * room / factor)
    level = float(-np.sum(weights * target / factor) / bottom) if bottom else np.nan
    if not np.isfinite(level):
        raise DesignError("the exchange lost its footing: two reference points fell together")
    return (target + signs * level * room) / factor, level


def _extremes(here: Approximation, table: Table, signs: Array) -> tuple[Array, Array]:
    """Places and sizes of all local extremes of the error, reference points and edges among them.

    The reference itself alternates at the level: smaller extremes would only crowd it out and are dropped.
    """
    scan, piece = _scan(table, here.reference, here.problem.unknowns)
    target, room = table.target(scan, piece)
    error = (here.amplitude(scan) - target) / room
    places, sizes = _refined(here, table, scan, piece, error)
    useful = np.abs(sizes) >= here.bound
    omega = np.concatenate([here.reference, places[useful]])
    height = np.concatenate([signs * here.bound, sizes[useful]])
    # Where pieces touch, one frequency has two errors: the larger counts.
    order = np.lexsort((-np.abs(height), omega))
    omega, height = omega[order], height[order]
    first = np.append(True, np.diff(omega) > 1e-13)
    return omega[first], height[first]


def _scan(table: Table, reference: Array, unknowns: int) -> tuple[Array, NDArray[np.intp]]:
    """Points between neighbouring reference points of each piece, denser where these lie far apart."""
    # Reference points inside each piece, which stand in order: a gap before each, and one before the piece's end.
    first = np.searchsorted(reference, table.start, "right")
    inside = np.maximum(np.searchsorted(reference, table.stop, "left") - first, 0)
    owner = np.repeat(np.arange(len(inside)), inside + 1)
    place = _within(inside + 1)
    padded = np.append(reference, np.nan)
    left = np.where(place == 0, table.start[owner], padded[first[owner] + place - 1])
    right = np.where(place == inside[owner], table.stop[owner], padded[first[owner] + place])
    gaps = right - left
    counts = np.maximum(POINTS_PER_GAP, np.ceil(POINTS_PER_GAP * gaps * unknowns / np.pi)).astype(int)
    points = np.repeat(left, counts) + np.repeat(gaps / counts, counts) * _within(counts)
    # The end of each piece behind its own.
    ends = np.cumsum(np.bincount(owner, weights=counts).astype(int))
    pieces = np.arange(len(inside))
    return np.insert(points, ends, table.stop), np.insert(np.repeat(owner, counts), ends, pieces)


def _within(sizes: NDArray[np.intp]) -> NDArray[np.intp]:
    """0, 1, 2 … within each of some groups."""
    return np.asarray(np.arange(sizes.sum()) - np.repeat(np.cumsum(sizes) - sizes, sizes))


def _refined(
    here: Approximation, table: Table, scan: Array, piece: NDArray[np.intp], error: Array
) -> tuple[Array, Array]:
    """Local maxima of |E| on the scan, moved to the tops of parabolas, twice."""
    size = np.abs(error)
    starts = np.append(True, piece[1:] != piece[:-1])
    stops = np.append(starts[1:], True)
    peak = (starts | (size >= np.roll(size, 1))) & (stops | (size >= np.roll(size, -1)))
    index = np.flatnonzero(peak)
    omega, height = scan[index].copy(), error[index].copy()
    inner = ~starts[index] & ~stops[index]
    at, owner = index[inner], piece[index[inner]]
    side = np.sign(error[at])
    left, mid, right = scan[at - 1], scan[at], scan[at + 1]
    e_left, e_mid, e_right = side * error[at - 1], side * error[at], side * error[at + 1]
    for _ in range(2):
        top = _parabola_top(left, mid, right, e_left, e_mid, e_right)
        target, room = table.target(top, owner)
        e_top = side * (here.amplitude(top) - target) / room
        better = e_top > e_mid
        below = top < mid
        new_left = np.where(better, np.where(below, left, mid), np.where(below, top, left))
        e_new_left = np.where(better, np.where(below, e_left, e_mid), np.where(below, e_top, e_left))
        new_right = np.where(better, np.where(below, mid, right), np.where(below, right, top))
        e_new_right = np.where(better, np.where(below, e_mid, e_right), np.where(below, e_right, e_top))
        mid, e_mid = np.where(better, top, mid), np.where(better, e_top, e_mid)
        left, e_left, right, e_right = new_left, e_new_left, new_right, e_new_right
    omega[inner], height[inner] = mid, side * e_mid
    return omega, height


def _parabola_top(a: Array, b: Array, c: Array, fa: Array, fb: Array, fc: Array) -> Array:
    with np.errstate(divide="ignore", invalid="ignore"):
        p, q = (b - a) * (fb - fc), (b - c) * (fb - fa)
        top = b - ((b - a) * p - (b - c) * q) / (2 * (p - q))
    return np.where(np.isfinite(top) & (top > a) & (top < c), top, b)


def _chosen(omega: Array, error: Array, wanted: int) -> Array:
    """The new reference: extremes of alternating sign, the largest always among them."""
    size = np.abs(error)
    some = np.flatnonzero(error)
    if not len(some):
        raise DesignError("the exchange found too few extremes: rounding hides the ripples")
    # Of neighbors of one sign the first of the largest.
    starts = np.append(0, np.flatnonzero(np.diff(error[some] > 0)) + 1)
    run = np.repeat(np.arange(len(starts)), np.diff(np.append(starts, len(some))))
    largest = np.flatnonzero(size[some] == np.maximum.reduceat(size[some], starts)[run])
    keep: list[int] = some[largest[np.unique(run[largest], return_index=True)[1]]].tolist()
    while len(keep) > wanted:
        if len(keep) == wanted + 1:
            del keep[0 if size[keep[0]] < size[keep[-1]] else -1]
            continue
        pairs = np.maximum(size[keep[:-1]], size[keep[1:]])
        weakest = int(np.argmin(pairs))
        ends = [size[keep[0]], size[keep[-1]]]
        if min(ends) < pairs[weakest]:
            del keep[0 if ends[0] < ends[1] else -1]
        else:
            del keep[weakest : weakest + 2]
    if len(keep) < wanted:
        raise DesignError("the exchange found too few extremes: rounding hides the ripples")
    return np.asarray(omega[keep], dtype=np.float64)
