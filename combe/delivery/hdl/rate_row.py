"""Stages in a row that change the rate as circuits, on as many multipliers each as keep up."""

from __future__ import annotations

from bisect import bisect_left
from fractions import Fraction

from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.circuit import BIT, UNSIGNED, Expression, bits_for, flag_and
from combe.delivery.hdl.fir_mac import WritePort
from combe.delivery.hdl.fir_rates import rate_sums, rate_taps
from combe.delivery.hdl.fir_stream import direct
from combe.delivery.hdl.handing import ALWAYS, Handed, Link, stored
from combe.delivery.hdl.parts import Builder, Stream, Value, inner_width
from combe.delivery.hdl.rate_network import rate_network, turn_clocks
from combe.delivery.hdl.rate_pace import ENDLESS, Pace, Row
from combe.delivery.hdl.recursive_stream import recursive
from combe.delivery.hdl.walks import walk_of
from combe.realization.cic import Cic
from combe.realization.network import Network
from combe.realization.stages import CHANGING, Realization, Requantize, TapSum, is_changing
from combe.values import replace

Lanes = dict[int, int]
"""Multipliers of each stage of taps that changes the rate, by its place."""


def changing_taps(realization: Realization) -> dict[int, TapSum]:
    """The stages of taps that change the rate, by their places."""
    return {
        index: stage
        for index, stage in enumerate(realization.stages)
        if isinstance(stage, TapSum) and (stage.up > 1 or stage.down > 1)
    }


def lanes_that_keep_up(realization: Realization, clocks: int, is_fixed: bool) -> Lanes:
    """The fewest multipliers of each stage such that a sample may come every so many clocks, as many as it has use for where no
    number is enough: a row is as quick as its busiest stage."""
    lanes, rate = {}, Fraction(1)
    for index, stage in enumerate(realization.stages):
        if index in changing_taps(realization):
            assert isinstance(stage, TapSum)
            walk, room = walk_of(stage, is_fixed), clocks * stage.down / rate
            most = walk.longest()
            lanes[index] = bisect_left(range(1, most), True, key=lambda k: sum(walk.clocks(k)) <= room) + 1
        if isinstance(stage, CHANGING):
            rate *= Fraction(stage.up, stage.down)
    return lanes


def rate_stages(
    build: Builder, stream: Stream, realization: Realization, lanes: Lanes, choices: HardwareChoices
) -> tuple[Stream, Expression, int]:  # fmt: skip
    """Stages in a row. Clocks a sample occupies are the fewest between samples that come evenly."""
    circuit = build.circuit
    changing = [k for k, stage in enumerate(realization.stages) if is_changing(stage)]
    idle = {k: circuit.new(f"idle_{k}", 1, BIT) for k in changing}
    links = {k: Link(circuit.new(f"room_{k}", 1, BIT)) for k in changing if k > 0}
    first = realization.stages[changing[0]]
    if isinstance(first, Network) and first.down > first.up:
        # What comes while a turn is gone through waits.
        links[changing[0]] = Link(circuit.new("room", 1, BIT))
    source = realization.input
    link = links.get(changing[0], Link())
    ready: Expression = idle[changing[0]] if link.room is None else link.room
    # What stands before the first of them lets a sample through where that has room for it.
    launched = circuit.wire("taken", flag_and(stream.valid, ready)) if link.room is not None else stream.valid
    stream, start, interval = Stream(launched, stream.value), 0, 1
    paces: list[Pace] = []
    begun: list[int] = []
    for index, stage in enumerate(realization.stages):
        if index in idle:
            assert isinstance(stage, CHANGING)
            if paces:
                paces[-1] = replace(paces[-1], clocks=build.latency - start)
            begun.append(build.latency)
            pace = Pace(stage, 0, queue=0)
            if isinstance(stage, TapSum):
                pace = replace(pace, counts=walk_of(stage, not choices.reloadable).clocks(lanes.get(index, 1)))
            elif isinstance(stage, Network):
                pace = replace(pace, turn=turn_clocks(stage, source, stream.value.signal.width, build.pipeline))
            handed = None
            following = links.get(next((k for k in changing if k > index), -1), Link())
            if link.room is not None and isinstance(stage, Cic) and stage.down > 1 and following.room is None:
                # Nothing ever holds it up.
                circuit.drive(link.room, ALWAYS)
                pace = replace(pace, queue=ENDLESS)
            elif link.room is not None:
                pace = replace(pace, queue=pace.wanted_queue(build.latency - start, interval))
                handed = Handed(link, launched, pace.queue)
            if isinstance(stage, TapSum):
                port = write_port(build, stage, choices.double_buffer) if choices.reloadable else None
                own = idle[index], following, lanes.get(index, 1), port, handed
                stream, launched = rate_taps(build, stream, source, stage, *own)
            else:
                if handed is not None:
                    stream = stored(build, handed, stream, idle[index])
                if isinstance(stage, Cic):
                    stream, launched = rate_sums(build, stream, source, stage, idle[index], following)
                else:
                    stream, launched = rate_network(build, stream, source, stage, idle[index], following)
            start, interval = begun[-1] + pace.before, pace.interval()
            link, source = following, stage.result
            paces.append(pace)
        elif isinstance(stage, Requantize):
            stream, source = requantized(build, stream, stage, index), stage.target
        elif isinstance(stage, TapSum):
            stream, source = direct(build, stream, stage, None), stage.accumulator
        else:
            assert not isinstance(stage, Cic)
            stream, source = recursive(build, stream, stage, source, False), stage.result
    paces[-1] = replace(paces[-1], clocks=build.latency - start)
    build.row = Row(tuple(paces), begun[0], links.get(changing[0]) is not None)
    return stream, ready, build.row.clocks_a_sample()


def requantized(build: Builder, stream: Stream, stage: Requantize, index: int) -> Stream:
    """A rounding between stages, or the last."""
    raw = build.as_number(f"sum_{index}", stream.value, inner_width(stage.source))
    build.circuit.remark(f"From {stage.source} to {stage.target}, {stage.rounding}, {stage.overflow}.")
    number = build.rounded(f"round_{index}", raw, stage.source, stage.target, stage.rounding, stage.overflow)
    return Stream(stream.valid, Value(number, stage.target.least, stage.target.most))


def write_port(build: Builder, stage: TapSum, has_banks: bool = False) -> WritePort:
    """Ports for the coefficients. A swap reaches the taps with the sample that was taken at its clock edge, whatever that goes through
    before."""
    circuit = build.circuit
    bits = bits_for(len(stage.coefficients))
    width = stage.coefficient.bits + (not stage.coefficient.signed)
    made = WritePort(
        circuit.port("coefficient_write", 1, True, BIT), circuit.port("coefficient_address", bits, True, UNSIGNED),
        circuit.port("coefficient_data", width, True),
    )  # fmt: skip
    if not has_banks:
        return made
    return replace(made, swap=build.later(circuit.port("coefficient_swap", 1, True, BIT), build.latency))
