"""A realization as a circuit: the architecture that was chosen, or the one that suits it, with what it takes."""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.code_choices import Converter, converter_from, input_shift, output_shift
from combe.delivery.hdl.choices import USUAL_CLOCK_HZ, HardwareChoices, check_hardware_choices
from combe.delivery.hdl.circuit import (
    BIT,
    UNSIGNED,
    Circuit,
    Count,
    Expression,
    Number,
    Op,
    Signal,
    bit_of,
    equals,
    flag_and,
)
from combe.delivery.hdl.counting import count_of
from combe.delivery.hdl.engine import engine
from combe.delivery.hdl.fir_mac import sequenced
from combe.delivery.hdl.fir_pairs import Pairs, clocks_of_taps, is_paired, paired
from combe.delivery.hdl.fir_polyphase import fewest_lanes, polyphase
from combe.delivery.hdl.fir_rates import kept_only
from combe.delivery.hdl.fir_stream import Loaded, direct, folded, transposed
from combe.delivery.hdl.parts import Builder, Stream, Value, inner_width
from combe.delivery.hdl.rate_pace import Row
from combe.delivery.hdl.rate_row import Lanes, changing_taps, lanes_that_keep_up, rate_stages, requantized, write_port
from combe.delivery.hdl.recursive_stream import recursive
from combe.delivery.hdl.schedule import clocks_of
from combe.delivery.hdl.walks import walk_of
from combe.errors import FormatError
from combe.realization.cic import Cic
from combe.realization.formats import Format, narrowest_signed
from combe.realization.network import Network
from combe.realization.stages import Realization, Requantize, TapSum
from combe.values import replace

MOST_STREAMED_TAPS = 2000
LONGEST_SPAN = 40
"""Samples of a test bench's first piece, at least."""


class Built(Struct, frozen=True):
    """A circuit and its figures: ``latency`` in clocks from an accepted sample to its output, ``clocks`` a sample occupies.

    Where samples don't all occupy the same, ``span`` of them after the first take ``timed`` clocks, as fast as they are taken.
    """

    circuit: Circuit
    architecture: str
    latency: int
    clocks: int
    count: Count
    input_bits: int
    output_bits: int
    multipliers_asked: int = 0
    span: int = 1
    timed: int = 0
    row: tuple[tuple[int, int], ...] = ()
    """Of stages in a row that change the rate: each one's place and its multipliers."""
    owed: int = 0
    """Of these, no fewer than the outputs that may follow once no sample is taken any more."""


def build_circuit(realization: Realization, name: str, choices: HardwareChoices) -> Built:
    """The circuit of a realization.

    Raises
    ------
    FormatError
        If the architecture can't hold the realization or reach its sample rate, with the nearest that can.
    """
    check_hardware_choices(choices)
    sets_ratio = choices.reloadable and _has_ratio(realization)
    if sets_ratio:
        # Its ratio can be set; no coefficient is replaced.
        choices = replace(choices, reloadable=False)
    architecture = choices.architecture or suited(realization, choices)
    _check_fits(realization, architecture, choices)
    row = _row_lanes(realization, architecture, choices)
    lanes = _lanes(realization, architecture, choices) if row is None else sum(row.values())
    circuit = Circuit(name)
    for port, is_input in (("clk", True), ("rst", True), ("in_valid", True), ("in_ready", False)):
        circuit.port(port, 1, is_input, BIT)
    entry, result = _converters(realization, choices)
    in_kind = "signed" if realization.input.signed and entry is None else UNSIGNED
    in_bits = entry.bits if entry else realization.input.bits
    out_bits = result.bits if result else realization.output.bits
    in_data = circuit.port("in_data", in_bits, True, in_kind)
    circuit.port("out_valid", 1, False, BIT)
    out_kind = "signed" if realization.output.signed and result is None else UNSIGNED
    circuit.port("out_data", out_bits, False, out_kind)
    build = Builder(circuit, choices.pipeline, sets_ratio=sets_ratio)
    value = _arriving(build, in_data, realization.input, entry)
    stream, ready, clocks = _stages(
        build, Stream(circuit.signals["in_valid"], value), realization, architecture, lanes, row, choices
    )
    circuit.drive(circuit.signals["in_ready"], ready)
    _leaving(build, stream, realization.output, result)
    _check_rate(realization, architecture, clocks, choices)
    _check_names(circuit)
    return Built(
        circuit,
        architecture,
        build.latency,
        clocks,
        count_of(circuit),
        in_bits,
        out_bits,
        lanes,
        *_timed(realization, choices, lanes if row is None else 0, build.row),
        tuple(row.items()) if row is not None else (),
        build.row.owed() if build.row is not None else 0,
    )


