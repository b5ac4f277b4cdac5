"""FIR to IIR: a filter of low order that follows a given FIR's impulse response.

Source: Beliczynski, Kale & Cain (1992), "Approximation of FIR by IIR digital filters: an algorithm based on balanced
model reduction". The Hankel matrix of a FIR is finite and symmetric; the sizes of its eigenvalues are the Hankel
singular values, its eigenvectors balance the realization in closed form, and dropping all but the first r states
moves the response nowhere by more than twice the sum of the values dropped (Enns 1984, Glover 1984).
"""

from __future__ import annotations

import time

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing import equiripple
from combe.designing.designed import Design
from combe.designing.estimates import estimated_taps
from combe.designing.settings import FIR_ORDER as SPARE
from combe.designing.settings import LONGEST_FIR
from combe.designing.task import Task
from combe.errors import CombeError, DesignError, Stopped
from combe.filters import Cascade, Fir, Rational, sections_of
from combe.ledger import delay_over_passbands, gain_lines, lines_of
from combe.requirement import Requirement
from combe.requirement.quantities import level_text

Array = NDArray[np.float64]
MOST_ORDER = 60
EXTRA_TAPS = (0.08, 0.3)


class Balanced(Struct, frozen=True, eq=False):
    """A FIR's balanced realization: eigenvalues of its Hankel matrix by falling size, and their vectors."""

    taps: Array
    values: Array
    vectors: Array

    @property
    def singular(self) -> Array:
        """The Hankel singular values."""
        return np.abs(self.values)

    def bound(self, order: int) -> float:
        """Twice the sum of the singular values an order drops: no frequency's response moves further."""
        return float(2 * np.sum(self.singular[order:]))

    def reduced(self, order: int) -> Rational:
        """The filter of an order: poles of the truncated system, zeros of its Rosenbrock matrix."""
        if order == 0:
            return Rational(float(self.taps[0]), 0, np.empty(0, complex), np.empty(0, complex))
        u, size = self.vectors[:, :order], np.sqrt(self.singular[:order])
        # Shift states: x[n+1] = S·x[n] + e1·u, y = h·x + h0·u; balanced coordinates are √σ·Uᵀ·x.
        moved = np.vstack([np.zeros((1, order)), u[:-1]])
        a = (u.T @ moved) * size[:, None] / size[None, :]
        b = size * u[0]
        c = (self.taps[1:] @ u) / size
        d = float(self.taps[0])
        return _rational(a, b, c, d)


def balanced(taps: Array) -> Balanced:
    """Balance a FIR."""
    # Imported late: the window opens without it.
    import scipy.linalg

    hankel = scipy.linalg.hankel(taps[1:])
    values, vectors = scipy.linalg.eigh(hankel)
    order = np.argsort(-np.abs(values))
    return Balanced(np.asarray(taps, dtype=np.float64), values[order], vectors[:, order])


def _rational(a: Array, b: Array, c: Array, d: float) -> Rational:
    """Poles, zeros and gain of a state space."""
    # Imported late: the window opens without it.
    import scipy.linalg

    order = len(a)
    poles = scipy.linalg.eigvals(a)
    pencil = np.block([[a, b[:, None]], [c[None, :], np.array([[d]])]])
    shift = np.zeros_like(pencil)
    shift[:order, :order] = np.eye(order)
    zeros = scipy.linalg.eigvals(pencil, shift)
    zeros = zeros[np.isfinite(zeros) & (np.abs(zeros) < 1e6)]
    poles, zeros = _conjugates(poles), _conjugates(zeros)
    # The gain from the response at a frequency away from all roots.
    omega = np.linspace(0.05, 3.1, 61)
    z = np.exp(1j * omega)
    exact = np.array([c @ np.linalg.solve(x * np.eye(order) - a, b) + d for x in z])
    at = int(np.argmax(np.abs(exact)))
    bare = np.prod(1 - zeros / z[at]) / np.prod(1 - poles / z[at])
    ratio = exact[at] / bare
    delay = order - len(zeros)
    gain = float(np.real(ratio * z[at] ** delay))
    return Rational(gain, delay, zeros, poles)


def _conjugates(roots: NDArray[np.complex128]) -> NDArray[np.complex128]:
    """Exactly conjugate pairs, exactly real roots."""
    roots = np.asarray(roots, dtype=np.complex128)
    real = np.abs(roots.imag) < 1e-12 * np.maximum(np.abs(roots), 1e-300)
    upper = roots[(roots.imag > 0) & ~real]
    return np.concatenate([upper, upper.conj(), roots[real].real.astype(complex)])


