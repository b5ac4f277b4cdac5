"""Taps at one sample a clock: direct with an adder tree, folded, transposed with multipliers or adder graphs."""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.circuit import Number, Op, Signal
from combe.delivery.hdl.fir_rolled import is_rolled, rolled_direct, rolled_folded, rolled_transposed
from combe.delivery.hdl.parts import Builder, Stream, Value
from combe.errors import FormatError
from combe.realization.formats import narrowest_signed
from combe.realization.stages import TapSum
from combe.rounding.search.adders import AdderGraph, adder_graph
from combe.rounding.search.signed_digits import odd_part


class Loaded(Struct, frozen=True):
    """Coefficients that are registers, by tap; None where they are constants."""

    signals: tuple[Signal, ...]


def direct(build: Builder, stream: Stream, stage: TapSum, loaded: Loaded | None = None) -> Stream:
    """A history, a product for every tap, a tree of adders."""
    if loaded is None and is_rolled(stage):
        return rolled_direct(build, stream, stage)
    history = _history(build, stream, len(stage.coefficients))
    build.circuit.remark("A product for every tap, then their sum in a tree.")
    values = [
        _product(build, f"product_{k}", each, stage, k, loaded)
        for k, each in enumerate(history)
        if loaded is not None or stage.coefficients[k]
    ]
    return _summed(build, stream.valid, values, stage, 1)