def _has_ratio(realization: Realization) -> bool:
    """Whether there is a ratio that can be set while it runs.

    Raises
    ------
    FormatError
        If there are two.
    """
    count = sum(isinstance(stage, Network) and stage.phase is not None for stage in realization.stages)
    if count > 1:
        raise FormatError(
            f"there are {count} ratios that could be set", "reloadable", "leave it out, or keep one of them"
        )
    return count == 1


def _timed(realization: Realization, choices: HardwareChoices, lanes: int, row: Row | None) -> tuple[int, int]:
    """Over how many samples clocks are measured, and how many they take: those of a decimator's output where it isn't longer
    than what a test bench plays in one piece; of stages in a row as many as such a piece has."""
    if row is not None:
        taken = row.taken()
        span = min(LONGEST_SPAN, len(taken) - 1)
        return span, taken[span]
    taps = _polyphase_taps(realization) if lanes else None
    if taps is None or taps.down == 1:
        return 1, 0
    own = walk_of(taps, not choices.reloadable).longest(lanes)
    return (taps.down, max(taps.down, own)) if taps.down <= LONGEST_SPAN else (1, 1)


def suited(realization: Realization, choices: HardwareChoices) -> str:
    """The smallest architecture that keeps up with the sample rate at the clock (a usual one where none is given)."""
    clock = choices.clock_hz or USUAL_CLOCK_HZ
    budget = clock / realization.sample_rate_hz
    if realization.changes_rate:
        return _suited_to_rates(realization, choices, budget)
    is_known = choices.clock_hz or realization.sample_rate_hz > 2
    taps = _only_taps(realization)
    if taps is None:
        program = realization.program
        if is_known and budget >= clocks_of(program, inner_width(realization.input), choices.pipeline):
            return "serial"
        return "parallel"
    if is_known and budget >= len(taps.coefficients) + 1:
        return "serial"
    if is_known and budget >= 8:
        return "semi-parallel"
    return "folded" if taps.symmetry and len(taps.coefficients) > 2 else "transposed"


def _suited_to_rates(realization: Realization, choices: HardwareChoices, budget: float) -> str:
    """One multiplier a stage where that keeps up, or nothing does."""
    own, is_fixed = _polyphase_taps(realization), not choices.reloadable
    if not choices.clock_hz and realization.sample_rate_hz <= 2:
        return "serial"
    if own is not None:
        walk = walk_of(own, is_fixed)
        return "semi-parallel" if (fewest_lanes(own, walk, int(budget)) or 1) > 1 else "serial"
    if not changing_taps(realization) or _needed(realization, choices, {}) <= budget:
        return "serial"
    lanes = _planned(realization, choices, budget)
    return "semi-parallel" if _needed(realization, choices, lanes) <= budget else "serial"


def _planned(realization: Realization, choices: HardwareChoices, budget: float) -> Lanes:
    """Multipliers for stages in a row with so many clocks a sample."""
    return lanes_that_keep_up(realization, int(budget), not choices.reloadable)


def _needed(realization: Realization, choices: HardwareChoices, lanes: Lanes) -> int:
    """The clocks between samples that come evenly of stages in a row on so many multipliers each."""
    circuit = Circuit("tried")
    valid = circuit.port("in_valid", 1, True, BIT)
    entry = _converters(realization, choices)[0]
    in_kind = "signed" if realization.input.signed and entry is None else UNSIGNED
    data = circuit.port("in_data", entry.bits if entry else realization.input.bits, True, in_kind)
    build = Builder(circuit, choices.pipeline)
    stream = Stream(valid, _arriving(build, data, realization.input, entry))
    return rate_stages(build, stream, realization, lanes, choices)[2]


