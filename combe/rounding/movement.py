"""How far rounding moves each root, and which coefficient matters most."""

from __future__ import annotations

import contextlib
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.exact import exact_filter
from combe.analysis.fact import Fact
from combe.designing.shares import share_of
from combe.errors import FormatError
from combe.filters import Filter, Fir, rational_of
from combe.filters.simultaneous import roots_of
from combe.ledger import gain_lines
from combe.realization.cic import Cic
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Realization, Stage, TapSum
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text
from combe.rounding.choices import Choices
from combe.rounding.search.adders import adder_graph
from combe.rounding.search.better_integers import better_integers
from combe.rounding.search.signed_digits import digit_count
from combe.values import replace

ComplexArray = NDArray[np.complex128]
MOST_TAPS = 400
MOST_CHANGES = 100


class Move(Struct, frozen=True):
    """A root of the exact filter and where rounding puts it."""

    kind: str
    exact: complex
    rounded: complex

    @property
    def distance(self) -> float:
        """How far it moves."""
        return abs(self.rounded - self.exact)

    def document(self) -> dict[str, Any]:
        """The move as a file has it."""
        return {
            "kind": self.kind, "exact": [self.exact.real, self.exact.imag],
            "rounded": [self.rounded.real, self.rounded.imag], "distance": self.distance,
        }  # fmt: skip


def moved_roots(exact: Filter, rounded: Filter) -> list[Move]:
    """Every zero and pole with the rounded one it becomes: pairs that make the sum of distances least.

    Roots at the origin and at infinity are left out; taps beyond 400 have too many to be told apart.
    """
    from scipy.optimize import linear_sum_assignment

    found = []
    for kind, before, after in zip(("zero", "pole"), _roots(exact), _roots(rounded)):
        if not len(before) or not len(after):
            continue
        distance = np.abs(before[:, None] - after[None, :])
        rows, columns = linear_sum_assignment(distance)
        found += [Move(kind, complex(before[i]), complex(after[j])) for i, j in zip(rows, columns)]
    return found


def _roots(source: Filter) -> tuple[ComplexArray, ComplexArray]:
    if isinstance(source, Fir):
        taps = np.trim_zeros(source.array)
        found = roots_of(taps) if 1 < len(taps) <= MOST_TAPS else np.zeros(0)
        return np.asarray(found, complex), np.zeros(0, complex)
    rational = rational_of(source)
    return rational.zeros, rational.poles


class Worst(Struct, frozen=True):
    """The coefficient whose change by one step costs most of the tolerances, and how much: 1 is all of them."""

    place: str
    value: int
    share: float

    def sentence(self) -> str:
        """What it means, in words."""
        return (
            f"The most sensitive coefficient is {self.place} ({str(self.value).replace('-', '−')}): one step of it costs "
            f"{100 * self.share:.1f} % of the tolerances."
        )

    def document(self) -> dict[str, Any]:
        """As a file has it."""
        return {"place": self.place, "value": self.value, "share_per_step": self.share}


def worst_coefficient(realization: Realization, requirement: Requirement) -> Worst | None:
    """Each coefficient moved by one step, all limits held against it, the costliest told; None where there
    are too many to be tried."""
    if realization.changes_rate:
        return None
    stage = realization.stages[0]
    if isinstance(stage, TapSum):
        return _worst_tap(stage, requirement)
    base = share_of(gain_lines(exact_filter(realization), requirement), requirement)
    best: Worst | None = None
    changes = _changes(realization) if realization.is_recursive else []
    if not 0 < len(changes) <= MOST_CHANGES:
        return None
    for place, value, changed in changes:
        try:
            used = share_of(gain_lines(exact_filter(changed), requirement), requirement)
        except (ValueError, ZeroDivisionError):
            continue
        if best is None or used - base > best.share:
            best = Worst(place, value, used - base)
    return best


