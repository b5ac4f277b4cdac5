"""Parts every architecture is built of: values with known limits, sums in trees, delays, roundings."""

from __future__ import annotations

from dataclasses import dataclass, field

from msgspec import Struct

from combe.delivery.hdl.circuit import (
    BIT,
    SIGNED,
    Circuit,
    Expression,
    Number,
    Op,
    Signal,
    all_ones,
    all_zero,
    bit_of,
    flag_and,
    flag_not,
    flag_or,
)
from combe.delivery.hdl.rate_pace import Row
from combe.realization.formats import Format, narrowest_signed


def inner_width(entry: Format) -> int:
    """Bits a format takes as a signed number."""
    return entry.bits + (not entry.signed)


class Value(Struct, frozen=True):
    """sign·signal·2^shift; the signal itself lies between ``low`` and ``high``."""

    signal: Signal
    low: int
    high: int
    shift: int = 0
    sign: int = 1


class Stream(Struct, frozen=True):
    """Samples on the way: ``valid`` says when ``value`` is one."""

    valid: Signal
    value: Value


@dataclass
class Builder:
    """A circuit under construction with its latency so far; ``pipeline`` adders stand between registers."""

    circuit: Circuit
    pipeline: int
    latency: int = 0
    row: Row | None = None
    """How stages in a row that change the rate move."""
    sets_ratio: bool = False
    """Whether a port sets the ratio of a stage that has one to set."""
    _later: dict[tuple[str, int], Signal] = field(default_factory=dict)

    def later(self, signal: Signal, clocks: int) -> Signal:
        """The signal some clocks later; chains are shared."""
        for count in range(1, clocks + 1):
            if (signal.name, count) not in self._later:
                before = self._later.get((signal.name, count - 1), signal)
                reset = 0 if signal.kind == BIT else None
                self._later[signal.name, count] = self.circuit.register(f"{signal.name}_d{count}", before, None, reset)
        return self._later[signal.name, clocks] if clocks else signal

    def moved(self, value: Value, clocks: int) -> Value:
        """A value some clocks later."""
        return Value(self.later(value.signal, clocks), value.low, value.high, value.shift, value.sign)

    def sample(self, name: str, stream: Stream) -> Stream:
        """A stream through one register."""
        made = self.circuit.register(name, stream.value.signal)
        value = Value(made, stream.value.low, stream.value.high, stream.value.shift, stream.value.sign)
        self.latency += 1
        return Stream(self.later(stream.valid, 1), value)

    def pair(self, name: str, left: Value, right: Value, is_kept: bool) -> Value:
        """left + right exactly, in the narrowest width, in a register or a wire."""
        if left.sign < right.sign:
            left, right = right, left
        sign = 1 if left.sign == right.sign else -1
        shift = min(left.shift, right.shift)
        a, b = left.shift - shift, right.shift - shift
        others = (right.low << b, right.high << b) if sign > 0 else (-right.high << b, -right.low << b)
        low, high = (left.low << a) + others[0], (left.high << a) + others[1]
        width = narrowest_signed(min(low, 0), max(high, 0))
        circuit = self.circuit
        total = circuit.add(circuit.left(left.signal, a), circuit.left(right.signal, b), width, sign)
        made = circuit.register(name, total) if is_kept else circuit.wire(name, total)
        return Value(made, low, high, shift, left.sign)

    def tree(self, name: str, values: list[Value]) -> tuple[Value, int]:
        """The sum of all in a balanced tree, and the clocks it takes."""
        clocks = level = 0
        while len(values) > 1:
            level += 1
            is_kept = self.pipeline > 0 and (level % self.pipeline == 0 or len(values) == 2)
            paired = [
                self.pair(f"{name}_{level}_{k // 2}", values[k], values[k + 1], is_kept)
                for k in range(0, len(values) - 1, 2)
            ]
            if len(values) % 2:
                paired.append(self.moved(values[-1], int(is_kept)))
            values, clocks = paired, clocks + is_kept
        return values[0], clocks

    def times(self, name: str, source: Value, factor: int, is_kept: bool, constant: Signal | None = None) -> Value:
        """factor·value: a multiplication by the odd part, a shift where that's 1; constant by name where given."""
        odd, places = factor, 0
        while odd % 2 == 0:
            odd, places = odd // 2, places + 1
        if abs(odd) == 1:
            sign = source.sign * (1 if odd > 0 else -1)
            plain = Value(source.signal, source.low, source.high, source.shift + places, sign)
            return self.moved(plain, int(is_kept))
        circuit = self.circuit
        if constant is None:
            constant = circuit.constant(
                f"{name}_factor", odd, narrowest_signed(odd, odd), f"{factor}" if places else ""
            )
        ends = odd * source.low, odd * source.high
        width = max(narrowest_signed(min(ends), max(ends)), constant.width, source.signal.width)
        product = Op("mul", (constant, source.signal), width)
        made = circuit.register(name, product) if is_kept else circuit.wire(name, product)
        return Value(made, min(ends), max(ends), source.shift + places, source.sign)

    def as_number(self, name: str, value: Value, width: int) -> Signal:
        """The value itself in ``width`` bits, sign and shift carried out."""
        circuit = self.circuit
        plain = circuit.fit(circuit.left(value.signal, value.shift), width, f"{name}_whole")
        if value.sign < 0:
            return circuit.wire(name, circuit.add(Number(0, width), plain, width, -1))
        return circuit.named(plain, name)

    def rounded(
        self,
        name: str,
        raw: Signal,
        source: Format,
        target: Format,
        rounding: str,
        overflow: str,
        is_kept: bool = False,
    ) -> Signal:
        """A raw sum brought into another format, as a signed number; with a register before the limits where asked."""
        return self.held(name, self.scaled(name, raw, source, target, rounding, is_kept), target, overflow)

    def scaled(
        self, name: str, raw: Signal, source: Format, target: Format, rounding: str, is_kept: bool = False
    ) -> Signal:
        """A raw sum rounded to another binary point, before any limits; in a register where asked."""
        circuit = self.circuit
        shift = source.fraction - target.fraction
        value: Signal = raw
        if shift > 0:
            value = self._shifted(name, raw, shift, rounding)
        elif shift < 0:
            value = circuit.named(circuit.left(raw, -shift), f"{name}_up")
        if is_kept:
            value = self.circuit.register(f"{name}_kept", value)
        return value

    def _shifted(self, name: str, raw: Signal, shift: int, rounding: str) -> Signal:
        circuit = self.circuit
        width = max(raw.width, shift + 1) + 1
        whole = circuit.fit(raw, width)
        if rounding == "floor":
            return circuit.named(circuit.down(circuit.named(whole, f"{name}_whole"), shift), f"{name}_down")
        if rounding == "toward-zero":
            negative = bit_of(raw, raw.width - 1)
            lift = circuit.mux(f"{name}_lift", negative, Number((1 << shift) - 1, width), Number(0, width))
            moved = circuit.wire(f"{name}_moved", circuit.add(whole, lift, width))
            return circuit.named(circuit.down(moved, shift), f"{name}_down")
        moved = circuit.wire(f"{name}_moved", circuit.add(whole, Number(1 << (shift - 1), width), width))
        below = circuit.wire(f"{name}_down", circuit.down(moved, shift))
        if rounding == "nearest-up":
            return below
        halfway = circuit.wire(f"{name}_halfway", all_zero(moved, shift - 1, 0))
        if below.width == 1:
            below = circuit.wire(f"{name}_wide", circuit.fit(below, 2))
        return circuit.wire(f"{name}_even", Op("even", (below, halfway), below.width))

    def held(self, name: str, value: Signal, target: Format, overflow: str) -> Signal:
        """A signed number saturated or wrapped into a format of its binary point."""
        circuit, bits = self.circuit, target.bits
        if not target.signed:
            return self._held_above_zero(name, value, bits, overflow)
        if value.width <= bits:
            return circuit.named(circuit.fit(value, bits), f"{name}_result")
        low = circuit.wire(f"{name}_low", circuit.fit(value, bits))
        if overflow == "wrap":
            return low
        top = value.width - 1
        fits = circuit.wire(f"{name}_fits", flag_or(all_zero(value, top, bits - 1), all_ones(value, top, bits - 1)))
        end = circuit.mux(f"{name}_end", bit_of(value, top), Number(target.least, bits), Number(target.most, bits))
        return circuit.mux(f"{name}_result", fits, low, end)

    def _held_above_zero(self, name: str, value: Signal, bits: int, overflow: str) -> Signal:
        circuit = self.circuit
        if value.width < bits + 1:
            value = circuit.wire(f"{name}_wide", circuit.fit(value, bits + 1))
        low = circuit.wire(f"{name}_low", circuit.fit(value, bits))
        plain = circuit.wire(f"{name}_positive", Op("zero_top", (low,), bits + 1))
        if overflow == "wrap":
            return plain
        top = value.width - 1
        most = Number((1 << bits) - 1, bits + 1)
        if top > bits:
            fits = circuit.wire(f"{name}_fits", all_zero(value, top - 1, bits))
            plain = circuit.mux(f"{name}_topped", fits, plain, most)
        return circuit.mux(f"{name}_result", bit_of(value, top), Number(0, bits + 1), plain)


__all__ = ["BIT", "SIGNED", "Builder", "Expression", "Stream", "Value", "flag_and", "flag_not", "inner_width"]
