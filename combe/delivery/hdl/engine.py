"""Any realization on one multiplier: a small processor with its program in tables and its signals in one memory.

Signals stand in a circular memory whose base moves on by one with every sample: a signal's newest value at base + place,
older ones below it.
"""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.circuit import (
    BIT,
    UNSIGNED,
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
from combe.realization.formats import Format
from combe.realization.program import Program, Step

WAIT = 3
"""Lines between a sum's last product and the first that may use its rounded value; one more before another sample."""


class _Line(Struct, frozen=True):
    """One line of the program."""

    place: int = 0
    age: int = 0
    factor: int = 0
    starts: bool = False
    ends: bool = False
    works: bool = False
    kind: int = 0
    target: int = 0
    is_output: bool = False
    rest_target: int | None = None


def engine(build: Builder, stream: Stream, program: Program) -> Sequenced:
    """Every sum of the program, product by product."""
    places, size_bits = _places(program)
    kinds = list(dict.fromkeys(_rounding_of(step) for step in program.steps))
    lines = _lines(program, places, kinds)
    circuit = build.circuit
    count = len(lines)
    counter_bits = bits_for(count)
    circuit.remark(f"The sequencer: a sample is stored, then {count} lines of the program are gone through.")
    busy = circuit.new("busy", 1, BIT)
    counter = circuit.new("counter", counter_bits, UNSIGNED)
    base = circuit.new("base", size_bits, UNSIGNED)
    longest = max((line.age for line in lines), default=0)
    age_bits = bits_for(longest + 2)
    filled = circuit.new("filled", age_bits, UNSIGNED)
    accept = circuit.wire("accept", flag_and(stream.valid, flag_not(busy)))
    is_last = circuit.wire("is_last", equals(counter, count - 1))
    next_base = circuit.wire("next_base", _plus(base))
    on = circuit.mux("counter_on", is_last, Number(0, counter_bits, UNSIGNED), _plus(counter))
    circuit.clocked(
        busy, circuit.wire("busy_next", Op("or", (accept, flag_and(busy, flag_not(is_last))), 1, BIT)), None, 0
    )
    circuit.clocked(counter, on, busy, 0)
    circuit.clocked(base, next_base, accept, 0)
    is_full = circuit.wire("is_full", equals(filled, longest + 1))
    circuit.clocked(filled, circuit.mux("filled_on", is_full, filled, _plus(filled)), accept, 0)
    table = _Tables(build, counter, lines)
    running = build.later(busy, 1)
    circuit.remark("What is read is a value only where as many samples have come since the reset.")
    age = table.unsigned("age", [line.age for line in lines], age_bits)
    known = circuit.register("known", below(age, filled), None, 0)
    place = table.unsigned("place", [line.place for line in lines], size_bits)
    address = circuit.wire("address", Op("add", (base, place), size_bits, UNSIGNED))
    factor_width = max(_width(line.factor) for line in lines)
    factor = build.later(table.signed("factor", [line.factor for line in lines], factor_width), 1)
    works = flag_and(running, table.flag("works", [line.works for line in lines]))
    works_later = build.later(circuit.wire("works_now", works), 2)
    starts = build.later(table.flag("starts", [line.starts for line in lines]), 2)
    ends = build.later(
        circuit.wire("ends_now", flag_and(running, table.flag("ends", [line.ends for line in lines]))), 3
    )
    word = max([stream.value.signal.width, *(_word_width(step, program) for step in program.steps)])
    read = circuit.new("read", word)
    write, write_address, write_data = (circuit.new(n, w, k) for n, w, k in (
        ("write", 1, BIT), ("write_address", size_bits, UNSIGNED), ("write_data", word, "signed")))  # fmt: skip
    circuit.memory(
        Memory("memory", word, (0,) * (1 << size_bits), address, read, write, write_address, write_data,
               comment="Samples, sums and what roundings cut off.")
    )  # fmt: skip
    operand = circuit.mux("operand", known, read, Number(0, word))
    circuit.remark("The one multiplier and its accumulator.")
    product = circuit.register("product", Op("mul", (factor, operand), factor_width + word))
    width = max(inner_width(step.accumulator) for step in program.steps)
    accumulator = circuit.new("accumulator", width)
    kept = circuit.mux("kept", starts, Number(0, width), accumulator)
    circuit.clocked(accumulator, circuit.add(kept, circuit.fit(product, width), width), works_later)
    result = _roundings(build, accumulator, kinds, table, lines, word)
    target = build.later(table.unsigned("target", [line.target for line in lines], size_bits), 3)
    rest_flags = [line.rest_target is not None for line in lines]
    chosen: Signal = circuit.wire("result_address", Op("add", (base, target), size_bits, UNSIGNED))
    data = result
    writes: Expression = ends
    if any(rest_flags):
        rest, rest_write, rest_address = _rests(build, accumulator, kinds, table, lines, base, size_bits, word, ends)
        data = circuit.mux("result_or_rest", rest_write, rest, result)
        chosen = circuit.mux("result_or_rest_address", rest_write, rest_address, chosen)
        writes = Op("or", (ends, rest_write), 1, BIT)
    circuit.remark("What is written: a sample as it comes, then sums as they are rounded.")
    arriving = circuit.named(circuit.fit(stream.value.signal, word), "sample")
    first_place = circuit.wire(
        "sample_address", Op("add", (next_base, Number(places[0, False], size_bits, UNSIGNED)), size_bits, UNSIGNED)
    )
    circuit.drive(write, Op("or", (accept, writes), 1, BIT))
    circuit.drive(write_address, Op("mux", (accept, first_place, chosen), size_bits, UNSIGNED))
    circuit.drive(write_data, Op("mux", (accept, arriving, data), word))
    given = build.later(table.flag("gives", [line.is_output for line in lines]), 3)
    entry = program.format_of(program.output)
    done = circuit.wire("done", flag_and(ends, given))
    build.latency += 4 + next(k for k, line in enumerate(lines) if line.is_output) + 1
    value = Value(circuit.named(circuit.fit(result, inner_width(entry)), "given"), entry.least, entry.most)
    return Sequenced(Stream(done, value), flag_not(busy), count + 1)


def _places(program: Program) -> tuple[dict[tuple[int, bool], int], int]:
    """Where the newest value of each signal stands, and the bits of an address."""
    depth: dict[tuple[int, bool], int] = {(0, False): 0}
    for index in range(len(program.steps)):
        depth[index + 1, False] = 0
    for step in program.steps:
        for product in step.terms:
            key = product.signal, product.is_rest
            depth[key] = max(depth.get(key, 0), product.delay)
    places, used = {}, 0
    for key, deepest in depth.items():
        places[key] = used + deepest
        used += deepest + 1
    return places, bits_for(used)


def _rounding_of(step: Step) -> tuple[Format, Format, str, str]:
    return step.accumulator, step.result, step.rounding, step.overflow


def _word_width(step: Step, program: Program) -> int:
    index = program.steps.index(step) + 1
    has_rest = any(p.is_rest and p.signal == index for each in program.steps for p in each.terms)
    return max(inner_width(step.result), step.shift + 2 if has_rest else 1)


def _lines(
    program: Program, places: dict[tuple[int, bool], int], kinds: list[tuple[Format, Format, str, str]]
) -> list[_Line]:  # fmt: skip
    lines: list[_Line] = []
    for index, step in enumerate(program.steps):
        products = list(step.terms)
        has_rest = (index + 1, True) in places
        for k in range(max(len(products), 1)):
            is_end = k == max(len(products), 1) - 1
            product = products[k] if products else None
            factor = product.coefficient if product else 0
            key = (product.signal, product.is_rest) if product else (0, False)
            delay = product.delay if product else 0
            lines.append(
                _Line(places[key] - delay, delay, factor, k == 0, is_end, True, kinds.index(_rounding_of(step)),
                      places[index + 1, False], is_end and index + 1 == program.output,
                      places[index + 1, True] if has_rest and is_end else None)
            )  # fmt: skip
        following = program.steps[index + 1].terms if index + 1 < len(program.steps) else ()
        needs = any(p.signal == index + 1 and p.delay == 0 for p in following)
        later = any(p.signal == index + 1 and p.delay == 0 for each in program.steps[index + 2 :] for p in each.terms)
        if needs or later or has_rest or index + 1 == len(program.steps):
            lines += [_Line()] * (WAIT + has_rest + (index + 1 == len(program.steps)))
    return lines


class _Tables:
    """Columns of the program, each a table of its own read with the same counter."""

    def __init__(self, build: Builder, counter: Signal, lines: list[_Line]) -> None:
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
    build: Builder, accumulator: Signal, kinds: list[tuple[Format, Format, str, str]], table: _Tables,
    lines: list[_Line], word: int,
) -> Signal:  # fmt: skip
    """Every kind of rounding there is, and the one that is due."""
    circuit = build.circuit
    results = []
    for number, (source, target, rounding, overflow) in enumerate(kinds):
        circuit.remark(f"Rounding {number}: {source} to {target}, {rounding}, {overflow}.")
        raw = circuit.named(circuit.fit(accumulator, inner_width(source)), f"round{number}_sum")
        done = build.rounded(f"round{number}", raw, source, target, rounding, overflow)
        results.append(circuit.named(circuit.fit(done, word), f"round{number}_word"))
    if len(results) == 1:
        return results[0]
    bits = bits_for(len(kinds))
    kind = build.later(table.unsigned("kind", [line.kind for line in lines], bits), 3)
    chosen = results[0]
    for number, each in enumerate(results[1:], 1):
        chosen = circuit.mux(f"due_{number}", equals(kind, number), each, chosen)
    return chosen