def _row_lanes(realization: Realization, architecture: str, choices: HardwareChoices) -> Lanes | None:
    """Multipliers of each stage where stages in a row change the rate; None for everything else."""
    if not realization.changes_rate or architecture not in ("serial", "semi-parallel"):
        return None
    if _polyphase_taps(realization) is not None:
        return None
    if architecture == "serial":
        return dict.fromkeys(changing_taps(realization), 1)
    most = {
        index: walk_of(stage, not choices.reloadable).longest() for index, stage in changing_taps(realization).items()
    }
    if choices.multipliers:
        if choices.multipliers > max(most.values()):
            what = f"{choices.multipliers} multipliers a stage for {max(most.values())} taps a phase"
            raise FormatError(what, "multipliers", f"{max(most.values())} are enough")
        return {index: min(choices.multipliers, count) for index, count in most.items()}
    if not choices.clock_hz and realization.sample_rate_hz <= 2:
        return {index: min(4, count) for index, count in most.items()}
    return _planned(realization, choices, (choices.clock_hz or USUAL_CLOCK_HZ) / realization.sample_rate_hz)


def _only_taps(realization: Realization) -> TapSum | None:
    """The sum of taps, where that and roundings are all there is."""
    found = [stage for stage in realization.stages if not isinstance(stage, Requantize)]
    return found[0] if len(found) == 1 and isinstance(found[0], TapSum) and realization.stages[0] is found[0] else None


def _polyphase_taps(realization: Realization) -> TapSum | None:
    """The sum of taps, where that and roundings are all there is and the rate goes either down or up."""
    taps = _only_taps(realization)
    return taps if taps is not None and (taps.up == 1) != (taps.down == 1) else None


def _check_fits(realization: Realization, architecture: str, choices: HardwareChoices) -> None:
    if realization.changes_rate:
        _check_rate_architecture(realization, architecture, choices)
    taps = _only_taps(realization)
    sums = [stage for stage in realization.stages if isinstance(stage, TapSum)]
    if realization.is_recursive and architecture in ("transposed", "folded", "semi-parallel"):
        what = f"{architecture} is built of taps, and this filter feeds its output back"
        raise FormatError(what, "architecture", "parallel, serial and multiplierless take it")
    if architecture == "folded" and any(not stage.symmetry for stage in sums):
        raise FormatError("folded needs symmetric taps", "architecture", "transposed takes any")
    if architecture == "semi-parallel" and taps is None and not realization.changes_rate:
        raise FormatError("semi-parallel takes one sum of taps", "architecture", "serial or parallel takes this one")
    if choices.reloadable and (taps is None or architecture == "multiplierless"):
        what = "coefficients can be replaced in one sum of taps with multipliers"
        raise FormatError(what, "reloadable", "leave it out, or take transposed taps")
    if choices.double_buffer and not choices.reloadable:
        raise FormatError("two banks go with replaceable coefficients", "double_buffer", "ask for both, or for neither")
    if architecture not in ("serial", "semi-parallel") and sum(len(s.coefficients) for s in sums) > MOST_STREAMED_TAPS:
        raise FormatError(
            f"{architecture} is written for {MOST_STREAMED_TAPS} taps at most", "architecture", "serial takes more"
        )


def _check_rate_architecture(realization: Realization, architecture: str, choices: HardwareChoices) -> None:
    """Where the rate changes: serial takes everything, semi-parallel whatever has taps where it does, the others one sum of taps that
    goes down."""
    taps = _only_taps(realization)
    if architecture == "serial" or (architecture == "semi-parallel" and changing_taps(realization)):
        return
    if taps is None or taps.up > 1 or architecture == "semi-parallel":
        what = f"{architecture} doesn't take this change of rate"
        raise FormatError(what, "architecture", "serial does, with a multiplier for each stage")


