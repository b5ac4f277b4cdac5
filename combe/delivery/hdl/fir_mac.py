"""Taps on few multipliers: sample memories, coefficient tables and a sequencer, one lane for every multiplier."""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.circuit import (
    BIT,
    UNSIGNED,
    Circuit,
    Expression,
    Memory,
    Number,
    Op,
    Signal,
    below,
    bits_for,
    equals,
    flag_and,
    flag_not,
    flag_or,
)
from combe.delivery.hdl.parts import Builder, Stream, Value
from combe.realization.formats import Format
from combe.realization.stages import TapSum
from combe.values import replace


class WritePort(Struct, frozen=True):
    """The port that replaces coefficients. With ``swap`` there are two banks: what is written goes to the one that isn't in use, and
    they change places before the next output; ``bank`` is the one in use."""

    write: Signal
    address: Signal
    data: Signal
    swap: Signal | None = None
    bank: Signal | None = None


def banked(build: Builder, port: WritePort | None, boundary: Expression) -> WritePort | None:
    """The port with its banks, which change places at a clock edge at which ``boundary`` is set: where no output is under way."""
    if port is None or port.swap is None:
        return port
    circuit = build.circuit
    circuit.remark(
        "Two banks of coefficients: one is in use, the other is written. They change places once no output is under way."
    )
    waits = circuit.new("swap_waits", 1, BIT)
    bank = circuit.new("bank", 1, BIT)
    wanted = circuit.wire("swap_wanted", flag_or(port.swap, waits))
    now = circuit.wire("swap_now", flag_and(wanted, boundary))
    circuit.clocked(waits, flag_and(wanted, flag_not(now)), None, 0)
    circuit.clocked(bank, flag_not(bank), now, 0)
    return replace(port, bank=bank)


class Sequenced(Struct, frozen=True):
    """What comes out, whether another sample is taken, and how many clocks a sample occupies."""

    stream: Stream
    ready: Expression
    clocks: int


class Sequencer(Struct, frozen=True):
    """A sample is stored, then ``count`` clocks go through what a lane has."""

    busy: Signal
    index: Signal
    pointer: Signal
    filled: Signal
    accept: Signal
    last: Signal
    at_end: Signal
    first: Signal
    next_pointer: Signal

    @staticmethod
    def of(build: Builder, stream: Stream, count: int, words: str) -> Sequencer:
        """Counters for so many places."""
        circuit = build.circuit
        depth_bits, index_bits = bits_for(count), bits_for(count + 1)
        circuit.remark(f"The sequencer: a sample is stored, then {words}.")
        busy = circuit.new("busy", 1, BIT)
        index = circuit.new("index", index_bits, UNSIGNED)
        pointer = circuit.new("pointer", depth_bits, UNSIGNED)
        filled = circuit.new("filled", index_bits, UNSIGNED)
        accept = circuit.wire("accept", flag_and(stream.valid, flag_not(busy)))
        is_last = circuit.wire("is_last", equals(index, count - 1))
        is_full = circuit.wire("is_full", equals(filled, count))
        is_at_end = circuit.wire("is_at_end", flag_and(busy, is_last))
        next_pointer = circuit.wire("next_pointer", plus(pointer, 1))
        next_index = circuit.mux("next_index", is_last, index, plus(index, 1))
        first_index = circuit.mux(
            "first_index", accept, Number(0, index_bits, UNSIGNED), circuit.mux("index_on", busy, next_index, index)
        )
        circuit.clocked(busy, circuit.wire("busy_next", flag_or(accept, flag_and(busy, flag_not(is_last)))), None, 0)
        circuit.clocked(index, first_index, None, count - 1)
        filled_on = circuit.mux("filled_on", is_full, filled, plus(filled, 1))
        circuit.clocked(pointer, next_pointer, accept, 0)
        circuit.clocked(filled, filled_on, accept, 0)
        first = circuit.wire("is_first", flag_and(busy, equals(index, 0)))
        return Sequencer(busy, index, pointer, filled, accept, is_last, is_at_end, first, next_pointer)

    @property
    def ready(self) -> Expression:
        """Whether a sample is taken."""
        return flag_not(self.busy)

    def known(self, circuit: Circuit) -> Signal:
        """Whether what is read is a sample, a clock later."""
        circuit.remark("What is read is a sample only where as many have come since the reset.")
        return circuit.register("known", below(self.index, self.filled), None, 0)

    def place(self, circuit: Circuit) -> Signal:
        """Where the sample of the index lies, the newest at the pointer."""
        bits = self.pointer.width
        where = Op("sub", (self.pointer, circuit.fit(self.index, bits)), bits, UNSIGNED)
        return circuit.wire("place", where)


