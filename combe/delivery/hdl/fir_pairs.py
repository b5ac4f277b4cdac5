"""Symmetric taps on few multipliers: samples that share a coefficient are added before they are multiplied.

Two rows of memories, one for each lane of either: young samples go through the lanes in order, and leave the last of them
for the old ones, which go back through the lanes. So what a lane reads at an index is a sample and the one that
mirrors it.
"""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.circuit import UNSIGNED, Memory, Number, Op, Signal, below, bits_for, equals, flag_and
from combe.delivery.hdl.fir_mac import Flags, Sequenced, Sequencer, lane_coefficients, product_of, summed
from combe.delivery.hdl.parts import Builder, Stream
from combe.realization.formats import Format
from combe.realization.stages import TapSum


class Pairs(Struct, frozen=True):
    """How pairs of taps lie on lanes: so many of them and a middle tap, ``count`` clocks on each of ``lanes``."""

    pairs: int
    middle: int
    count: int
    lanes: int

    @staticmethod
    def of(stage: TapSum, lanes: int) -> Pairs:
        """On as many of these lanes as have anything to do."""
        taps = len(stage.coefficients)
        count = -(-((taps + 1) // 2) // lanes)
        return Pairs(taps // 2, taps % 2, count, -(-((taps + 1) // 2) // count))

    def back(self, lane: int) -> int:
        """Mirrored samples a lane holds."""
        return min(max(self.pairs - lane * self.count, 0), self.count)


def is_paired(stage: TapSum, is_fixed: bool) -> bool:
    """Whether taps are the same from both ends and stay so."""
    return is_fixed and bool(stage.symmetry) and len(stage.coefficients) > 2


def clocks_of_taps(stage: TapSum, lanes: int, is_fixed: bool) -> int:
    """Clocks that so many multipliers take for one sample's taps."""
    taps = len(stage.coefficients)
    return -(-((taps + 1) // 2 if is_paired(stage, is_fixed) else taps) // lanes)


def paired(build: Builder, stream: Stream, source: Format, stage: TapSum, lanes: int) -> Sequenced:
    """Half as many clocks as taps on each lane, and one to store the sample."""
    circuit, plan = build.circuit, Pairs.of(stage, lanes)
    run = Sequencer.of(build, stream, plan.count, f"{plan.count} clocks go through the pairs of each lane")
    known = run.known(circuit)
    place = run.place(circuit)
    young, carried = [], stream.value.signal
    for lane in range(plan.lanes):
        carried = _read(build, run, f"young_{lane}", carried, place, known, f"Young samples of lane {lane}.")
        young.append(carried)
    last = (plan.pairs + plan.middle - 1) - (plan.lanes - 1) * plan.count
    old = _mirrored(build, run, plan, _held(build, run, "crossing", young[-1], last, plan.count))
    before = circuit.register("index_before", run.index)
    products = []
    for lane in range(plan.lanes):
        own = [_tap(stage, plan, lane * plan.count + k) for k in range(plan.count)]
        factor = lane_coefficients(build, lane, own, stage, before, bits_for(plan.count), plan.count, None)
        pair = _pair(build, lane, stage, young[lane], old[lane])
        made = circuit.register(f"product_{lane}", Op("mul", (factor, pair), factor.width + pair.width))
        products.append(product_of(stage, source, made, 2))
    flags = Flags(*(build.later(flag, 1) for flag in (run.busy, run.first, run.at_end)))
    build.latency += 1
    return Sequenced(summed(build, stage, products, flags, plan.count), run.ready, plan.count + 1)


def _tap(stage: TapSum, plan: Pairs, place: int) -> int:
    return stage.coefficients[place] if place < plan.pairs + plan.middle else 0


def _pair(build: Builder, lane: int, stage: TapSum, young: Signal, old: Signal | None) -> Signal:
    """The sum, or the difference, of a sample and its mirror, in a register."""
    circuit = build.circuit
    if old is None:
        return circuit.register(f"pair_{lane}", circuit.fit(young, young.width + 1))
    return circuit.register(f"pair_{lane}", circuit.add(young, old, young.width + 1, stage.symmetry))


def _mirrored(build: Builder, run: Sequencer, plan: Pairs, carried: Signal) -> list[Signal | None]:
    """The old samples of each lane, from the last lane to the first: the oldest of each is read first, and handed on."""
    circuit, index, bits = build.circuit, run.index, run.pointer.width
    found: list[Signal | None] = [None] * plan.lanes
    looked: dict[int, tuple[Signal, Signal]] = {}
    for lane in reversed(range(plan.lanes)):
        held = plan.back(lane)
        if not held:
            continue
        if held not in looked:
            circuit.remark(f"Of {held} mirrored samples the oldest is read first.")
            newest = Number(held - 1, index.width, UNSIGNED)
            age = circuit.wire("age_back", Op("sub", (newest, index), index.width, UNSIGNED))
            has_come = below(age, run.filled)
            if held < plan.count:
                has_come = flag_and(below(index, Number(held, index.width, UNSIGNED)), has_come)
            where = Op("sub", (run.pointer, circuit.fit(age, bits)), bits, UNSIGNED)
            looked[held] = circuit.wire("place_back", where), circuit.register("known_back", has_come, None, 0)
        old = _read(build, run, f"old_{lane}", carried, *looked[held], f"Old samples of lane {lane}.")
        found[lane] = old
        carried = _held(build, run, f"oldest_{lane}", old, 0, plan.count) if lane else old
    return found


def _held(build: Builder, run: Sequencer, name: str, read: Signal, at: int, count: int) -> Signal:
    """What is read at an index, kept until the next sample; the last index is where reading rests."""
    if at == count - 1:
        return read
    circuit = build.circuit
    here = run.first if not at else circuit.wire(f"{name}_read", flag_and(run.busy, equals(run.index, at)))
    return circuit.register(name, read, build.later(here, 1), 0)


def _read(
    build: Builder, run: Sequencer, name: str, data: Signal, place: Signal, known: Signal, comment: str
) -> Signal:  # fmt: skip
    """A lane's memory of samples, 0 where none had come."""
    circuit = build.circuit
    read = circuit.new(f"read_{name}", data.width)
    circuit.memory(
        Memory(f"samples_{name}", data.width, (0,) * (1 << run.pointer.width), place, read, run.accept,
               run.next_pointer, data, comment=comment, alternates=True)
    )  # fmt: skip
    return circuit.mux(name, known, read, Number(0, data.width))
