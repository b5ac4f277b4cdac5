"""A network that changes the rate on one multiplier: the small processor goes through it once for each sample at the lower rate, or,
where it has a phase, once for each output.

Going down, samples between two turns wait in its memory, each a signal of its own. Going up, the phases' results wait in registers
and leave one after another.
"""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.circuit import (
    BIT,
    UNSIGNED,
    Expression,
    Number,
    Op,
    Signal,
    bit_of,
    bits_for,
    equals,
    flag_and,
    flag_not,
    flag_or,
)
from combe.delivery.hdl.engine import Turn, gone_through
from combe.delivery.hdl.fir_mac import plus
from combe.delivery.hdl.handing import Link
from combe.delivery.hdl.parts import Builder, Stream, Value, inner_width
from combe.delivery.hdl.schedule import depth_of, lines_of, places_of, plan_of, word_of
from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.network import Network, at_lower_rate
from combe.realization.phases import WHOLE_BITS, step_of, steps_between
from combe.realization.program import Program, RawTerm, Step, stages_program
from combe.realization.term import Term
from combe.values import replace

WHOLE_PORT = 8
"""Bits of the port that sets whole samples from output to output, at least."""
MOST_FACTOR = 16
"""Samples that are told apart between two turns, or results that wait."""


def turn_program(stage: Network, source: Format) -> tuple[Program, tuple[int, ...]]:
    """The steps of a turn and the signals that are given, in order. Signal −i is the sample that came i before the newest; exact sums
    that one other takes are taken into it.

    Raises
    ------
    FormatError
        Where the factor is too large.
    """
    if stage.phase is not None:
        return _phased_program(stage, source)
    factor = max(stage.up, stage.down)
    if factor > MOST_FACTOR:
        what = f"a network that changes the rate by {factor} is written in C, C++ and Rust alone"
        raise FormatError(what, "stages", f"circuits take factors to {MOST_FACTOR}")
    lower, names = at_lower_rate(stage)
    plain = stages_program((lower,), source)
    steps = [replace(step, terms=tuple(_of_turns(term, stage.down) for term in step.terms)) for step in plain.steps]
    numbers = {node.name: index + 1 for index, node in enumerate(lower.nodes)}
    return _inlined(steps, [numbers[name] for name in names], source)


def _phased_program(stage: Network, source: Format) -> tuple[Program, tuple[int, ...]]:
    """The steps of an output, what the phase multiplies marked."""
    assert stage.phase is not None
    plain = stages_program((stage.at_phase(1),), source)
    steps = []
    for node, step in zip(stage.nodes, plain.steps):
        named = [term for term in node.terms if term.coefficient]
        terms = tuple(
            replace(raw, is_turned=True, format=stage.phase) if own.is_turned else raw
            for own, raw in zip(named, step.terms)
        )
        steps.append(replace(step, terms=terms))
    number = 1 + next(index for index, node in enumerate(stage.nodes) if node.name == stage.output)
    return _inlined(steps, [number], source)


