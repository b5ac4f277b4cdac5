"""How stages in a row that change the rate hand on values: one is begun only where the next stage has room for it, so that nothing can
be lost. Taps keep what comes early in the memory of their samples; everything else takes one value at a time."""

from __future__ import annotations

from collections.abc import Sequence
from math import ceil

from msgspec import Struct

from combe.delivery.hdl.circuit import (
    BIT,
    UNSIGNED,
    Circuit,
    Expression,
    Number,
    Signal,
    bits_for,
    equals,
    flag_and,
    flag_not,
    flag_or,
)
from combe.delivery.hdl.fir_mac import plus
from combe.delivery.hdl.parts import Builder

ALWAYS = Number(1, 1, BIT)
MOST_QUEUED = 8


class Link(Struct, frozen=True):
    """What stands between a stage and the next that changes the rate: whether another value may be begun; None where the output
    comes next."""

    room: Signal | None = None

    def free(self) -> Expression:
        """Whether another value may be begun."""
        return ALWAYS if self.room is None else self.room


class Handed(Struct, frozen=True):
    """What comes to taps: a flag for each value begun before, and for how many there is room."""

    link: Link
    launched: Expression
    most: int


def one_at_a_time(circuit: Circuit, link: Link, idle: Signal, launched: Expression, arrived: Signal) -> None:
    """Room where the next stage is idle and no value is on its way there."""
    if link.room is not None:
        sent = circuit.new("sent", 1, BIT)
        circuit.clocked(sent, flag_or(launched, flag_and(sent, flag_not(arrived))), None, 0)
        circuit.drive(link.room, flag_and(idle, flag_not(sent)))


def queued(build: Builder, handed: Handed, arrived: Signal, idle: Signal) -> Signal:
    """Room for so many values that are on their way or wait; the flag that tells that one is taken."""
    circuit, bits = build.circuit, bits_for(handed.most + 1)
    waiting = circuit.new("waiting", bits, UNSIGNED)
    is_there = flag_or(arrived, flag_not(equals(waiting, 0)))
    accept = circuit.wire("accept", flag_and(is_there, idle))
    _counted(circuit, waiting, arrived, accept)
    assert handed.link.room is not None
    owing = circuit.new("on_the_way", bits, UNSIGNED)
    _counted(circuit, owing, handed.launched, accept)
    circuit.drive(handed.link.room, flag_not(equals(owing, handed.most)))
    return accept


def _counted(circuit: Circuit, count: Signal, more: Expression, less: Expression) -> None:
    """One more, or one less; as many where both."""
    up, down = flag_and(more, flag_not(less)), flag_and(less, flag_not(more))
    onward = circuit.mux(f"next_{count.name}", circuit.named(up, "one_more"), plus(count, 1), plus(count, -1))
    circuit.clocked(count, onward, circuit.named(flag_or(up, down), "count_moves"), 0)


def most_queued(clocks: int, interval: int, counts: Sequence[int], down: int) -> int:
    """Values to have room for so that none has to be begun late: those on their way for so many clocks, one in ``interval`` or as they
    are taken in by taps whose phases take ``counts`` clocks, and one that waits."""
    apart = max(interval, sum(counts) // down, 1)
    return min(1 + ceil((clocks + 1) / apart), MOST_QUEUED)