def make(task: Task) -> Design:
    """The reduced filter of least order that keeps the requirement, or of a given order."""
    started = time.perf_counter()
    requirement = task.asked
    guess, _ = estimated_taps(requirement)
    if guess > LONGEST_FIR:
        raise DesignError(f"the FIR to follow would have about {guess:,.0f} taps", "bands",
                          f"{LONGEST_FIR} is the most here")  # fmt: skip
    if task.choice.order is not None:
        source = _source(task, EXTRA_TAPS[1])
        if source.order < 2:
            raise DesignError("the FIR to follow is too short to have anything to reduce", "bands", "take equiripple")
        system = balanced(source.array)
        if not 1 <= task.choice.order <= min(MOST_ORDER, source.order):
            raise DesignError(f"order {task.choice.order} is out of reach", "order", f"the most is {MOST_ORDER}")
        found, order = sections_of(system.reduced(task.choice.order)), task.choice.order
    else:
        found, order, system, source = _least(task)
    notes = _story(found, order, system, source, requirement)
    seconds = time.perf_counter() - started
    sigma = tuple(system.singular[: 2 * MOST_ORDER].tolist())
    return Design("balanced-truncation", found, task.sample_rate_hz, requirement, notes, seconds, singular_values=sigma)


def _source(task: Task, extra: float) -> Fir:
    """An equiripple FIR with room to spare."""
    asked = task.choice.setting("fir_order")
    if asked is not None:
        found = equiripple.design(task.asked, round(SPARE.checked(asked) or 2), 1, task.is_stopped)
    else:
        short = equiripple.roughly_shortest(task.asked, task.is_stopped)
        order = short.order + 2 * max(1, round(short.order * extra / 2))
        found = equiripple.design(task.asked, order, 1, task.is_stopped)
    assert isinstance(found.filter, Fir)
    return found.filter


def _least(task: Task) -> tuple[Cascade, int, Balanced, Fir]:
    """The least order over a few FIRs with more or less room to spare."""
    best: tuple[Cascade, int, Balanced, Fir] | None = None
    for extra in EXTRA_TAPS if task.choice.setting("fir_order") is None else EXTRA_TAPS[:1]:
        source = _source(task, extra)
        if source.order < 2:
            raise DesignError("the FIR to follow is too short to have anything to reduce", "bands", "take equiripple")
        system = balanced(source.array)
        most = min(MOST_ORDER if best is None else best[1] - 1, source.order)
        order = _first_within(task, system, most)
        if order is not None:
            best = sections_of(system.reduced(order)), order, system, source
    if best is None:
        what = f"no reduced filter of up to order {MOST_ORDER} follows the FIR closely enough"
        raise DesignError(what, "bands", "allow more ripple or take an elliptic filter")
    return best


def _first_within(task: Task, system: Balanced, most: int) -> int | None:
    """The least order whose sections keep the gain limits: halved first, then looked at one by one below."""

    def keeps(order: int) -> bool:
        if task.is_stopped():
            raise Stopped
        reduced = system.reduced(order)
        if not reduced.is_stable:
            return False
        try:
            return all(line.margin >= 0 for line in lines_of(sections_of(reduced), _gains_only(task.asked)))
        except (CombeError, FloatingPointError):
            return False

    if most < 2 or not keeps(most):
        return None
    low, high = 0, most
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if keeps(middle) else (middle, high)
    return high


def _gains_only(requirement: Requirement) -> Requirement:
    from combe.values import replace

    return replace(
        requirement,
        max_delay_s=None,
        max_delay_spread_s=None,
        max_multiplies=None,
        max_cycles=None,
        max_multipliers=None,
    )


def _story(found: Cascade, order: int, system: Balanced, source: Fir, requirement: Requirement) -> tuple[str, ...]:
    """What was followed, how closely, and what became of its linear phase."""
    bands = [(band.start_hz, band.stop_hz) for band in requirement.passbands]
    span = delay_over_passbands(found, bands, requirement.sample_rate_hz)
    first = f"follows an equiripple FIR of {len(source.taps)} taps; Hankel bound {system.bound(order):.3g}"
    second = (
        f"passband delay {span.least:.2f} to {span.most:.2f} samples where linear phase would have {source.order / 2:g}"
    )
    worst = min((line for line in gain_lines(found, requirement)), key=lambda line: line.margin)
    third = () if worst.margin >= 0 else (f"misses by {level_text(-worst.margin, 2)}",)
    return (first, second, *third)