def folded(build: Builder, stream: Stream, stage: TapSum, loaded: Loaded | None = None) -> Stream:
    """Two samples that share a coefficient are added before they are multiplied.

    Raises
    ------
    FormatError
        If the taps aren't symmetric.
    """
    count, sign = len(stage.coefficients), stage.symmetry
    if not sign:
        raise FormatError("folded needs symmetric taps", "architecture", "transposed takes any")
    if loaded is None and is_rolled(stage):
        return rolled_folded(build, stream, stage)
    history = _history(build, stream, count)
    build.circuit.remark("Pairs that share a coefficient, their products, then the sum in a tree.")
    is_kept = build.pipeline > 0
    values = []
    for k in range((count + 1) // 2):
        if not stage.coefficients[k] and (loaded is None or (sign < 0 and 2 * k + 1 == count)):
            continue
        first, second = history[k], history[count - 1 - k]
        if k == count - 1 - k:
            pair = build.moved(first, int(is_kept))
        else:
            turned = Value(second.signal, second.low, second.high, second.shift, second.sign * sign)
            pair = build.pair(f"pair_{k}", first, turned, is_kept)
        values.append(_product(build, f"product_{k}", pair, stage, k, loaded))
    return _summed(build, stream.valid, values, stage, 1 + is_kept)


def _product(
    build: Builder, name: str, source: Value, stage: TapSum, k: int, loaded: Loaded | None
) -> Value:  # fmt: skip
    is_kept = build.pipeline > 0
    if loaded is None:
        return build.times(name, source, stage.coefficients[k], is_kept)
    factor = loaded.signals[k]
    ends = [c * x for c in (stage.coefficient.least, stage.coefficient.most) for x in (source.low, source.high)]
    width = factor.width + source.signal.width
    product = Op("mul", (factor, source.signal), width)
    made = build.circuit.register(name, product) if is_kept else build.circuit.wire(name, product)
    return Value(made, min(ends), max(ends), source.shift, source.sign)


def _history(build: Builder, stream: Stream, count: int) -> list[Value]:
    """The newest samples, the newest first; they move on with every sample."""
    build.circuit.remark(f"The {count} newest samples.")
    found, before = [], stream.value.signal
    for k in range(count):
        before = build.circuit.register(f"history_{k}", before, stream.valid, 0)
        found.append(Value(before, min(stream.value.low, 0), max(stream.value.high, 0)))
    return found


def _summed(build: Builder, valid: Signal, values: list[Value], stage: TapSum, clocks: int) -> Stream:
    width = stage.accumulator.bits
    if not values:
        zero = build.circuit.wire("sum_of_nothing", Number(0, width))
        build.latency += 1
        return Stream(build.later(valid, 1), Value(zero, 0, 0))
    clocks += build.pipeline > 0
    total, levels = build.tree("sum", values)
    clocks += levels
    build.latency += clocks
    return Stream(build.later(valid, clocks), _whole(build, total, width))


def _whole(build: Builder, total: Value, width: int) -> Value:
    """The sum in the accumulator's format."""
    made = build.as_number("total", total, width)
    return Value(made, -(1 << (width - 1)), (1 << (width - 1)) - 1)


def transposed(
    build: Builder, stream: Stream, stage: TapSum, is_multiplierless: bool = False, loaded: Loaded | None = None
) -> Stream:  # fmt: skip
    """Every sample times every tap at once; partial sums wait for the samples still to come."""
    circuit, taps = build.circuit, stage.coefficients
    if loaded is None and not is_multiplierless and is_rolled(stage):
        return rolled_transposed(build, stream, stage)
    circuit.remark("The newest sample.")
    signal = circuit.register("sample", stream.value.signal, stream.valid, 0)
    sample = Value(signal, min(stream.value.low, 0), max(stream.value.high, 0))
    if is_multiplierless:
        circuit.remark("Its multiples: shifts and adders alone.")
        multiples, clocks = graph_multiples(build, sample, taps, adder_graph(taps))
    else:
        circuit.remark("Its products with every coefficient.")
        is_kept = build.pipeline > 0
        clocks = int(is_kept)
        if loaded is not None:
            products = [_product(build, f"product_{k}", sample, stage, k, loaded) for k in range(len(taps))]
            return _partial_sums(build, stream.valid, stage, [*products], clocks)
        wanted = sorted({odd_part(value) for value in taps} - {0})
        multiples = {odd: build.times(f"times_{odd}", sample, odd, is_kept) for odd in wanted}
    values: list[Value | None] = [multiple_of(multiples, tap) if tap else None for tap in taps]
    return _partial_sums(build, stream.valid, stage, values, clocks)


def multiple_of(multiples: dict[int, Value], tap: int) -> Value:
    """tap·sample from its odd part's multiple."""
    odd = odd_part(tap)
    base = multiples[odd]
    places = (abs(tap) // odd).bit_length() - 1
    sign = base.sign * (1 if tap > 0 else -1)
    return Value(base.signal, base.low, base.high, base.shift + places, sign)


def _partial_sums(
    build: Builder, valid: Signal, stage: TapSum, values: list[Value | None], clocks: int
) -> Stream:  # fmt: skip
    circuit = build.circuit
    enable = build.later(valid, 1 + clocks)
    circuit.remark("Partial sums: each waits for the sample that comes next.")
    before: Signal | None = None
    low = high = 0
    for k in range(len(values) - 1, -1, -1):
        value = values[k]
        if value is None and before is None:
            continue
        if value is not None:
            ends = value.sign * (value.low << value.shift), value.sign * (value.high << value.shift)
            low, high = low + min(*ends, 0), high + max(*ends, 0)
        width = min(narrowest_signed(low, high), stage.accumulator.bits)
        if value is None:
            assert before is not None
            total = circuit.fit(before, width)
        else:
            plain = circuit.fit(circuit.left(value.signal, value.shift), width)
            other = before if before is not None else Number(0, width)
            is_alone = before is None and value.sign > 0
            total = plain if is_alone else circuit.add(other, plain, width, value.sign)
        before = circuit.register(f"partial_{k}", total, enable, 0)
    if before is None:
        before = circuit.wire("sum_of_nothing", Number(0, stage.accumulator.bits))
    clocks += 2
    build.latency += clocks
    width = stage.accumulator.bits
    made = circuit.named(circuit.fit(before, width), "total")
    return Stream(build.later(valid, clocks), Value(made, -(1 << (width - 1)), (1 << (width - 1)) - 1))


def graph_multiples(
    build: Builder, sample: Value, taps: tuple[int, ...], graph: AdderGraph, name: str = "times"
) -> tuple[dict[int, Value], int]:  # fmt: skip
    """All odd multiples by the adder graph, and the clocks it takes."""
    held: dict[int, Value] = {1: sample}
    level: dict[int, int] = {1: 0}
    times: dict[int, int] = {1: 0}
    for adder in graph.adders:
        level[adder.value] = 1 + max(level[adder.left], level[adder.right])
        now = max(times[adder.left], times[adder.right])
        left, right = (build.moved(held[each], now - times[each]) for each in (adder.left, adder.right))
        a = Value(left.signal, left.low, left.high, left.shift + adder.left_shift, adder.left_sign)
        b = Value(right.signal, right.low, right.high, right.shift + adder.right_shift, adder.right_sign)
        is_kept = build.pipeline > 0 and level[adder.value] % build.pipeline == 0
        total = build.pair(f"{name}_{adder.value}", a, b, is_kept)
        held[adder.value] = _halved(build, f"{name}_{adder.value}", total, adder.down)
        times[adder.value] = now + is_kept
    wanted = {odd_part(tap) for tap in taps} - {0}
    last = max((times[odd] for odd in wanted), default=0)
    found = {}
    for odd in sorted(wanted):
        found[odd] = build.moved(held[odd], last - times[odd])
    return found, last


def _halved(build: Builder, name: str, total: Value, down: int) -> Value:
    """Zeros at the low end taken off, which is exact."""
    shift = total.shift - down
    if shift >= 0:
        return Value(total.signal, total.low, total.high, shift, total.sign)
    whole = build.circuit.wire(f"{name}_whole", build.circuit.down(total.signal, -shift))
    return Value(whole, total.low >> -shift, total.high >> -shift, 0, total.sign)