def _of_turns(term: RawTerm, down: int) -> RawTerm:
    """A delay of the input in samples as one of the signals that a turn brings."""
    if term.signal or down == 1:
        return term
    return replace(term, signal=-(term.delay % down), delay=term.delay // down)


def _inlined(steps: list[Step], outputs: list[int], source: Format) -> tuple[Program, tuple[int, ...]]:
    """Without steps that hand on their whole sum and whose rests nobody takes, but for outputs."""
    # Rests, and what a phase multiplies, are of one step and no other.
    rests = {term.signal for step in steps for term in step.terms if term.is_rest or term.is_turned}
    rests |= {index for index, step in enumerate(steps, 1) if any(term.is_turned for term in step.terms)}
    gone: dict[int, tuple[RawTerm, ...]] = {}
    numbers: dict[int, int] = {}
    kept: list[Step] = []
    for index, step in enumerate(steps, 1):
        own = _replaced(step.terms, gone)
        is_exact = step.accumulator == step.result and index not in rests and index not in outputs
        # What it takes from later steps, of the turn before, is known by their numbers only then.
        if is_exact and all(term.signal < index or term.signal not in gone for term in own):
            gone[index] = own
        else:
            numbers[index] = len(kept) + 1
            kept.append(replace(step, terms=own))
    found = [
        replace(step, terms=tuple(replace(term, signal=numbers.get(term.signal, term.signal)) for term in _replaced(step.terms, gone)))
        for step in kept
    ]  # fmt: skip
    given = tuple(numbers[each] for each in outputs)
    return Program(source, tuple(found), given[0]), given


def _replaced(terms: tuple[RawTerm, ...], gone: dict[int, tuple[RawTerm, ...]]) -> tuple[RawTerm, ...]:
    """Terms of steps that are gone as those of what they summed, equal ones together."""
    sums: dict[tuple[int, int, bool], int] = {}
    turned = tuple(term for term in terms if term.is_turned)
    for term in terms:
        if term.is_turned:
            continue
        parts = gone.get(term.signal, ()) if not term.is_rest else ()
        if term.signal in gone and not term.is_rest:
            for part in parts:
                key = part.signal, part.delay + term.delay, part.is_rest
                sums[key] = sums.get(key, 0) + part.coefficient * term.coefficient
        else:
            key = term.signal, term.delay, term.is_rest
            sums[key] = sums.get(key, 0) + term.coefficient
    return (
        *(Term(signal, delay, value, is_rest=is_rest) for (signal, delay, is_rest), value in sums.items() if value), *turned
    )  # fmt: skip


def turn_clocks(stage: Network, source: Format, width: int, pipeline: int) -> int:
    """Clocks from the sample that begins a turn to the first result that may leave."""
    program, given = turn_program(stage, source)
    plan = plan_of(program)
    depth = depth_of(plan, word_of(program, width), pipeline)
    return len(lines_of(program, plan, places_of(program)[0], depth, frozenset(given))) + 1


def rate_network(
    build: Builder, stream: Stream, source: Format, stage: Network, idle: Signal, link: Link
) -> tuple[Stream, Signal]:  # fmt: skip
    """The stage; also the flag that tells that an output is begun, ``turn_clocks`` after the sample of its turn at the earliest."""
    if stage.phase is not None:
        return phased_network(build, stream, source, stage, idle, link)
    circuit = build.circuit
    program, given = turn_program(stage, source)
    lines = f"once for every {stage.down} samples" if stage.down > 1 else f"{stage.up} outputs each time"
    circuit.remark(f"{stage.form}: {lines}.")
    busy, waiting = circuit.new("busy", 1, BIT), circuit.new("waiting", 1, BIT)
    circuit.drive(idle, flag_not(waiting))
    accept = circuit.wire("accept", flag_and(stream.valid, idle))
    starts = accept
    before: Signal | None = None
    if stage.down > 1:
        bits = bits_for(stage.down)
        before = circuit.new("samples_before", bits, UNSIGNED)
        is_end = circuit.wire("is_end", equals(before, stage.down - 1))
        onward = circuit.mux("next_before", is_end, Number(0, bits, UNSIGNED), plus(before, 1))
        circuit.clocked(before, onward, accept, 0)
        starts = circuit.wire("starts", flag_and(accept, equals(before, 0)))

    def place_of(next_base: Signal, bits: int, places: dict[tuple[int, bool], int]) -> Signal:
        # A sample that nothing takes is written where the next turn's first will lie.
        first = places[0, False]
        at = circuit.wire("sample_place", Number(first, bits, UNSIGNED))
        for age in range(1, stage.down):
            own = Number(places.get((-age, False), first), bits, UNSIGNED)
            assert before is not None
            at = circuit.mux(f"sample_place_{age}", equals(before, stage.down - age), own, at)
        return circuit.wire("sample_address", Op("add", (next_base, at), bits, UNSIGNED))

    made = gone_through(build, stream.value.signal, program, Turn(accept, starts, place_of, frozenset(given)), busy)
    entry = program.format_of(given[0])
    word = circuit.named(circuit.fit(made.result, inner_width(entry)), "given")
    circuit.remark("Results wait until the next stage has room.")
    running, begin = circuit.new("running", 1, BIT), circuit.new("begin_output", 1, BIT)
    circuit.drive(begin, flag_and(running, link.free()))
    held = [circuit.new(f"held_{k}", word.width) for k in range(len(given))]
    for own, after in zip(held, [*held[1:], word]):
        circuit.clocked(own, after, made.done if own is held[-1] else flag_or(made.done, begin), 0)
    ends = begin
    if len(given) > 1:
        bits = bits_for(len(given))
        count = circuit.new("count", bits, UNSIGNED)
        at_end = circuit.wire("is_last_phase", equals(count, len(given) - 1))
        circuit.clocked(count, circuit.mux("next_count", at_end, Number(0, bits, UNSIGNED), plus(count, 1)), begin, 0)
        ends = circuit.wire("ends", flag_and(begin, at_end))
    finished = circuit.wire("finished", flag_and(busy, made.is_last))
    circuit.clocked(running, flag_or(finished, flag_and(running, flag_not(ends))), None, 0)
    circuit.clocked(waiting, flag_or(starts, flag_and(waiting, flag_not(ends))), None, 0)
    build.latency += made.count + 2
    leaving = circuit.register("leaving", held[0])
    return Stream(build.later(begin, 1), Value(leaving, entry.least, entry.most)), begin


def phased_network(
    build: Builder, stream: Stream, source: Format, stage: Network, idle: Signal, link: Link
) -> tuple[Stream, Signal]:  # fmt: skip
    """A stage that is computed once for each output, where that lies between two samples: a counter says whether the next is due at the
    sample that is there already."""
    circuit = build.circuit
    program, given = turn_program(stage, source)
    circuit.remark(f"{stage.form}: once for each output, {stage.up} for {stage.down} samples.")
    busy, waiting = circuit.new("busy", 1, BIT), circuit.new("waiting", 1, BIT)
    running, begin = circuit.new("running", 1, BIT), circuit.new("begin_output", 1, BIT)
    circuit.drive(idle, flag_not(waiting))
    accept = circuit.wire("accept", flag_and(stream.valid, idle))
    again, is_due, phase = _counted(build, stage, accept, begin)
    starts = circuit.wire("starts", flag_or(flag_and(accept, is_due), again))

    def place_of(next_base: Signal, bits: int, places: dict[tuple[int, bool], int]) -> Signal:
        return circuit.wire(
            "sample_address", Op("add", (next_base, Number(places[0, False], bits, UNSIGNED)), bits, UNSIGNED)
        )

    turn = Turn(accept, starts, place_of, frozenset(given), accept, phase)
    made = gone_through(build, stream.value.signal, program, turn, busy)
    entry = program.format_of(given[0])
    word = circuit.named(circuit.fit(made.result, inner_width(entry)), "given")
    circuit.remark("The result waits until the next stage has room.")
    circuit.drive(begin, flag_and(running, link.free()))
    held = circuit.register("held", word, made.done)
    finished = circuit.wire("finished", flag_and(busy, made.is_last))
    circuit.clocked(running, flag_or(finished, flag_and(running, flag_not(begin))), None, 0)
    circuit.clocked(waiting, flag_or(starts, flag_and(waiting, flag_not(begin))), None, 0)
    build.latency += made.count + 2
    leaving = circuit.register("leaving", held)
    return Stream(build.later(begin, 1), Value(leaving, entry.least, entry.most)), begin


class _Steps(Struct, frozen=True):
    """From output to output: whole samples, and one less, whether there are none, and parts of a sample; parts there are in one, and what is
    added to a place."""

    whole: Expression
    less: Expression
    is_within: Expression
    part: Expression
    parts: Expression
    half: Expression


def _steps(build: Builder, stage: Network, width: int) -> _Steps:
    """As designed; or in registers that a port sets, from 2^31 parts to a sample on."""
    circuit, step = build.circuit, step_of(stage.up)
    whole, part = steps_between(stage.up, stage.down)
    if not build.sets_ratio:
        bits = bits_for(whole + 2)
        one_less = Number(max(whole - 1, 0), bits, UNSIGNED)
        is_within = Number(int(whole == 0), 1, BIT)
        between, parts, half = (Number(value, width) for value in (part, step * stage.up, step // 2))
        return _Steps(Number(whole, bits, UNSIGNED), one_less, is_within, between, parts, half)
    write = circuit.port("step_write", 1, True, BIT)
    bits = max(WHOLE_PORT, bits_for(whole + 2))
    new_whole, new_part = circuit.port("step_whole", bits, True, UNSIGNED), circuit.port("step_part", WHOLE_BITS, True)
    circuit.remark("The ratio: as designed after a reset, then as it is set.")
    plain = circuit.wire("step_part_plain", Op("zero_top", (new_part,), WHOLE_BITS + 1))
    kept = circuit.new("whole_samples", bits, UNSIGNED)
    circuit.clocked(kept, new_whole, write, whole)
    registers = []
    for name, value, first in (
        ("parts_between", circuit.fit(plain, width), part), ("parts_of_a_sample", Number(1 << WHOLE_BITS, width), step * stage.up),
        ("half_a_part", Number(0, width), step // 2),
    ):  # fmt: skip
        made = circuit.new(name, width)
        circuit.clocked(made, value, write, first)
        registers.append(made)
    none = circuit.wire("is_within", equals(kept, 0))
    less = circuit.mux("whole_less", none, Number(0, bits, UNSIGNED), plus(kept, -1))
    return _Steps(kept, less, none, registers[0], registers[1], registers[2])


def _counted(build: Builder, stage: Network, accept: Signal, begin: Signal) -> tuple[Signal, Signal, Signal]:
    """Whether the output after the one that begins needs no further sample; whether the sample that comes is the one the next output
    needs; and the phase of the output that is due."""
    circuit = build.circuit
    assert stage.phase is not None
    width = WHOLE_BITS + 2
    steps = _steps(build, stage, width)
    circuit.remark("Where the next output lies behind the newest sample, and samples until then.")
    place = circuit.new("place", width)
    moved = circuit.wire("place_moved", circuit.add(place, steps.part, width))
    over = circuit.wire("place_over", circuit.add(moved, steps.parts, width, -1))
    is_over = circuit.wire("is_over", flag_not(bit_of(over, width - 1)))
    circuit.clocked(place, circuit.mux("place_next", is_over, over, moved), begin, 0)
    bits = steps.whole.width
    wait = circuit.new("samples_to_wait", bits, UNSIGNED)
    is_due = circuit.wire("is_due", equals(wait, 0))
    after = circuit.mux("wait_after", is_over, steps.whole, steps.less)
    again: Signal = circuit.wire("again", flag_and(begin, flag_not(is_over), steps.is_within))
    counted = circuit.mux("wait_counted", is_due, Number(0, bits, UNSIGNED), plus(wait, -1))
    circuit.clocked(
        wait, circuit.mux("wait_next", begin, after, counted), circuit.wire("wait_moves", flag_or(begin, accept)), 0
    )
    shift = WHOLE_BITS - 1 - stage.phase.fraction
    middle = circuit.wire("place_middle", circuit.add(place, steps.half, width))
    high = circuit.wire("phase_above", circuit.fit(circuit.down(middle, shift), stage.phase.bits + 1))
    centered = circuit.wire(
        "phase_centered",
        circuit.add(high, Number(1 << stage.phase.fraction, stage.phase.bits + 1), stage.phase.bits + 1, -1),
    )
    return again, is_due, circuit.register("phase", circuit.fit(centered, stage.phase.bits))
