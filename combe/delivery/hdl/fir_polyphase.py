"""One sum of taps that goes down or up in rate, at full speed: as many multipliers as the clock leaves them time, samples taken
while an output is worked out.

Every multiplier has its own run of each phase's taps and its own copy of the samples. Going down an output begins with every
``down``-th sample, and those in between are only stored; going up each sample begins ``up`` outputs in a row.
"""

from __future__ import annotations

from bisect import bisect_left

from combe.delivery.hdl.circuit import (
    BIT,
    UNSIGNED,
    Memory,
    Number,
    Op,
    Signal,
    bits_for,
    equals,
    flag_and,
    flag_not,
    flag_or,
)
from combe.delivery.hdl.fir_mac import Flags, Sequenced, WritePort, banked, lane_coefficients, plus, product_of, summed
from combe.delivery.hdl.parts import Builder, Stream, Value
from combe.delivery.hdl.samples import Samples
from combe.delivery.hdl.walks import Walk, age_counter, is_any, walk_of
from combe.realization.formats import Format
from combe.realization.stages import TapSum


def clocks_a_sample(stage: TapSum, walk: Walk, lanes: int) -> int:
    """Clocks between two samples that come evenly, with so many multipliers."""
    return sum(walk.clocks(lanes)) if stage.up > 1 else -(-walk.longest(lanes) // stage.down)


def fewest_lanes(stage: TapSum, walk: Walk, clocks: int) -> int | None:
    """The fewest multipliers that keep up with a sample every so many clocks; None where no number does."""
    most = walk.longest()
    if clocks_a_sample(stage, walk, most) > clocks:
        return None
    return bisect_left(range(1, most), True, key=lambda lanes: clocks_a_sample(stage, walk, lanes) <= clocks) + 1


def polyphase(
    build: Builder, stream: Stream, source: Format, stage: TapSum, lanes: int, port: WritePort | None = None
) -> Sequenced:  # fmt: skip
    """The circuit on ``lanes`` multipliers; ``stage`` goes down or up, not both. With a port taps are written from outside."""
    circuit = build.circuit
    walk = walk_of(stage, port is None)
    depth, count = -(-len(stage.coefficients) // stage.up), walk.longest(lanes)
    turns = sum(walk.clocks(lanes))
    # What comes in while an output is worked out must not take the place of what it still reads.
    room = depth + min(count, stage.down) if stage.up == 1 else depth + 1
    taps = f"{count} clocks, one for each tap of a lane"
    rests = ", of zeros aside" if walk.period else f", one clock in {len(walk.short)} of them" if walk.short else ""
    circuit.remark(
        f"An output takes {taps}{rests}; samples that begin none are taken meanwhile."
        if stage.up == 1
        else f"A sample makes {stage.up} outputs of {taps}{rests}."
    )
    busy = circuit.new("busy", 1, BIT)
    index, row, is_output, alone = _counters(build, busy, walk, lanes)
    is_last = circuit.wire("is_last", equals(row, turns - 1))
    free = flag_or(flag_not(busy), is_last)
    if stage.up == 1:
        to_wait = circuit.new("to_wait", bits_for(stage.down), UNSIGNED)
        begins = circuit.wire("begins", equals(to_wait, 0))
        ready = circuit.wire("ready", flag_or(flag_not(begins), free))
        accept = circuit.wire("accept", flag_and(stream.valid, ready))
        start = circuit.wire("start", flag_and(accept, begins))
        again = Number(stage.down - 1, to_wait.width, UNSIGNED)
        one_less = Op("sub", (to_wait, Number(1, to_wait.width, UNSIGNED)), to_wait.width, UNSIGNED)
        circuit.clocked(to_wait, circuit.mux("wait_on", begins, again, one_less), accept, 0)
    else:
        ready = circuit.wire("ready", free)
        start = accept = circuit.wire("accept", flag_and(stream.valid, ready))
    circuit.clocked(busy, flag_or(start, flag_and(busy, flag_not(is_last))), None, 0)
    ages = max(lanes * count, depth)
    memory = Samples.of(build, stream.value.signal, accept, start, room, ages)
    first = circuit.wire("is_first", flag_and(busy, equals(index, 0)))
    port = banked(build, port, free)
    tap = _numbered(build, stage.up, count, busy, is_output, is_last) if port is not None else row
    products: list[Value] = []
    for lane in range(lanes):
        if walk.period:
            places = lane * count, count
            age = age_counter(build, f"age_{lane}", walk, places, index, is_last, busy, memory.filled.width)
        else:
            age = memory.age(build, lane, index, lane * count)
        if alone is not None and not lane:
            age = _age_of(build, stage, walk, lanes, row, age)
        sample = memory.read(build, lane, age)
        if port is None:
            factor = _factors(build, stage, walk, lane, lanes, row)
        else:
            own = list(stage.coefficients[lane * turns : (lane + 1) * turns])
            factor = lane_coefficients(build, lane, own + [0] * (turns - len(own)), stage, tap, tap.width, turns, port)
        product = circuit.register(f"product_{lane}", Op("mul", (factor, sample), factor.width + sample.width))
        products.append(product_of(stage, source, product))
    out = summed(build, stage, products, Flags(busy, first, is_output), walk.clocks(lanes)[0])
    return Sequenced(out, ready, clocks_a_sample(stage, walk, lanes))


def _counters(
    build: Builder, busy: Signal, walk: Walk, lanes: int
) -> tuple[Signal, Signal, Signal, Signal | None]:  # fmt: skip
    """The tap within a lane and its row in the table of all phases, both back at 0 once they are through (one where there is only
    one phase); whether an output ends; and whether it is of a phase with one tap, where there are such."""
    circuit, counts = build.circuit, walk.clocks(lanes)
    count = max(counts)
    index = circuit.new("index", bits_for(count), UNSIGNED)
    row = circuit.new("row", bits_for(sum(counts)), UNSIGNED) if len(counts) > 1 else index
    alone = is_any(build, "is_alone", row, [sum(counts[:phase]) for phase in walk.short])
    ends = equals(index, count - 1) if alone is None else flag_or(equals(index, count - 1), alone)
    for counter, is_through in ((index, ends), (row, equals(row, sum(counts) - 1)))[: len(counts)]:
        none = Number(0, counter.width, UNSIGNED)
        circuit.clocked(counter, circuit.mux(f"next_{counter.name}", is_through, none, plus(counter, 1)), busy, 0)
    return index, row, circuit.wire("is_at_end", flag_and(busy, ends)), alone


def _age_of(build: Builder, stage: TapSum, walk: Walk, lanes: int, row: Signal, age: Signal) -> Signal:
    """The age of the sample that the first lane meets: in a phase of one tap that tap's own."""
    counts = walk.clocks(lanes)
    for phase in walk.short:
        own = walk.phases[phase][0]
        if own:
            here = equals(row, sum(counts[:phase]))
            age = build.circuit.mux(f"age_in_{phase}", here, Number(own, age.width, UNSIGNED), age)
    return age


def _numbered(build: Builder, up: int, count: int, busy: Signal, is_output: Signal, is_last: Signal) -> Signal:
    """The number of the tap that is read, within a lane: ``up`` more each clock, and on to the next phase once an output has ended.
    So the taps lie as whoever writes them numbers them."""
    circuit = build.circuit
    tap = circuit.new("tap", bits_for(up * count), UNSIGNED)
    back = (count - 1) * up - 1
    next_phase = (
        Op("sub", (tap, Number(back, tap.width, UNSIGNED)), tap.width, UNSIGNED) if back > 0 else plus(tap, -back)
    )
    onward = circuit.mux("tap_on", is_output, next_phase, plus(tap, up))
    circuit.clocked(tap, circuit.mux("next_tap", is_last, Number(0, tap.width, UNSIGNED), onward), busy, 0)
    return tap


def _factors(build: Builder, stage: TapSum, walk: Walk, lane: int, lanes: int, row: Signal) -> Signal:
    """The lane's taps of each phase, one phase after another."""
    circuit = build.circuit
    width = stage.coefficient.bits + (not stage.coefficient.signed)
    own: list[int] = []
    for phase, (ages, count) in enumerate(zip(walk.phases, walk.clocks(lanes))):
        taps = stage.coefficients[phase :: stage.up]
        met = [taps[age] if age < len(taps) else 0 for age in ages[lane * count : (lane + 1) * count]]
        own += met + [0] * (count - len(met))
    factor = circuit.new(f"coefficient_{lane}", width)
    words = f"Taps of lane {lane}{', phase by phase' if stage.up > 1 else ''}."
    circuit.memory(Memory(f"coefficients_{lane}", width, tuple(own), row, factor, comment=words))
    return factor