def _rests(
    build: Builder, accumulator: Signal, kinds: list[tuple[Format, Format, str, str]], table: _Tables,
    lines: list[_Line], base: Signal, size_bits: int, word: int, ends: Signal,
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
        rounded = build.rounded(f"cut{number}_by", raw, Format(True, raw.width, shift), wide, rounding, "wrap")
        width = shift + 2
        whole = circuit.fit(circuit.left(rounded, shift), width)
        cut = circuit.wire(f"cut{number}", circuit.add(circuit.fit(raw, width), whole, width, -1))
        found.append(circuit.named(circuit.fit(cut, word), f"cut{number}_word"))
    chosen = found[0]
    if len(found) > 1:
        kind = build.later(circuit.signals["kind"], 3)
        for number, each in enumerate(found[1:], 1):
            chosen = circuit.mux(f"cut_due_{number}", equals(kind, number), each, chosen)
    rest = circuit.register("rest", chosen)
    has = table.flag("cuts", [line.rest_target is not None for line in lines])
    due = circuit.wire("cut_now", flag_and(ends, build.later(has, 3)))
    place = build.later(table.unsigned("cut_place", [line.rest_target or 0 for line in lines], size_bits), 4)
    address = circuit.wire("rest_address", Op("add", (base, place), size_bits, UNSIGNED))
    return rest, build.later(due, 1), address


def _plus(value: Signal) -> Op:
    return Op("add", (value, Number(1, value.width, UNSIGNED)), value.width, UNSIGNED)


def _width(value: int) -> int:
    return (value if value >= 0 else ~value).bit_length() + 1
