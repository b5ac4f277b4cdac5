"""Any realization on one multiplier: a small processor with its program in tables and its signals in one memory.

Signals stand in a circular memory whose base moves on by one with every sample: a signal's newest value at base + place,
older ones below it.
"""

from __future__ import annotations

from collections.abc import Callable

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
)
from combe.delivery.hdl.fir_mac import Sequenced
from combe.delivery.hdl.parts import Builder, Stream, Value, inner_width
from combe.delivery.hdl.schedule import (
    BLOCK_BITS,
    MOST_AT_ONCE,
    Depth,
    Kind,
    Line,
    depth_of,
    lines_of,
    places_of,
    plan_of,
    word_of,
)
from combe.realization.formats import Format
from combe.realization.program import Program


class Turn(Struct, frozen=True):
    """When a sample is taken, and whether the program is then gone through; where it is written, from the base that will be and the one
    that is; the steps whose results are given, in their order. ``moves`` tells when the base moves on where that isn't with every turn;
    ``phase`` is the coefficient of what is turned."""

    accept: Signal
    starts: Signal
    place: Callable[[Signal, int, dict[tuple[int, bool], int]], Signal]
    outputs: frozenset[int]
    moves: Signal | None = None
    phase: Signal | None = None


class Made(Struct, frozen=True):
    """Results one after another with the flag that each is one; whether the program is gone through, and is at its last clock; its
    clocks, and that of the first result from its first."""

    done: Signal
    result: Signal
    busy: Signal
    is_last: Signal
    count: int
    first: int


def engine(build: Builder, stream: Stream, program: Program) -> Sequenced:
    """Every sum of the program, product by product."""
    circuit = build.circuit
    busy = circuit.new("busy", 1, BIT)
    accept = circuit.wire("accept", flag_and(stream.valid, flag_not(busy)))

    def first_place(next_base: Signal, bits: int, places: dict[tuple[int, bool], int]) -> Signal:
        at = Number(places[0, False], bits, UNSIGNED)
        return circuit.wire("sample_address", Op("add", (next_base, at), bits, UNSIGNED))

    turn = Turn(accept, accept, first_place, frozenset({program.output}))
    made = gone_through(build, stream.value.signal, program, turn, busy)
    entry = program.format_of(program.output)
    build.latency += made.first
    value = Value(circuit.named(circuit.fit(made.result, inner_width(entry)), "given"), entry.least, entry.most)
    return Sequenced(Stream(made.done, value), flag_not(busy), made.count + 1)