def _lanes(realization: Realization, architecture: str, choices: HardwareChoices) -> int:
    """Multipliers of the sequenced architectures."""
    taps = _only_taps(realization)
    if architecture == "serial":
        return 1
    if architecture != "semi-parallel" or taps is None:
        return 0
    is_fixed = not choices.reloadable
    walk = walk_of(taps, is_fixed) if realization.changes_rate else None
    count = walk.longest() if walk is not None else clocks_of_taps(taps, 1, is_fixed)
    if choices.multipliers:
        if choices.multipliers > (count if walk is not None else len(taps.coefficients)):
            what = "pairs of taps" if walk is None and is_paired(taps, is_fixed) else "taps"
            raise FormatError(
                f"{choices.multipliers} multipliers for {count} {what}{' a phase' if taps.up > 1 else ''}",
                "multipliers",
                f"{count} are enough",
            )
        lanes = choices.multipliers
    elif walk is not None:
        clock = choices.clock_hz or USUAL_CLOCK_HZ
        is_told = choices.clock_hz or realization.sample_rate_hz > 2
        lanes = fewest_lanes(taps, walk, int(clock / realization.sample_rate_hz)) or count if is_told else min(4, count)
    else:
        lanes = _lanes_for(realization, choices, count)
    # Of pairs some lanes may be left without any.
    return Pairs.of(taps, min(lanes, count)).lanes if walk is None and is_paired(taps, is_fixed) else lanes


