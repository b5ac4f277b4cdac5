"""Sections and networks at one sample a clock: every sum at once, what is remembered in registers."""

from __future__ import annotations

from combe.delivery.hdl.circuit import Number, Signal
from combe.delivery.hdl.fir_stream import graph_multiples, multiple_of
from combe.delivery.hdl.parts import Builder, Stream, Value, inner_width
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.program import Program, RawTerm, stages_program
from combe.realization.section import Section
from combe.rounding.search.adders import adder_graph


def recursive(
    build: Builder, stream: Stream, stage: Section | Network, source: Format, is_multiplierless: bool
) -> Stream:  # fmt: skip
    """One stage: sums and roundings of a sample follow each other within a clock, for the next one needs them.

    What a section takes from its input alone is summed a clock earlier.
    """
    program = stages_program((stage,), source)
    circuit = build.circuit
    circuit.remark(
        "A second-order section in direct form I." if isinstance(stage, Section) else f"A section: {stage.form}."
    )
    work = _Stage(build, program, stream, is_multiplierless, isinstance(stage, Section) and build.pipeline > 0)
    result, valid = work.built()
    kept = circuit.register("stage_out", result)
    build.latency += 1
    width = result.width
    return Stream(build.later(valid, 1), Value(kept, -(1 << (width - 1)), (1 << (width - 1)) - 1))


class _Stage:
    """Names and histories of one stage while it is written."""

    def __init__(
        self, build: Builder, program: Program, stream: Stream, is_multiplierless: bool, is_split: bool
    ) -> None:  # fmt: skip
        self.build, self.circuit, self.program = build, build.circuit, program
        self.is_multiplierless, self.is_split = is_multiplierless, is_split
        self.valid = stream.valid
        self.now: dict[tuple[int, bool], Signal] = {(0, False): stream.value.signal}
        self.past: dict[tuple[int, bool], list[Signal]] = {}
        self.multiples: dict[tuple[str], dict[int, Value]] = {}

    def built(self) -> tuple[Signal, Signal]:
        """The stage's result and when it is one."""
        depth: dict[tuple[int, bool], int] = {}
        for step in self.program.steps:
            for product in step.terms:
                key = product.signal, product.is_rest
                depth[key] = max(depth.get(key, 0), product.delay)
        for key, deepest in depth.items():
            width = self._width(key)
            self.past[key] = [self.circuit.new(f"past_{self._word(key)}_{age}", width) for age in range(1, deepest + 1)]
        later = self.valid
        for index in range(len(self.program.steps)):
            later = self._step(index)
        for key, signals in self.past.items():
            enable = self.valid if key[0] == 0 else later
            before = self.now[key]
            for signal in signals:
                self.circuit.clocked(signal, before, enable, 0)
                before = signal
        return self.now[self.program.output, False], later

    def _word(self, key: tuple[int, bool]) -> str:
        return ("input" if key[0] == 0 else f"node{key[0]}") + ("_rest" if key[1] else "")

    def _width(self, key: tuple[int, bool]) -> int:
        if key[0] == 0:
            return self.now[key].width
        step = self.program.steps[key[0] - 1]
        return step.shift + 2 if key[1] else inner_width(step.result)

    def _step(self, index: int) -> Signal:
        """One sum and its rounding; returns when it is one."""
        step, circuit = self.program.steps[index], self.circuit
        name = f"node{index + 1}"
        width = step.accumulator.bits + (not step.accumulator.signed)
        forward = [p for p in step.terms if p.signal == 0 and not p.is_rest]
        others = [p for p in step.terms if not (p.signal == 0 and not p.is_rest)]
        later = self.valid
        values = [self._product(f"{name}_forward_{k}", p) for k, p in enumerate(forward)]
        if self.is_split and values:
            total = self._tree(f"{name}_forward", values)
            kept = self.circuit.register(f"{name}_ahead", total.signal)
            values = [Value(kept, total.low, total.high, total.shift, total.sign)]
            self.build.latency += 1
            later = self.build.later(self.valid, 1)
        values += [self._product(f"{name}_back_{k}", p) for k, p in enumerate(others)]
        if values:
            total_signal = self.build.as_number(f"{name}_sum", self._tree(name, values), width)
        else:
            total_signal = circuit.wire(f"{name}_sum", Number(0, width))
        result = self.build.rounded(name, total_signal, step.accumulator, step.result, step.rounding, step.overflow)
        self.now[index + 1, False] = result
        if any(p.signal == index + 1 and p.is_rest for each in self.program.steps for p in each.terms):
            self.now[index + 1, True] = self._rest(index, total_signal)
        return later

    def _rest(self, index: int, total: Signal) -> Signal:
        """What the rounding cut off: the sum less the rounded value, before any limit."""
        step, circuit = self.program.steps[index], self.circuit
        shift, width = step.shift, step.shift + 2
        name = f"node{index + 1}_cut"
        if shift <= 0:
            return circuit.wire(name, Number(0, width))
        wide = Format(True, total.width + 2, 0)
        rounded = self.build.rounded(f"{name}_by", total, Format(True, total.width, shift), wide, step.rounding, "wrap")
        whole = circuit.fit(circuit.left(rounded, shift), width)
        return circuit.wire(name, circuit.add(circuit.fit(total, width), whole, width, -1))

    def _product(self, name: str, product: RawTerm) -> Value:
        key = product.signal, product.is_rest
        signal = self.now[key] if product.delay == 0 else self.past[key][product.delay - 1]
        reach = 1 << (signal.width - 1)
        source = Value(signal, -reach, reach - 1)
        if not self.is_multiplierless:
            return self.build.times(name, source, product.coefficient, False)
        before, self.build.pipeline = self.build.pipeline, 0
        found, _ = graph_multiples(
            self.build, source, (product.coefficient,), adder_graph((product.coefficient,)), name
        )
        self.build.pipeline = before
        return multiple_of(found, product.coefficient)

    def _tree(self, name: str, values: list[Value]) -> Value:
        before, self.build.pipeline = self.build.pipeline, 0
        total, _ = self.build.tree(f"{name}_add", values)
        self.build.pipeline = before
        return total
