"""How stages in a row that change the rate hand on values: one is begun only where the next stage has room for it, so that nothing can
be lost. Taps keep what comes early in the memory of their samples, everything else in registers of its own."""

from __future__ import annotations

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
from combe.delivery.hdl.parts import Builder, Stream, Value

ALWAYS = Number(1, 1, BIT)


class Link(Struct, frozen=True):
    """What stands between a stage and the next that changes the rate: whether another value may be begun; None where the output
    comes next."""

    room: Signal | None = None

    def free(self) -> Expression:
        """Whether another value may be begun."""
        return ALWAYS if self.room is None else self.room


class Handed(Struct, frozen=True):
    """What comes to a stage: a flag for each value begun before, and for how many there is room."""

    link: Link
    launched: Expression
    most: int


def queued(build: Builder, handed: Handed, arrived: Signal, idle: Signal) -> tuple[Signal, Signal, Signal]:
    """Room for so many values that are on their way or wait; how many wait, and the flags that tell that one is there and that it is
    taken."""
    circuit, bits = build.circuit, bits_for(handed.most + 1)
    waiting = circuit.new("waiting", bits, UNSIGNED)
    is_there = circuit.wire("is_there", flag_or(arrived, flag_not(equals(waiting, 0))))
    accept = circuit.wire("accept", flag_and(is_there, idle))
    _counted(circuit, waiting, arrived, accept)
    assert handed.link.room is not None
    owing = circuit.new("on_the_way", bits, UNSIGNED)
    _counted(circuit, owing, handed.launched, accept)
    circuit.drive(handed.link.room, flag_not(equals(owing, handed.most)))
    return waiting, is_there, accept


def stored(build: Builder, handed: Handed, stream: Stream, idle: Signal) -> Stream:
    """The same where what waits is kept in registers: the stream that the stage takes from."""
    circuit = build.circuit
    circuit.remark(f"Up to {handed.most} values wait until they are taken.")
    waiting, is_there, accept = queued(build, handed, stream.valid, idle)
    arriving = stream.value.signal
    slots = [circuit.new(f"waiting_{k}", arriving.width) for k in range(handed.most)]
    for k, (slot, after) in enumerate(zip(slots, [*slots[1:], arriving])):
        # A value that comes goes behind those that stay.
        here = circuit.mux(f"stays_{k}", accept, equals(waiting, k + 1), equals(waiting, k))
        comes = circuit.wire(f"comes_to_{k}", flag_and(stream.valid, here))
        moved = circuit.mux(f"next_waiting_{k}", comes, arriving, after) if after is not arriving else arriving
        circuit.clocked(slot, moved, flag_or(accept, comes))
    head = circuit.mux("handed_on", equals(waiting, 0), arriving, slots[0])
    return Stream(is_there, Value(head, stream.value.low, stream.value.high, stream.value.shift, stream.value.sign))


def _counted(circuit: Circuit, count: Signal, more: Expression, less: Expression) -> None:
    """One more, or one less; as many where both."""
    up, down = flag_and(more, flag_not(less)), flag_and(less, flag_not(more))
    onward = circuit.mux(f"next_{count.name}", circuit.named(up, "one_more"), plus(count, 1), plus(count, -1))
    circuit.clocked(count, onward, circuit.named(flag_or(up, down), "count_moves"), 0)