def _worst_tap(stage: TapSum, requirement: Requirement) -> Worst:
    """Each tap (with its mirror) a step up and down, the gain on a grid of every band held against its limits."""
    from combe.designing.equiripple.problem import Table, pieces_of

    pieces = pieces_of(requirement)
    table = Table.of(pieces)
    taps = np.array([float(v) for v in stage.coefficients]) * stage.coefficient.step
    points = max(16, min(400, 200_000 // (len(taps) * len(pieces))))
    omega = np.concatenate([np.linspace(piece.start, piece.stop, points) for piece in pieces])
    target, room = table.target(omega, np.repeat(np.arange(len(pieces)), points))
    waves = np.exp(-1j * np.outer(omega, np.arange(len(taps)))) * stage.coefficient.step
    response = waves @ np.array([float(v) for v in stage.coefficients])
    if stage.symmetry:
        waves = waves + stage.symmetry * waves[:, ::-1]
        if len(taps) % 2:
            waves[:, len(taps) // 2] /= 2
    shares = [
        np.max(np.abs(np.abs(response[:, None] + way * waves) - target[:, None]) / room[:, None], axis=0)
        for way in (1.0, -1.0)
    ]
    base = float(np.max(np.abs(np.abs(response) - target) / room))
    costs = np.maximum(*shares) - base
    at = int(np.argmax(costs[: (len(taps) + 1) // 2] if stage.symmetry else costs))
    return Worst(f"tap {at}", stage.coefficients[at], float(costs[at]))


def _changes(realization: Realization) -> list[tuple[str, int, Realization]]:
    found = []
    for k, stage in enumerate(realization.stages):
        for place, value, changed in _stage_changes(stage):
            stages = (*realization.stages[:k], changed, *realization.stages[k + 1 :])
            with contextlib.suppress(FormatError):  # a step beyond its format has no effect to tell
                found.append((f"{place} of stage {k + 1}", value, replace(realization, stages=stages)))
    return found


def _stage_changes(stage: Stage) -> list[tuple[str, int, Stage]]:
    found: list[tuple[str, int, Stage]] = []
    if isinstance(stage, Section):
        for index, value in enumerate(stage.b):
            moved = tuple(v + (i == index) for i, v in enumerate(stage.b))
            found.append((f"b{index}", value, replace(stage, b=moved)))
        for index, value in enumerate(stage.a):
            moved_a = tuple(v + (i == index) for i, v in enumerate(stage.a))
            found.append((f"a{index + 1}", value, replace(stage, a=moved_a)))
    elif isinstance(stage, Network):
        for n, node in enumerate(stage.nodes):
            for t, term in enumerate(node.terms):
                if abs(term.coefficient) > 1:
                    changed = replace(term, coefficient=term.coefficient + 1)
                    terms = (*node.terms[:t], changed, *node.terms[t + 1 :])
                    nodes = (*stage.nodes[:n], replace(node, terms=terms), *stage.nodes[n + 1 :])
                    found.append((f"{term.signal} in {node.name}", term.coefficient, replace(stage, nodes=nodes)))
    return found


def rounding_facts(exact: Filter, realization: Realization, requirement: Requirement, choices: Choices) -> list[Fact]:
    """What rounding the coefficients did, in sentences; where the rate changes roots are those of all stages at the highest rate."""
    found = []
    rate = realization.sample_rate_hz * realization.ratio[0]
    moves = moved_roots(exact, exact_filter(realization))
    for kind in ("pole", "zero"):
        own = [move for move in moves if move.kind == kind]
        if own:
            worst = max(own, key=lambda move: move.distance)
            hz = abs(np.angle(worst.exact)) / (2 * np.pi) * rate
            place = frequency_text(float(f"{hz:.4g}"), rate) if hz > 1e-9 else "0 Hz"
            words = f"The {kind} at {abs(worst.exact):.5f}, {place},"
            found.append(Fact("note", f"{words} moves most: by {worst.distance:.2g}, to {abs(worst.rounded):.5f}."))
    if worst_one := worst_coefficient(realization, requirement):
        weight = "warning" if worst_one.share > 0.2 else "note"
        found.append(Fact(weight, worst_one.sentence()))
    sums = [stage for stage in realization.stages if isinstance(stage, TapSum)]
    if choices.better and isinstance(exact, Fir) and exact.symmetry and isinstance(realization.stages[0], TapSum):
        found += _better_fact(exact, realization, requirement)
    if (
        sums
        and max(len(stage.coefficients) for stage in sums) <= MOST_TAPS
        and isinstance(realization.stages[0], (TapSum, Cic))
    ):
        digits = sum(digit_count(value) for stage in sums for value in stage.coefficients)
        count = sum(len(adder_graph(stage.coefficients).adders) for stage in sums)
        whose, graphs = ("the taps", "one graph") if len(sums) == 1 else ("the taps of all stages", "a graph for each")
        words = f"As signed powers of two {whose} take {digits} digits"
        made = f"of {count} adders makes" if len(sums) == 1 else f"of them, {count} adders in all, makes"
        found.append(Fact("note", f"{words}; {graphs} {made} all their multiples."))
    return found


def _better_fact(exact: Fir, realization: Realization, requirement: Requirement) -> list[Fact]:
    """How far better integers are from what can't be beaten: of a single stage, as it is searched for."""
    from combe.rounding.rates import stage_limits

    stage = realization.stages[0]
    assert isinstance(stage, TapSum)
    taps, asked = exact.taps, requirement
    if realization.changes_rate:
        if len(realization.stages) > 2:
            return []  # stages in a row are rounded plainly
        taps, asked = tuple(tap * stage.up for tap in taps), stage_limits(requirement, stage.up)
    limits = stage.coefficient.least, stage.coefficient.most
    found = better_integers(taps, exact.symmetry, asked, stage.coefficient.fraction, limits)
    return [Fact("note", found.sentence())]