def gone_through(build: Builder, sample: Signal, program: Program, turn: Turn, busy: Signal) -> Made:
    """The processor with its program and its memory."""
    circuit = build.circuit
    places, size_bits = places_of(program)
    plan = plan_of(program)
    kinds = plan.kinds
    word = word_of(program, sample.width)
    depth = depth_of(plan, word, build.pipeline)
    lines = lines_of(program, plan, places, depth, turn.outputs)
    count = len(lines)
    counter_bits = bits_for(count)
    circuit.remark(f"The sequencer: a sample is stored, then {count} lines of the program are gone through.")
    counter = circuit.new("counter", counter_bits, UNSIGNED)
    base = circuit.new("base", size_bits, UNSIGNED)
    longest = max((line.age for line in lines), default=0)
    age_bits = bits_for(longest + 2)
    filled = circuit.new("filled", age_bits, UNSIGNED)
    is_last = circuit.wire("is_last", equals(counter, count - 1))
    next_base = circuit.wire("next_base", _plus(base))
    on = circuit.mux("counter_on", is_last, Number(0, counter_bits, UNSIGNED), _plus(counter))
    circuit.clocked(
        busy, circuit.wire("busy_next", Op("or", (turn.starts, flag_and(busy, flag_not(is_last))), 1, BIT)), None, 0
    )
    circuit.clocked(counter, on, busy, 0)
    moves = turn.moves if turn.moves is not None else turn.starts
    circuit.clocked(base, next_base, moves, 0)
    is_full = circuit.wire("is_full", equals(filled, longest + 1))
    circuit.clocked(filled, circuit.mux("filled_on", is_full, filled, _plus(filled)), moves, 0)
    table = _Tables(build, counter, lines)
    running = build.later(busy, 1)
    circuit.remark("What is read is a value only where as many samples have come since the reset.")
    age = table.unsigned("age", [line.age for line in lines], age_bits)
    known = circuit.register("known", below(age, filled), None, 0)
    place = table.unsigned("place", [line.place for line in lines], size_bits)
    address = circuit.wire("address", Op("add", (base, place), size_bits, UNSIGNED))
    factors = table.signed("factor", [line.factor for line in lines], plan.factor_bits)
    if turn.phase is not None:
        factors = _turned_factors(build, factors, turn.phase, table, lines)
    factor = build.later(factors, 1)
    works = flag_and(running, table.flag("works", [line.works for line in lines]))
    works_later = build.later(circuit.wire("works_now", works), depth.summed - depth.sum)
    ends_now = circuit.wire("ends_now", flag_and(running, table.flag("ends", [line.ends for line in lines])))
    ends = build.later(ends_now, depth.written - 1)
    read = circuit.new("read", word)
    write, write_address, write_data = (circuit.new(n, w, k) for n, w, k in (
        ("write", 1, BIT), ("write_address", size_bits, UNSIGNED), ("write_data", word, "signed")))  # fmt: skip
    circuit.memory(
        Memory("memory", word, (0,) * (1 << size_bits), address, read, write, write_address, write_data,
               comment="Samples, sums and what roundings cut off.")
    )  # fmt: skip
    operand = circuit.mux("operand", known, read, Number(0, word))
    circuit.remark("The one multiplier and its accumulator.")
    product = _product(build, factor, operand, depth)
    width = plan.sum_bits
    if plan.late:
        which = table.unsigned("late", [line.late for line in lines], bits_for(len(plan.late) + 1))
        product = _shifted(build, product, plan.late, build.later(which, 1 + depth.product), width)
        product = build.later(product, depth.late)
    # Cleared by itself on the idle line after a sum, not by the first product: nothing stands before the adder.
    clear = build.later(ends_now, depth.summed - depth.sum + 1)
    accumulator = _accumulated(build, circuit.fit(product, width), works_later, clear, depth)
    result, kind_now = _roundings(build, accumulator, kinds, table, lines, word, depth)
    target = build.later(table.unsigned("target", [line.target for line in lines], size_bits), depth.written - 1)
    rest_flags = [line.rest_target is not None for line in lines]
    chosen: Signal = circuit.wire("result_address", Op("add", (base, target), size_bits, UNSIGNED))
    data = result
    writes: Expression = ends
    if any(rest_flags):
        rest, rest_write, rest_address = _rests(
            build, accumulator, kinds, kind_now, table, lines, base, size_bits, word, ends, depth
        )
        data = circuit.mux("result_or_rest", rest_write, rest, result)
        chosen = circuit.mux("result_or_rest_address", rest_write, rest_address, chosen)
        writes = Op("or", (ends, rest_write), 1, BIT)
    circuit.remark("What is written: a sample as it comes, then sums as they are rounded.")
    arriving = circuit.named(circuit.fit(sample, word), "sample")
    place_of_sample = turn.place(next_base, size_bits, places)
    circuit.drive(write, Op("or", (turn.accept, writes), 1, BIT))
    circuit.drive(write_address, Op("mux", (turn.accept, place_of_sample, chosen), size_bits, UNSIGNED))
    circuit.drive(write_data, Op("mux", (turn.accept, arriving, data), word))
    given = build.later(table.flag("gives", [line.is_output for line in lines]), depth.written - 1)
    done = circuit.wire("done", flag_and(ends, given))
    first = depth.written + next(k for k, line in enumerate(lines) if line.is_output) + 1
    return Made(done, result, busy, is_last, count, first)


def _turned_factors(build: Builder, factors: Signal, phase: Signal, table: _Tables, lines: list[Line]) -> Signal:
    """Factors of the program, and the phase in their place where a line says so, each as far to the left as its sum asks."""
    circuit = build.circuit
    shifts = sorted({line.turned for line in lines if line.turned is not None})
    if not shifts:
        return factors
    circuit.remark("Where the output lies between two samples is a factor like any other.")
    for shift in shifts:
        due = table.flag(f"turns_{shift}", [line.turned == shift for line in lines])
        own = circuit.named(circuit.fit(circuit.left(phase, shift), factors.width), "turned_phase")
        factors = circuit.mux(f"factor_or_phase_{shift}", due, own, factors)
    return factors


def _product(build: Builder, factor: Signal, operand: Signal, depth: Depth) -> Signal:
    """Their product, in a register; of words wider than a multiplier block part by part, with a register after each sum."""
    circuit, width = build.circuit, factor.width + operand.width
    if depth.product == 1:
        return circuit.register("product", Op("mul", (factor, operand), width))
    products = []
    for left in _parts(circuit, factor):
        for right in _parts(circuit, operand):
            made = Op("mul", (left.signal, right.signal), left.signal.width + right.signal.width)
            ends = [a * b for a in (left.low, left.high) for b in (right.low, right.high)]
            kept = circuit.register(f"product_{left.shift}_{right.shift}", made)
            products.append(Value(kept, min(ends), max(ends), left.shift + right.shift))
    before, build.pipeline = build.pipeline, MOST_AT_ONCE // 2 if len(products) <= MOST_AT_ONCE else 1
    total, _ = build.tree("product", products)
    build.pipeline = before
    return circuit.named(circuit.fit(circuit.left(total.signal, total.shift), width), "product")


