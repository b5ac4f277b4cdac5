"""The samples that taps meet, while others come: each multiplier has its own copy, read from where the newest lay when the output
began."""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.circuit import UNSIGNED, Memory, Number, Op, Signal, below, bits_for, equals
from combe.delivery.hdl.fir_mac import plus
from combe.delivery.hdl.parts import Builder


class Samples(Struct, frozen=True):
    """Where samples are written, and what is known of them when an output begins."""

    data: Signal
    write: Signal
    address: Signal
    base: Signal
    filled: Signal

    @staticmethod
    def of(
        build: Builder, data: Signal, accept: Signal, start: Signal, room: int, ages: int, arriving: Signal | None = None
    ) -> Samples:  # fmt: skip
        """Pointers for so many words, and a count of samples since the reset up to so many. An output starts with the sample that is
        accepted; or, where those ``arriving`` are told, with the one accepted last."""
        circuit = build.circuit
        pointer = circuit.new("pointer", bits_for(room), UNSIGNED)
        base = circuit.new("base", pointer.width, UNSIGNED)
        filled = circuit.new("filled", bits_for(ages + 1), UNSIGNED)
        at_start = circuit.new("filled_at_start", filled.width, UNSIGNED)
        next_pointer = circuit.wire("next_pointer", plus(pointer, 1))
        is_full = circuit.wire("is_full", equals(filled, ages))
        next_filled = circuit.mux("filled_on", is_full, filled, plus(filled, 1))
        circuit.clocked(pointer, next_pointer, accept, 0)
        circuit.clocked(base, next_pointer if arriving is None else pointer, start, 0)
        circuit.clocked(filled, next_filled, accept, 0)
        circuit.clocked(at_start, next_filled if arriving is None else filled, start, 0)
        if arriving is None or arriving is accept:
            return Samples(data, accept, next_pointer, base, at_start)
        written = circuit.new("written", pointer.width, UNSIGNED)
        next_written = circuit.wire("next_written", plus(written, 1))
        circuit.clocked(written, next_written, arriving, 0)
        return Samples(data, arriving, next_written, base, at_start)

    def age(self, build: Builder, lane: int, index: Signal, first: int) -> Signal:
        """``first + index`` samples."""
        circuit = build.circuit
        here = circuit.fit(index, self.filled.width)
        if first:
            here = Op("add", (here, Number(first, self.filled.width, UNSIGNED)), self.filled.width, UNSIGNED)
        return circuit.named(here, f"age_{lane}")

    def read(self, build: Builder, lane: int, age: Signal) -> Signal:
        """The sample that is so old at the start of the output; 0 where none had come by then."""
        circuit, bits = build.circuit, self.base.width
        place = circuit.wire(f"place_{lane}", Op("sub", (self.base, circuit.fit(age, bits)), bits, UNSIGNED))
        read = circuit.new(f"read_{lane}", self.data.width)
        circuit.memory(
            Memory(f"samples_{lane}", self.data.width, (0,) * (1 << bits), place, read, self.write, self.address,
                   self.data, comment=f"Samples of lane {lane}.", is_apart=True)
        )  # fmt: skip
        known = circuit.register(f"known_{lane}", below(age, self.filled), None, 0)
        return circuit.mux(f"sample_{lane}", known, read, Number(0, self.data.width))