def _lanes_for(realization: Realization, choices: HardwareChoices, count: int) -> int:
    """As few multipliers as clock and sample rate allow, each with its share of so many taps or pairs."""
    clock = choices.clock_hz or USUAL_CLOCK_HZ
    clocks = int(clock / realization.sample_rate_hz) - 1
    if clocks < 1 or (realization.sample_rate_hz <= 2 and not choices.clock_hz):
        return max(1, min(4, count))
    # One would be serial.
    return max(min(2, count), min(count, -(-count // clocks)))


def _check_rate(realization: Realization, architecture: str, clocks: int, choices: HardwareChoices) -> None:
    if choices.clock_hz and choices.clock_hz < clocks * realization.sample_rate_hz:
        rate = choices.clock_hz / clocks
        what = f"{architecture} takes {clocks} clocks a sample: {rate:.6g} samples a second at {choices.clock_hz:.6g} Hz, not {realization.sample_rate_hz:.6g}"
        if clocks == 1:
            raise FormatError(what, "clock", f"a clock of {realization.sample_rate_hz:.6g} Hz at least")
        taps = _only_taps(realization)
        budget = int(choices.clock_hz / realization.sample_rate_hz)
        own = _polyphase_taps(realization)
        if own is not None:
            lanes = fewest_lanes(own, walk_of(own, not choices.reloadable), budget)
            least = realization.sample_rate_hz * own.up
            instead = (
                f"semi-parallel with {lanes} multiplier{'s keep' if lanes > 1 else ' keeps'} up"
                if lanes
                else f"a clock of {least:.6g} Hz at least"
            )
            raise FormatError(what, "architecture" if lanes else "clock", instead)
        if realization.changes_rate and changing_taps(realization):
            raise FormatError(what, "architecture", _quicker(realization, choices, architecture, budget))
        if taps is not None and not realization.changes_rate and budget >= 2:
            lanes = -(-clocks_of_taps(taps, 1, not choices.reloadable) // (budget - 1))
            raise FormatError(what, "architecture", f"semi-parallel with {lanes} multipliers keeps up")
        instead = "parallel keeps up" if taps is None else "transposed keeps up"
        raise FormatError(
            what, "architecture", instead if budget >= 1 else f"a clock of {realization.sample_rate_hz:.6g} Hz at least"
        )


def _quicker(realization: Realization, choices: HardwareChoices, architecture: str, budget: int) -> str:
    """What would keep up instead where stages in a row change the rate."""
    lanes = _planned(realization, choices, budget)
    needed = _needed(realization, choices, lanes)
    if needed <= budget:
        return f"semi-parallel keeps up, with {sum(lanes.values())} multipliers in all"
    return f"a clock of {needed * realization.sample_rate_hz:.6g} Hz at least{'' if architecture == 'semi-parallel' else ', with semi-parallel'}"


def _converters(realization: Realization, choices: HardwareChoices) -> tuple[Converter | None, Converter | None]:
    if not choices.converter_in:
        return None, None
    entry = converter_from(choices.converter_in, "converter_in")
    input_shift(entry, realization.input)
    return entry, converter_from(choices.converter_out, "converter_out")


def _arriving(build: Builder, data: Signal, entry: Format, converter: Converter | None) -> Value:
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


def _stages(
    build: Builder, stream: Stream, realization: Realization, architecture: str, lanes: int, row: Lanes | None,
    choices: HardwareChoices,
) -> tuple[Stream, Expression, int]:  # fmt: skip
    """All stages, whether a sample is taken, and the clocks it occupies."""
    taps = _only_taps(realization)
    ready: Expression = Number(1, 1, BIT)
    clocks = 1
    if row is not None:
        return rate_stages(build, stream, realization, row, choices)
    if architecture == "serial" and taps is None:
        made = engine(build, stream, realization.program)
        return made.stream, made.ready, made.clocks
    source = realization.input
    for index, stage in enumerate(realization.stages):
        if isinstance(stage, Requantize):
            stream, source = requantized(build, stream, stage, index), stage.target
        elif isinstance(stage, TapSum):
            if lanes and realization.changes_rate:
                port = write_port(build, stage, choices.double_buffer) if choices.reloadable else None
                found = polyphase(build, stream, source, stage, lanes, port)
                stream, ready, clocks = found.stream, found.ready, found.clocks
            elif lanes:
                port = write_port(build, stage, choices.double_buffer) if choices.reloadable else None
                if architecture == "semi-parallel" and is_paired(stage, port is None):
                    found = paired(build, stream, source, stage, lanes)
                else:
                    found = sequenced(build, stream, source, stage, lanes, port)
                stream, ready, clocks = found.stream, found.ready, found.clocks
            else:
                stream = _streamed(build, stream, stage, architecture, choices)
                if stage.down > 1:
                    stream = kept_only(build, stream, stage)
            source = stage.accumulator
        elif not isinstance(stage, Cic):
            stream = recursive(build, stream, stage, source, architecture == "multiplierless")
            source = stage.result
    return stream, ready, clocks


def _streamed(
    build: Builder, stream: Stream, stage: TapSum, architecture: str, choices: HardwareChoices
) -> Stream:  # fmt: skip
    loaded = _registers(build, stage, architecture, choices) if choices.reloadable else None
    if architecture == "folded":
        return folded(build, stream, stage, loaded)
    if architecture in ("transposed", "multiplierless"):
        return transposed(build, stream, stage, architecture == "multiplierless", loaded)
    return direct(build, stream, stage, loaded)


def _registers(build: Builder, stage: TapSum, architecture: str, choices: HardwareChoices) -> Loaded:
    """A register for every coefficient, back to what it was made with after a reset; two of them where a set is written before it is
    taken over as a whole."""
    port, circuit = write_port(build, stage, choices.double_buffer), build.circuit
    circuit.remark("Coefficients, written from outside.")
    # Pairs of samples are added a clock before they are multiplied.
    taken = (
        build.later(port.swap, int(architecture == "folded" and build.pipeline > 0)) if port.swap is not None else None
    )
    made = []
    count = len(stage.coefficients)
    for k, value in enumerate(stage.coefficients):
        if architecture == "folded" and k >= (count + 1) // 2:
            break
        enable = circuit.wire(f"write_{k}", flag_and(port.write, equals(port.address, k)))
        if taken is not None:
            waiting = circuit.new(f"next_coefficient_{k}", port.data.width)
            circuit.clocked(waiting, port.data, enable, value)
        signal = circuit.new(f"coefficient_{k}", port.data.width)
        circuit.clocked(signal, port.data if taken is None else waiting, enable if taken is None else taken, value)
        made.append(signal)
    return Loaded(tuple(made))


def _leaving(build: Builder, stream: Stream, entry: Format, converter: Converter | None) -> None:
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


def _check_names(circuit: Circuit) -> None:
    if circuit.name.lower() in {name.lower() for name in (*circuit.signals, *circuit.names)}:
        raise FormatError(f"{circuit.name!r} is a signal of the circuit", "name", f"{circuit.name}_filter would do")
