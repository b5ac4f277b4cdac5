"""Every stage as one flat list of sums: what the generic run and all analysis walk."""

from __future__ import annotations

from dataclasses import dataclass

from combe.arithmetic.formats import Format
from combe.arithmetic.network import INPUT, REST, Network, Node
from combe.arithmetic.section import Section
from combe.arithmetic.stages import Realization, Requantize, Stage, TapSum


@dataclass(frozen=True, slots=True)
class Product:
    """factor·signal[n − delay] in raw integers of the sum it belongs to. Signal 0 is the input, k+1 is step k."""

    signal: int
    delay: int
    factor: int
    is_rest: bool = False


@dataclass(frozen=True, slots=True)
class Step:
    """One sum and its rounding. ``name`` tells people where it is."""

    name: str
    products: tuple[Product, ...]
    accumulator: Format
    result: Format
    rounding: str
    overflow: str
    stage: int = 0

    @property
    def shift(self) -> int:
        """Bits cut off."""
        return self.accumulator.fraction - self.result.fraction


@dataclass(frozen=True, slots=True)
class Program:
    """Steps in order; the last signal of ``output`` is handed on."""

    input: Format
    steps: tuple[Step, ...]
    output: int

    def format_of(self, signal: int) -> Format:
        """The format of a signal."""
        return self.input if signal == 0 else self.steps[signal - 1].result

    @property
    def longest_delay(self) -> int:
        """The oldest sample any product needs."""
        return max((product.delay for step in self.steps for product in step.products), default=0)


def program_of(realization: Realization) -> Program:
    """All stages of a realization as one program."""
    return stages_program(realization.stages, realization.input)


def stages_program(stages: tuple[Stage, ...], source: Format) -> Program:
    """Stages in a row as one program."""
    steps: list[Step] = []
    arriving, signal = source, 0
    for index, stage in enumerate(stages):
        signal, arriving = _append(steps, stage, index, signal, arriving)
    return Program(source, tuple(steps), signal)


def _append(steps: list[Step], stage: Stage, index: int, signal: int, source: Format) -> tuple[int, Format]:
    if isinstance(stage, TapSum):
        products = tuple(Product(signal, delay, value) for delay, value in enumerate(stage.coefficients) if value)
        steps.append(Step("the sum of taps", products, stage.accumulator, stage.accumulator, "floor", "wrap", index))
    elif isinstance(stage, Section):
        steps.append(_section_step(stage, index, signal, len(steps) + 1, source))
    elif isinstance(stage, Network):
        return _append_network(steps, stage, index, signal, source)
    else:
        only = (Product(signal, 0, 1),)
        steps.append(Step("the output", only, stage.source, stage.target, stage.rounding, stage.overflow, index))
    return len(steps), steps[-1].result


def _section_step(stage: Section, index: int, signal: int, own: int, source: Format) -> Step:
    u, v = stage.shifts(source)
    forward = [Product(signal, delay, value << u) for delay, value in enumerate(stage.b) if value]
    back = [Product(own, delay, -(value << v)) for delay, value in enumerate(stage.a, 1) if value]
    name = f"section {index + 1}"
    return Step(
        name, (*forward, *back), stage.accumulator, stage.result, stage.rounding, stage.overflow, index
    )  # fmt: skip


def _append_network(steps: list[Step], stage: Network, index: int, signal: int, source: Format) -> tuple[int, Format]:
    nodes = {node.name: node for node in stage.nodes}
    numbers = {node.name: len(steps) + 1 + place for place, node in enumerate(stage.nodes)} | {INPUT: signal}
    for node in stage.nodes:
        products = tuple(_product(term.signal, term.delay, term.coefficient, term.format, node, nodes, numbers, source)
                         for term in node.terms if term.coefficient)  # fmt: skip
        steps.append(
            Step(
                f"{node.name} of stage {index + 1}", products, node.accumulator, node.result, node.rounding,
                node.overflow, index,
            )
        )  # fmt: skip
    return numbers[stage.output], nodes[stage.output].result


def _product(
    name: str, delay: int, value: int, entry: Format, node: Node, nodes: dict[str, Node], numbers: dict[str, int],
    source: Format,
) -> Product:  # fmt: skip
    is_rest = name.endswith(REST)
    base = name.removesuffix(REST)
    fraction = (
        source.fraction if base == INPUT
        else nodes[base].accumulator.fraction if is_rest
        else nodes[base].result.fraction
    )  # fmt: skip
    return Product(numbers[base], delay, value << (node.accumulator.fraction - fraction - entry.fraction), is_rest)


def gain_of(program: Program, step: Step, product: Product) -> float:
    """The real factor of a product: value of the sum for one unit of the signal's value."""
    if product.is_rest:
        fraction = program.steps[product.signal - 1].accumulator.fraction
    else:
        fraction = program.format_of(product.signal).fraction
    return product.factor * 2.0 ** (fraction - step.accumulator.fraction)


__all__ = ["Product", "Program", "Requantize", "Step", "gain_of", "program_of", "stages_program"]