def _shifted(build: Builder, product: Signal, late: tuple[int, ...], due: Signal, width: int) -> Signal:
    """A product times the power of two that its factor was written without."""
    circuit = build.circuit
    circuit.remark("Zeros at the end of a factor are put back behind the multiplier.")
    found = circuit.named(circuit.fit(product, width), "product_as_it_is")
    for number, shift in enumerate(late, 1):
        moved = circuit.named(circuit.fit(circuit.left(product, shift), width), f"product_left_{shift}")
        found = circuit.mux(f"product_or_left_{shift}", equals(due, number), moved, found)
    return found


def _accumulated(build: Builder, product: Expression, works: Signal, clear: Signal, depth: Depth) -> Signal:
    """The sum of products until it is cleared. A wide one in two halves: what the lower carries, the upper takes a clock later."""
    circuit = build.circuit
    if depth.sum == 1:
        return _running(build, "accumulator", product, None, works, clear)
    half = product.width // 2
    word = circuit.named(product, "product_word")
    low = circuit.named(circuit.fit(word, half), "product_low")
    lower = circuit.new("lower", half)
    plain = [circuit.wire(f"{each.name}_plain", Op("zero_top", (each,), half + 1)) for each in (lower, low)]
    both = circuit.wire("lower_sum", circuit.add(plain[0], plain[1], half + 1))
    kept = circuit.mux("lower_next", clear, Number(0, half), circuit.fit(both, half))
    circuit.clocked(lower, kept, circuit.wire("lower_moves", _or(works, clear)), 0)
    carried = circuit.register("carried", circuit.down(both, half))
    high = build.later(circuit.named(circuit.down(word, half), "product_high"), 1)
    carry = circuit.wire("carry", Op("zero_top", (carried,), 2))
    upper = _running(build, "upper", high, carry, build.later(works, 1), build.later(clear, 1))
    return circuit.wire("accumulator", Op("join", (upper, build.later(lower, 1)), product.width))


def _running(
    build: Builder, name: str, product: Expression, carry: Signal | None, works: Signal, clear: Signal
) -> Signal:  # fmt: skip
    circuit, width = build.circuit, product.width
    made = circuit.new(name, width)
    more = circuit.wire(f"{name}_sum", circuit.add(made, product, width))
    if carry is not None:
        more = circuit.wire(f"{name}_carried", circuit.add(more, carry, width))
    kept = circuit.mux(f"{name}_next", clear, Number(0, width), more)
    circuit.clocked(made, kept, circuit.wire(f"{name}_moves", _or(works, clear)), 0)
    return made


def _or(left: Signal, right: Signal) -> Op:
    return Op("or", (left, right), 1, BIT)


def _parts(circuit: Circuit, word: Signal) -> list[Value]:
    """A word as parts that a multiplier block takes; only the highest has a sign."""
    found: list[Value] = []
    size, rest = BLOCK_BITS - 1, word
    while rest.width > BLOCK_BITS:
        shift = size * len(found)
        low = circuit.named(circuit.fit(rest, size), f"{word.name}_low_{shift}")
        part = circuit.wire(f"{word.name}_part_{shift}", Op("zero_top", (low,), size + 1))
        found.append(Value(part, 0, (1 << size) - 1, shift))
        rest = circuit.named(circuit.down(rest, size), f"{word.name}_above_{shift}")
    reach = 1 << (rest.width - 1)
    return [*found, Value(rest, -reach, reach - 1, size * len(found))]


class _Tables:
    """Columns of the program, each a table of its own read with the same counter."""

    def __init__(self, build: Builder, counter: Signal, lines: list[Line]) -> None:
        self.build, self.counter, self.lines = build, counter, lines

    def unsigned(self, name: str, column: list[int], width: int) -> Signal:
        """Counts and addresses."""
        return self._table(name, column, width, UNSIGNED)

    def signed(self, name: str, column: list[int], width: int) -> Signal:
        """Factors."""
        return self._table(name, column, width, "signed")

    def flag(self, name: str, column: list[bool]) -> Signal:
        """Single bits."""
        word = self._table(f"{name}_bit", [int(value) for value in column], 1, UNSIGNED)
        return self.build.circuit.wire(name, Op("bit", (word,), 1, BIT, 0))

    def _table(self, name: str, column: list[int], width: int, kind: str) -> Signal:
        circuit = self.build.circuit
        made = circuit.new(name, width, kind)
        return circuit.memory(
            Memory(f"program_{name}", width, tuple(column), self.counter, made, comment=f"The program: {name.replace('_bit', '')}.")
        )  # fmt: skip


