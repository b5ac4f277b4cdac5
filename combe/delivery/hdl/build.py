"""A realization as a circuit: the architecture that was chosen, or the one that suits it, with what it takes."""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.choices import HardwareChoices, check_hardware_choices
from combe.delivery.hdl.circuit import (
    BIT,
    UNSIGNED,
    Circuit,
    Count,
    Expression,
    Number,
    equals,
    flag_and,
)
from combe.delivery.hdl.counting import count_of
from combe.delivery.hdl.ends import arriving, converters, leaving
from combe.delivery.hdl.engine import engine
from combe.delivery.hdl.fir_mac import sequenced
from combe.delivery.hdl.fir_pairs import is_paired, paired
from combe.delivery.hdl.fir_polyphase import polyphase
from combe.delivery.hdl.fir_rates import kept_only
from combe.delivery.hdl.fir_stream import Loaded, direct, folded, transposed
from combe.delivery.hdl.parts import Builder, Stream
from combe.delivery.hdl.rate_pace import Offered
from combe.delivery.hdl.rate_row import Lanes, rate_stages, requantized, write_port
from combe.delivery.hdl.recursive_stream import recursive
from combe.delivery.hdl.suiting import check_fits, check_rate, lanes_of, only_taps, polyphase_taps, row_lanes, suited
from combe.delivery.hdl.walks import walk_of
from combe.errors import FormatError
from combe.realization.cic import Cic
from combe.realization.network import Network
from combe.realization.stages import Realization, Requantize, TapSum
from combe.values import replace

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
    check_fits(realization, architecture, choices)
    row = row_lanes(realization, architecture, choices)
    lanes = lanes_of(realization, architecture, choices) if row is None else sum(row.values())
    circuit = Circuit(name)
    for port, is_input in (("clk", True), ("rst", True), ("in_valid", True), ("in_ready", False)):
        circuit.port(port, 1, is_input, BIT)
    entry, result = converters(realization, choices)
    in_kind = "signed" if realization.input.signed and entry is None else UNSIGNED
    in_bits = entry.bits if entry else realization.input.bits
    out_bits = result.bits if result else realization.output.bits
    in_data = circuit.port("in_data", in_bits, True, in_kind)
    circuit.port("out_valid", 1, False, BIT)
    out_kind = "signed" if realization.output.signed and result is None else UNSIGNED
    circuit.port("out_data", out_bits, False, out_kind)
    build = Builder(circuit, choices.pipeline, sets_ratio=sets_ratio)
    value = arriving(build, in_data, realization.input, entry)
    stream, ready, clocks = _stages(
        build, Stream(circuit.signals["in_valid"], value), realization, architecture, lanes, row, choices
    )
    circuit.drive(circuit.signals["in_ready"], ready)
    leaving(build, stream, realization.output, result)
    check_rate(realization, architecture, clocks, choices)
    _check_names(circuit)
    offered = build.row.always_offered() if build.row is not None else None
    return Built(
        circuit,
        architecture,
        build.latency,
        clocks,
        count_of(circuit),
        in_bits,
        out_bits,
        lanes,
        *_timed(realization, choices, lanes if row is None else 0, offered),
        tuple(row.items()) if row is not None else (),
        offered.owed if offered is not None else 0,
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


def _timed(realization: Realization, choices: HardwareChoices, lanes: int, offered: Offered | None) -> tuple[int, int]:
    """Over how many samples clocks are measured, and how many they take: those of a decimator's output where it isn't longer
    than what a test bench plays in one piece; of stages in a row as many as such a piece has."""
    if offered is not None:
        span = min(LONGEST_SPAN, len(offered.taken) - 1)
        return span, offered.taken[span]
    taps = polyphase_taps(realization) if lanes else None
    if taps is None or taps.down == 1:
        return 1, 0
    own = walk_of(taps, not choices.reloadable).longest(lanes)
    return (taps.down, max(taps.down, own)) if taps.down <= LONGEST_SPAN else (1, 1)


def _stages(
    build: Builder, stream: Stream, realization: Realization, architecture: str, lanes: int, row: Lanes | None,
    choices: HardwareChoices,
) -> tuple[Stream, Expression, int]:  # fmt: skip
    """All stages, whether a sample is taken, and the clocks it occupies."""
    taps = only_taps(realization)
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


def _check_names(circuit: Circuit) -> None:
    if circuit.name.lower() in {name.lower() for name in (*circuit.signals, *circuit.names)}:
        raise FormatError(f"{circuit.name!r} is a signal of the circuit", "name", f"{circuit.name}_filter would do")
