"""Stages that change the rate as circuits: one multiplier that goes through the taps of each output's phase, sums in a row,
and taps at full speed of which every so many outputs are kept.

A stage begins an output only when the next has room for it. Taps take samples while they work, up to the one that begins another
output.
"""

from __future__ import annotations

from collections.abc import Sequence

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
from combe.delivery.hdl.fir_mac import Flags, WritePort, banked, lane_coefficients, plus, product_of, summed
from combe.delivery.hdl.handing import ALWAYS, Handed, Link, queued
from combe.delivery.hdl.parts import Builder, Stream, Value
from combe.delivery.hdl.samples import Samples
from combe.delivery.hdl.walks import Walk, age_counter, is_any, walk_of, words_of
from combe.realization.cic import Cic
from combe.realization.formats import Format
from combe.realization.stages import TapSum


def rate_taps(
    build: Builder, stream: Stream, source: Format, stage: TapSum, idle: Signal, link: Link, lanes: int = 1,
    port: WritePort | None = None, handed: Handed | None = None,
) -> tuple[Stream, Signal]:  # fmt: skip
    """So many multipliers, each with its own run of every phase's taps and its own copy of the samples: a sample is stored, then each
    output due goes through the taps of its phase, while samples are taken until one begins another. Also the flag that tells that an
    output is begun. With a port taps are written from outside. Of what is ``handed`` on some may come before it is taken."""
    circuit = build.circuit
    walk = walk_of(stage, port is None)
    depth, count = -(-len(stage.coefficients) // stage.up), walk.longest(lanes)
    index_bits = bits_for(max(depth, lanes * count) + 1)
    circuit.remark(
        f"{len(stage.coefficients)} taps in {stage.up} phases of {depth}: an output takes {words_of(walk, depth, lanes)}."
    )
    busy, due = circuit.new("busy", 1, BIT), circuit.new("due", 1, BIT)
    index = circuit.new("index", index_bits, UNSIGNED)
    if handed is None:
        accept = circuit.wire("accept", flag_and(stream.valid, idle))
    else:
        _, _, accept = queued(build, handed, stream.valid, idle)
    # What is written from outside lies as it is numbered, what isn't phase by phase.
    row_step = count if port is None else 1
    next_row = circuit.new("row_due", bits_for(stage.up * row_step), UNSIGNED) if stage.down % stage.up else None
    row = circuit.new("row", next_row.width, UNSIGNED) if next_row is not None and port is None else None
    ends: Expression = equals(index, count - 1)
    alone = is_any(build, "is_alone", row, [phase * row_step for phase in walk.short]) if row is not None else None
    is_last = circuit.wire("is_last", ends if alone is None else flag_or(ends, alone))
    is_at_end = circuit.wire("is_at_end", flag_and(busy, is_last))
    free = circuit.wire("is_free", flag_or(flag_not(busy), is_last))
    begin = circuit.wire("begin_output", flag_and(due, free, link.free()))
    if row is not None and next_row is not None:
        circuit.clocked(row, next_row, begin, 0)
    leaves, wanted = _schedule(circuit, stage, row_step, next_row, accept, begin)
    # A sample is taken at the clock at which the last output of the one before begins.
    circuit.drive(idle, flag_or(flag_not(due), leaves))
    circuit.clocked(due, flag_or(flag_and(accept, wanted), flag_and(due, flag_not(leaves))), None, 0)
    circuit.clocked(busy, flag_or(begin, flag_and(busy, flag_not(is_last))), None, 0)
    ahead = circuit.mux("next_index", busy, plus(index, 1), index)
    circuit.clocked(index, circuit.mux("first_index", begin, Number(0, index_bits, UNSIGNED), ahead), None, 0)
    # What comes in while an output is worked out must not take the place of what it still reads.
    room = depth + min(count, -(-stage.down // stage.up)) + (0 if handed is None else handed.most)
    arriving = accept if handed is None else stream.valid
    memory = Samples.of(build, stream.value.signal, accept, begin, room, max(depth, lanes * count), arriving)
    first = circuit.wire("is_first", flag_and(busy, equals(index, 0)))
    port = banked(build, port, free if port is None else _boundary(circuit, port, free, due, leaves))
    tap = None if port is None else _numbered(circuit, stage.up, count, begin, next_row)
    products = []
    for lane in range(lanes):
        age = index
        if walk.period:
            places = lane * count, count
            age = age_counter(build, f"age_{lane}", walk, places, index, is_last, busy, index_bits)
        elif lane:
            age = circuit.wire(f"age_{lane}", plus(index, lane * count))
        if alone is not None and row is not None and not lane:
            age = _age_of(build, walk, row, row_step, index)
        sample = memory.read(build, lane, age)
        if tap is None or port is None:
            factor = _table(circuit, stage, walk, lane, lanes, index, row)
        else:
            turns = stage.up * count
            own = list(stage.coefficients[lane * turns : (lane + 1) * turns])
            factor = lane_coefficients(build, lane, own + [0] * (turns - len(own)), stage, tap, tap.width, turns, port)
        product = circuit.register(f"product_{lane}", Op("mul", (factor, sample), factor.width + sample.width))
        products.append(product_of(stage, source, product))
    out = summed(build, stage, products, Flags(busy, first, is_at_end), walk.clocks(lanes)[0])
    # A clock more than what is counted there: to begin.
    build.latency += 1
    return out, begin


def _boundary(circuit: Circuit, port: WritePort, free: Signal, due: Signal, leaves: Signal) -> Expression:
    """Whether banks may change places: where no output is under way, and what was due when that was asked for has begun."""
    if port.swap is None:
        return free
    early = circuit.new("due_before_swap", 1, BIT)
    waits = circuit.wire("swap_comes_later", flag_and(flag_or(port.swap, early), due))
    circuit.clocked(early, flag_and(waits, flag_not(leaves)), None, 0)
    return flag_and(free, flag_not(waits))


def _age_of(build: Builder, walk: Walk, row: Signal, depth: int, index: Signal) -> Signal:
    """The age of the sample that is met: the index, but in a phase of one tap that tap's own."""
    circuit, age = build.circuit, index
    for phase in walk.short:
        own = walk.phases[phase][0]
        if own:
            own_age = Number(own, index.width, UNSIGNED)
            age = circuit.mux(f"age_in_{phase}", equals(row, phase * depth), own_age, age)
    return age


def _numbered(circuit: Circuit, up: int, count: int, begin: Signal, phase: Signal | None) -> Signal:
    """The number, within a lane, of the tap that is read: the output's phase, and ``up`` more each clock."""
    tap = circuit.new("tap", bits_for(up * count), UNSIGNED)
    first: Expression = Number(0, tap.width, UNSIGNED) if phase is None else circuit.fit(phase, tap.width)
    circuit.clocked(tap, circuit.mux("next_tap", begin, first, plus(tap, up)), None, 0)
    return tap


def _schedule(
    circuit: Circuit, stage: TapSum, depth: int, row: Signal | None, accept: Signal, begin: Signal
) -> tuple[Signal, Expression]:  # fmt: skip
    """When outputs are due: whether the one that begins is the last before another sample, and whether one is due at the sample that
    comes in. ``row`` is where the taps of the next one's phase stand in the table, ``depth`` places after those of the one before."""
    whole, part = stage.down // stage.up, stage.down % stage.up
    wraps: Signal | None = None
    if row is not None:
        row_bits = row.width
        limit = (stage.up - part) * depth
        wraps = circuit.wire("wraps", flag_not(below(row, Number(limit, row_bits, UNSIGNED))))
        moved = circuit.mux(
            "next_row",
            wraps,
            Op("sub", (row, Number(limit, row_bits, UNSIGNED)), row_bits, UNSIGNED),
            plus(row, part * depth),
        )
        circuit.clocked(row, moved, begin, 0)
    if whole == 0:
        # Outputs come more often than samples: none is waited for longer than the next.
        assert wraps is not None
        return circuit.wire("leaves", flag_and(begin, wraps)), ALWAYS
    bits = bits_for(whole + 1)
    wait = circuit.new("to_wait", bits, UNSIGNED)
    after: Expression = Number(whole - 1, bits, UNSIGNED)
    if wraps is not None:
        after = circuit.mux("next_wait", wraps, Number(whole, bits, UNSIGNED), after)
    now = circuit.mux("wait_now", begin, after, wait)
    is_due = circuit.wire("is_due", equals(now, 0))
    down = circuit.mux("wait_on", is_due, now, Op("sub", (now, Number(1, bits, UNSIGNED)), bits, UNSIGNED))
    circuit.clocked(wait, circuit.mux("wait_next", accept, down, now), None, 0)
    return begin, is_due


def _table(
    circuit: Circuit, stage: TapSum, walk: Walk, lane: int, lanes: int, index: Signal, row: Signal | None
) -> Signal:
    """A lane's taps of all phases, one after another, as they are gone through; of the first alone where outputs meet no other (their
    number divides what is dropped)."""
    width, count = stage.coefficient.bits + (not stage.coefficient.signed), walk.longest(lanes)
    rows: list[int] = []
    for phase, ages in enumerate(walk.phases if row is not None else walk.phases[:1]):
        own = stage.coefficients[phase :: stage.up]
        met = [own[age] if age < len(own) else 0 for age in ages[lane * count : (lane + 1) * count]]
        rows += met + [0] * (count - len(met))
    factor = circuit.new(f"coefficient_{lane}", width)
    if row is None:
        address: Expression = circuit.fit(index, bits_for(len(rows)))
    else:
        address = Op("add", (row, circuit.fit(index, row.width)), row.width, UNSIGNED)
    words = "Taps, phase by phase." if lanes == 1 else f"Taps of lane {lane}, phase by phase."
    place = circuit.named(address, f"tap_place_{lane}")
    circuit.memory(Memory(f"coefficients_{lane}", width, tuple(rows), place, factor, comment=words))
    return factor


def rate_sums(
    build: Builder, stream: Stream, source: Format, stage: Cic, idle: Signal, link: Link
) -> tuple[Stream, Signal]:  # fmt: skip
    """Integrators and combs, one clock each, each counting modulo 2^bits of its own. Also the flag that tells that an output is
    begun."""
    circuit = build.circuit
    widths = stage.register_bits(source)
    first, second = widths[: stage.order], widths[stage.order :]
    value: Expression = stream.value.signal
    count_bits = bits_for(stage.factor)
    count = circuit.new("count", count_bits, UNSIGNED)
    is_end = circuit.wire("is_end", equals(count, stage.factor - 1))
    onward = circuit.mux("next_count", is_end, Number(0, count_bits, UNSIGNED), plus(count, 1))
    if stage.down > 1:
        circuit.remark(f"{stage.order} integrators, every {stage.factor}th value through {stage.order} combs.")
        is_first = circuit.wire("is_kept", equals(count, 0))
        free = link.free()
        circuit.drive(idle, free if free == ALWAYS else flag_or(flag_not(is_first), free))
        accept = circuit.wire("accept", flag_and(stream.valid, idle))
        circuit.clocked(count, onward, accept, 0)
        launched = circuit.wire("begin_output", flag_and(accept, is_first))
        total, valid = _integrators(build, value, accept, first, stage.shifts[: stage.order])
        kept = build.later(launched, stage.order)
        out, valid = _combs(build, stage.delay, total, kept, second, stage.shifts[stage.order :])
        if stage.discarded:
            out = circuit.wire("whole", circuit.left(out, stage.discarded[-1]))
        return Stream(valid, _limits(stage, source, out)), launched
    circuit.remark(
        f"{stage.order} combs, then {stage.order} integrators that take each value once and {stage.factor - 1} zeros."
    )
    waiting = circuit.new("waiting", 1, BIT)
    circuit.drive(idle, flag_not(waiting))
    accept = circuit.wire("accept", flag_and(stream.valid, idle))
    out, arrived = _combs(build, stage.delay, value, accept, first, (0,) * stage.order)
    # A value stays where the last comb leaves it until the one before has been taken as often as it is to be.
    full, running = circuit.new("full", 1, BIT), circuit.new("running", 1, BIT)
    begin = circuit.wire("begin_output", flag_and(running, link.free()))
    ends = circuit.wire("ends", flag_and(begin, is_end))
    is_there = circuit.wire("is_there", flag_or(arrived, full))
    moves = circuit.wire("moves_on", flag_and(is_there, flag_or(flag_not(running), ends)))
    held = circuit.register("held", out, moves)
    circuit.clocked(full, flag_and(is_there, flag_not(moves)), None, 0)
    circuit.clocked(running, flag_or(moves, flag_and(running, flag_not(ends))), None, 0)
    circuit.clocked(waiting, flag_or(accept, flag_and(waiting, flag_not(moves))), None, 0)
    circuit.clocked(count, onward, begin, 0)
    stuffed = circuit.mux("stuffed", circuit.wire("is_value", equals(count, 0)), held, Number(0, held.width))
    build.latency += 1
    total, valid = _integrators(build, stuffed, begin, second, (0,) * stage.order)
    return Stream(valid, _limits(stage, source, total)), begin


def _integrators(
    build: Builder, value: Expression, valid: Signal, widths: Sequence[int], shifts: Sequence[int]
) -> tuple[Signal, Signal]:  # fmt: skip
    """Each as wide as its own width, what arrives cut by its own shift."""
    circuit = build.circuit
    for order, (width, shift) in enumerate(zip(widths, shifts)):
        arriving = circuit.named(circuit.fit(circuit.down(value, shift), width), "arriving")
        total = circuit.new("total", width)
        circuit.clocked(total, Op("add", (total, arriving), width), build.later(valid, order), 0)
        value = total
    build.latency += len(widths)
    return total, build.later(valid, len(widths))


def _combs(
    build: Builder, delay: int, value: Expression, valid: Signal, widths: Sequence[int], shifts: Sequence[int]
) -> tuple[Signal, Signal]:  # fmt: skip
    """Each less what arrived ``delay`` values before."""
    circuit = build.circuit
    for order, (width, shift) in enumerate(zip(widths, shifts)):
        own = build.later(valid, order)
        now = circuit.named(circuit.fit(circuit.down(value, shift), width), "arriving")
        past = now
        for _ in range(delay):
            past = circuit.register("past", past, own, 0)
        comb = circuit.register("comb", Op("sub", (now, past), width), own)
        value = comb
    build.latency += len(widths)
    return comb, build.later(valid, len(widths))


def _limits(stage: Cic, source: Format, signal: Signal) -> Value:
    least, most = stage.span(source)
    return Value(signal, min(least, 0), max(most, 0))


def kept_only(build: Builder, stream: Stream, stage: TapSum) -> Stream:
    """Of taps at full speed every ``down``-th output, the first one included."""
    circuit = build.circuit
    count_bits = bits_for(stage.down)
    circuit.remark(f"Of these every {stage.down}th is an output.")
    count = circuit.new("count", count_bits, UNSIGNED)
    is_end = circuit.wire("is_end", equals(count, stage.down - 1))
    onward = circuit.mux("next_count", is_end, Number(0, count_bits, UNSIGNED), plus(count, 1))
    circuit.clocked(count, onward, stream.valid, 0)
    return Stream(circuit.wire("is_kept", flag_and(stream.valid, equals(count, 0))), stream.value)