def _roundings(
    build: Builder, accumulator: Signal, kinds: tuple[Kind, ...], table: _Tables, lines: list[Line], word: int, depth: Depth
) -> tuple[Signal, Signal | None]:  # fmt: skip
    """Every kind of rounding there is, and the one that is due, with which that is; between sum and limits, and after these, a register each."""
    circuit = build.circuit
    results = []
    scaled: dict[tuple[int, int, str], Signal] = {}
    for number, (source, target, rounding, overflow) in enumerate(kinds):
        circuit.remark(f"Rounding {number}: {source} to {target}, {rounding}, {overflow}.")
        # Kinds that differ in their limits alone are rounded once.
        key = inner_width(source), source.fraction - target.fraction, rounding
        if key not in scaled:
            raw = circuit.named(circuit.fit(accumulator, inner_width(source)), f"round{number}_sum")
            scaled[key] = build.scaled(f"round{number}", raw, source, target, rounding, depth.rounding > 0)
        done = build.held(f"round{number}", scaled[key], target, overflow)
        results.append(circuit.named(circuit.fit(done, word), f"round{number}_word"))
    chosen = results[0]
    kinds_now = None
    if len(results) > 1:
        kinds_now = table.unsigned("kind", [line.kind for line in lines], bits_for(len(kinds)))
        kind = build.later(kinds_now, depth.limited)
        for number, each in enumerate(results[1:], 1):
            chosen = circuit.mux(f"due_{number}", equals(kind, number), each, chosen)
    return circuit.register("result", chosen) if depth.rounding > 1 else chosen, kinds_now


def _rests(
    build: Builder, accumulator: Signal, kinds: tuple[Kind, ...], kind_now: Signal | None, table: _Tables, lines: list[Line],
    base: Signal, size_bits: int, word: int, ends: Signal, depth: Depth,
) -> tuple[Signal, Signal, Signal]:  # fmt: skip
    """What roundings cut off, written a clock after the rounded value."""
    circuit = build.circuit
    circuit.remark("What roundings cut off.")
    found: list[Signal] = []
    for number, (source, target, rounding, _) in enumerate(kinds):
        shift = source.fraction - target.fraction
        if shift <= 0:
            found.append(circuit.wire(f"cut{number}", Number(0, word)))
            continue
        raw = circuit.named(circuit.fit(accumulator, inner_width(source)), f"cut{number}_sum")
        wide = Format(True, raw.width + 2, 0)
        width = shift + 2
        by = build.rounded(f"cut{number}_by", raw, Format(True, raw.width, shift), wide, rounding, "wrap")
        # Two bits of it are all that the difference needs, and the low ones of the sum.
        low, least = (
            circuit.named(circuit.fit(raw, width), f"cut{number}_low"),
            circuit.named(circuit.fit(by, 2), f"cut{number}_least"),
        )
        if depth.rounding:
            low, least = build.later(low, 1), build.later(least, 1)
        whole = circuit.fit(circuit.left(least, shift), width)
        cut = circuit.wire(f"cut{number}", circuit.add(low, whole, width, -1))
        found.append(circuit.named(circuit.fit(cut, word), f"cut{number}_word"))
    chosen = found[0]
    if kind_now is not None:
        kind = build.later(kind_now, depth.limited)
        for number, each in enumerate(found[1:], 1):
            chosen = circuit.mux(f"cut_due_{number}", equals(kind, number), each, chosen)
    rest = build.later(circuit.register("rest", chosen), depth.written - depth.limited - 1)
    has = table.flag("cuts", [line.rest_target is not None for line in lines])
    due = circuit.wire("cut_now", flag_and(ends, build.later(has, depth.written - 1)))
    place = build.later(
        table.unsigned("cut_place", [line.rest_target or 0 for line in lines], size_bits), depth.written
    )
    address = circuit.wire("rest_address", Op("add", (base, place), size_bits, UNSIGNED))
    return rest, build.later(due, 1), address


def _plus(value: Signal) -> Op:
    return Op("add", (value, Number(1, value.width, UNSIGNED)), value.width, UNSIGNED)
