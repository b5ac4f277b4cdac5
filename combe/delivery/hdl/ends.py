"""Where samples come into a circuit and leave it: ports in the formats of the filter or in a converter's codes."""

from __future__ import annotations

from combe.delivery.code_choices import Converter, converter_from, input_shift, output_shift
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.circuit import BIT, Expression, Number, Op, Signal, bit_of
from combe.delivery.hdl.parts import Builder, Stream, Value, inner_width
from combe.realization.formats import Format, narrowest_signed
from combe.realization.stages import Realization


def converters(realization: Realization, choices: HardwareChoices) -> tuple[Converter | None, Converter | None]:
    """Those at the input and at the output; both None where samples have the filter's own formats."""
    if not choices.converter_in:
        return None, None
    entry = converter_from(choices.converter_in, "converter_in")
    input_shift(entry, realization.input)
    return entry, converter_from(choices.converter_out, "converter_out")


def arriving(build: Builder, data: Signal, entry: Format, converter: Converter | None) -> Value:
    """The input port as a signed number of the input's format."""
    circuit = build.circuit
    if converter is not None:
        circuit.remark(f"Converter codes: {converter.offset} stands for zero.")
        plain = circuit.wire("code", Op("zero_top", (data,), data.width + 1))
        width = narrowest_signed(min(-converter.offset, 0), max(converter.most, 1)) + 1
        value = circuit.add(plain, Number(converter.offset, width), width, -1)
        up = input_shift(converter, entry)
        made = circuit.wire("centered", value)
        moved = circuit.fit(circuit.left(made, up), entry.bits, "centered_up")
        return Value(circuit.named(moved, "input_number"), entry.least, entry.most)
    if entry.signed:
        return Value(data, entry.least, entry.most)
    plain_signal = circuit.wire("input_number", Op("zero_top", (data,), entry.bits + 1))
    return Value(plain_signal, entry.least, entry.most)


def leaving(build: Builder, stream: Stream, entry: Format, converter: Converter | None) -> None:
    """The output register and its port."""
    circuit = build.circuit
    number = build.as_number("output_number", stream.value, inner_width(entry))
    circuit.remark("The output.")
    bits = converter.bits if converter is not None else entry.bits
    value: Expression
    if converter is None:
        value = circuit.fit(number, bits)
    else:
        value = _as_code(build, number, entry, converter)
    kept = circuit.register("result", value)
    valid = build.later(stream.valid, 1)
    build.latency += 1
    port = circuit.signals["out_data"]
    if port.kind != kept.kind:
        circuit.drive(port, Op("reinterpret", (kept,), bits, port.kind))
    else:
        circuit.drive(port, kept)
    circuit.drive(circuit.signals["out_valid"], valid)


def _as_code(build: Builder, number: Signal, entry: Format, converter: Converter) -> Expression:
    """Rounded to the converter's bits, the offset added, held within its range."""
    circuit = build.circuit
    down = output_shift(converter, entry)
    circuit.remark(f"Converter codes: divided by 2^{down}, plus {converter.offset}, held in {converter.bits} bits.")
    plain: Expression = number
    if down > 0:
        wide = circuit.wire(
            "code_moved", circuit.add(number, Number(1 << (down - 1), number.width + 1), number.width + 1)
        )
        plain = circuit.wire("code_down", circuit.down(wide, down))
    elif down < 0:
        plain = circuit.wire("code_up", circuit.left(number, -down))
    width = max(plain.width, converter.bits + 1) + 1
    total = circuit.wire("code_sum", circuit.add(plain, Number(converter.offset, width), width))
    low = circuit.wire("code_low", circuit.fit(total, converter.bits))
    ends = circuit.mux("code_end", bit_of(total, width - 1), Number(0, converter.bits), Number(-1, converter.bits))
    inside = circuit.wire("code_fits", Op("zeros", (total,), 1, BIT, width - 1, converter.bits))
    return circuit.mux("code_held", inside, low, ends)