def sequenced(
    build: Builder, stream: Stream, source: Format, stage: TapSum, lanes: int, port: WritePort | None = None
) -> Sequenced:  # fmt: skip
    """``lanes`` multipliers, each with its own run of taps; a sample that leaves one lane enters the next.

    A sample takes one clock to be stored and one for every tap of a lane.
    """
    circuit, taps = build.circuit, stage.coefficients
    count = -(-len(taps) // lanes)
    depth_bits = bits_for(count)
    run = Sequencer.of(build, stream, count, f"{count} clocks go through the taps of each lane")
    known = run.known(circuit)
    place = run.place(circuit)
    port = banked(build, port, flag_or(flag_not(run.busy), run.last))
    products, carried = [], stream.value.signal
    for lane in range(lanes):
        own = [taps[k] if k < len(taps) else 0 for k in range(lane * count, (lane + 1) * count)]
        sample = _samples(build, lane, carried, run.accept, run.next_pointer, place, depth_bits, known)
        factor = lane_coefficients(build, lane, own, stage, run.index, depth_bits, count, port)
        product = Op("mul", (factor, sample), factor.width + sample.width)
        made = circuit.register(f"product_{lane}", product)
        products.append(product_of(stage, source, made))
        carried = sample
    out = summed(build, stage, products, Flags(run.busy, run.first, run.at_end), count)
    return Sequenced(out, run.ready, count + 1)


def product_of(stage: TapSum, source: Format, product: Signal, samples: int = 1) -> Value:
    """A tap times a sample, or several of either sign, with the least and the most it can be."""
    ends = [
        c * x * samples * sign
        for c in (stage.coefficient.least, stage.coefficient.most)
        for x in (min(source.least, 0), max(source.most, 0))
        for sign in ((1,) if samples == 1 else (1, -1))
    ]
    return Value(product, min(*ends, 0), max(*ends, 0))


class Flags(Struct, frozen=True):
    """Whether taps are gone through, and are the first or the last of an output."""

    busy: Signal
    first: Signal
    last: Signal


def summed(build: Builder, stage: TapSum, products: list[Value], flags: Flags, count: int) -> Stream:
    """The products of all lanes, added up over the clocks of an output."""
    circuit = build.circuit
    before = build.pipeline
    build.pipeline = max(before, 1)
    total, levels = build.tree("sum", products)
    build.pipeline = before
    what = "an output" if stage.up > 1 or stage.down > 1 else "a sample"
    circuit.remark(f"The accumulator: the first product of {what} starts it anew.")
    running = build.later(flags.busy, 2 + levels)
    starting = build.later(flags.first, 2 + levels)
    ended = build.later(flags.last, 2 + levels)
    width = stage.accumulator.bits
    accumulator = circuit.new("accumulator", width)
    kept = circuit.mux("kept", starting, Number(0, width), accumulator)
    plain = circuit.fit(circuit.left(total.signal, total.shift), width)
    circuit.clocked(accumulator, circuit.add(kept, plain, width), running)
    done = build.later(ended, 1)
    # A clock to store, those of the taps, and three through memory, product and accumulator.
    build.latency += count + 3 + levels
    return Stream(done, Value(accumulator, stage.accumulator.least, stage.accumulator.most))


def _samples(
    build: Builder, lane: int, data: Signal, write: Signal, address: Signal, place: Signal, bits: int, known: Signal
) -> Signal:  # fmt: skip
    circuit = build.circuit
    read = circuit.new(f"read_{lane}", data.width)
    circuit.memory(
        Memory(f"samples_{lane}", data.width, (0,) * (1 << bits), place, read, write, address, data,
               comment=f"Samples of lane {lane}.", alternates=True)
    )  # fmt: skip
    return circuit.mux(f"sample_{lane}", known, read, Number(0, data.width))


def lane_coefficients(
    build: Builder, lane: int, own: list[int], stage: TapSum, index: Signal, bits: int, count: int, port: WritePort | None
) -> Signal:  # fmt: skip
    """A lane's run of ``count`` taps, the one at ``index`` read at a clock edge; with a port the others of the filter are passed
    over where they are written."""
    circuit = build.circuit
    width = stage.coefficient.bits + (not stage.coefficient.signed)
    factor = circuit.new(f"coefficient_{lane}", width)
    address = circuit.fit(index, bits)
    name = f"coefficients_{lane}"
    if port is None or lane * count >= len(stage.coefficients):
        circuit.memory(
            Memory(
                name,
                width,
                tuple(own),
                circuit.named(address, f"place_{lane}"),
                factor,
                comment=f"Taps of lane {lane}.",
            )
        )
        return factor
    # A bit more than the address has: without it the first taps would also be written behind the end of the last lane.
    wide = port.address.width + 1
    first = Number(lane * count, wide, UNSIGNED)
    local = circuit.wire(f"offset_{lane}", Op("sub", (circuit.fit(port.address, wide), first), wide, UNSIGNED))
    write = circuit.wire(f"write_{lane}", flag_and(port.write, below(local, Number(count, wide, UNSIGNED))))
    padded = (*own, *[0] * ((1 << bits) - len(own)))
    target = circuit.fit(local, bits)
    if port.bank is not None:
        padded *= 2
        address = _in_bank(build, port.bank, address, bits)
        target = _in_bank(build, flag_not(port.bank), target, bits)
    circuit.memory(
        Memory(name, width, padded, circuit.named(address, f"place_{lane}"), factor, write, target, port.data,
               comment=f"Taps of lane {lane}, written from outside.", has_start=True)
    )  # fmt: skip
    return factor


def _in_bank(build: Builder, bank: Expression, address: Expression, bits: int) -> Expression:
    """The address with the bank's number above it."""
    start = build.circuit.mux("in_bank", bank, Number(1 << bits, bits + 1, UNSIGNED), Number(0, bits + 1, UNSIGNED))
    return Op("or", (start, build.circuit.fit(address, bits + 1)), bits + 1, UNSIGNED)


def plus(value: Signal, step: int) -> Op:
    """A counter moved on, modulo what its bits hold."""
    return Op("add", (value, Number(step % (1 << value.width), value.width, UNSIGNED)), value.width, UNSIGNED)
