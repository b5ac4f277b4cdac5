"""The order in which a multiplier goes through the taps of an output: those that are always zero are left out.

The taps of a half-band or M-th-band stage (Mintzer 1982) are zero at every M-th place but the middle. Going down, a counter
of ages steps over these places and comes to the middle tap at the end; going up they fill a phase of their own, in which
only one tap is left.
"""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.circuit import UNSIGNED, Expression, Number, Op, Signal, bits_for, equals, flag_or
from combe.delivery.hdl.parts import Builder
from combe.realization.stages import TapSum

MOST_PERIOD = 16
"""Of zeros that are stepped over."""


class Walk(Struct, frozen=True):
    """The ages of the samples that the outputs of each phase meet, in the order they are gone through.

    With a ``period`` one of so many ages in a row, the one that leaves ``residue``, is stepped over, and an age that is left at the
    end may be any; without one ages are 0, 1, 2, …, and a phase in ``short`` has a single one, which may be any.
    """

    phases: tuple[tuple[int, ...], ...]
    period: int = 0
    residue: int = 0
    short: tuple[int, ...] = ()

    def clocks(self, lanes: int = 1) -> tuple[int, ...]:
        """An output of each phase takes, on so many multipliers."""
        return tuple(-(-len(ages) // lanes) for ages in self.phases)

    def longest(self, lanes: int = 1) -> int:
        """The most of them."""
        return max(self.clocks(lanes))


def walk_of(stage: TapSum, is_fixed: bool = True) -> Walk:
    """How the taps of a change of rate are gone through; all of them where they may be replaced."""
    depth = -(-len(stage.coefficients) // stage.up)
    if not is_fixed:
        return Walk((tuple(range(depth)),) * stage.up)
    if stage.up == 1:
        return _stepping(stage.coefficients) or Walk((tuple(range(depth)),))
    used = [[age for age, tap in enumerate(stage.coefficients[phase :: stage.up]) if tap] for phase in range(stage.up)]
    short = tuple(phase for phase, ages in enumerate(used) if len(ages) < 2) if depth > 1 else ()
    if len(short) == stage.up or stage.down % stage.up == 0:
        short = ()
    phases = tuple(tuple(ages[:1] or [0]) if phase in short else tuple(range(depth)) for phase, ages in enumerate(used))
    return Walk(phases, short=short)


def words_of(walk: Walk, depth: int, lanes: int = 1) -> str:
    """What an output takes, for people."""
    least, most = min(walk.clocks(lanes)), walk.longest(lanes)
    clocks = f"{most} clock{'s' if most > 1 else ''}"
    if walk.period or walk.longest() < depth:
        return f"{clocks}, one for each tap that isn't always zero{'' if lanes == 1 else ' of a lane'}"
    alone = f", {least} in a phase of one tap" if walk.short and least < most else ""
    return f"{clocks}, one for each tap of its phase{'' if lanes == 1 else ' in a lane'}{alone}"


def _stepping(taps: tuple[int, ...]) -> Walk | None:
    """The shortest way that steps over zeros, if it leaves any out."""
    found: Walk | None = None
    for period in range(2, min(MOST_PERIOD, len(taps) // 2) + 1):
        for residue in range(period):
            alone = [age for age in range(residue, len(taps), period) if taps[age]]
            if len(alone) > 1:
                continue
            ages = (*(age for age in range(len(taps)) if age % period != residue), *alone)
            if ages and len(ages) < len(taps) and (found is None or len(ages) < len(found.phases[0])):
                found = Walk((ages,), period, residue)
    return found


def age_counter(
    build: Builder, name: str, walk: Walk, places: tuple[int, int], index: Signal, ends: Expression, busy: Signal, bits: int
) -> Signal:  # fmt: skip
    """The age of the sample that a lane meets, of its run of ``places`` (the first and how many) of a walk with a period. It moves on
    with ``index`` while ``busy`` is set and is back at the first once ``ends`` is.
    """
    circuit = build.circuit
    ages, (start, count) = walk.phases[0], places
    own = ages[start : start + count] or (0,)
    age = circuit.new(name, bits, UNSIGNED)
    onward = _stepped(build, name, walk, age, own[0], ends, busy)
    last = len(own) - 1
    if last and own[-1] % walk.period == walk.residue:
        onward = circuit.mux(f"{name}_on", equals(index, last - 1), Number(own[-1], bits, UNSIGNED), onward)
    circuit.clocked(age, circuit.mux(f"next_{name}", ends, Number(own[0], bits, UNSIGNED), onward), busy, own[0])
    return age


def _stepped(
    build: Builder, name: str, walk: Walk, age: Signal, first: int, ends: Expression, busy: Signal
) -> Expression:  # fmt: skip
    """One age further, two where one is stepped over."""
    circuit, bits = build.circuit, age.width
    further = [Op("add", (age, Number(step, bits, UNSIGNED)), bits, UNSIGNED) for step in (1, 2)]
    if walk.period == 2:
        return further[1]
    since = (first - walk.residue - 1) % walk.period
    turn = circuit.new(f"{name}_turn", bits_for(walk.period), UNSIGNED)
    is_over = circuit.wire(f"{name}_over", equals(turn, walk.period - 2))
    one = Op("add", (turn, Number(1, turn.width, UNSIGNED)), turn.width, UNSIGNED)
    again = circuit.mux(f"{name}_again", is_over, Number(0, turn.width, UNSIGNED), one)
    start = Number(since, turn.width, UNSIGNED)
    circuit.clocked(turn, circuit.mux(f"{name}_turned", ends, start, again), busy, since)
    return circuit.mux(f"{name}_step", is_over, further[1], further[0])


def is_any(build: Builder, name: str, row: Signal, places: list[int]) -> Signal | None:
    """A flag that is set where ``row`` is one of these; None where there are none."""
    if not places:
        return None
    return build.circuit.wire(name, flag_or(*(equals(row, place) for place in places)))
