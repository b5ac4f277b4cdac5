"""Every stage as one flat list of sums: what the generic run and all analysis walk."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from typing import Protocol

from msgspec import Struct

from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.network import NamedTerm, Network, Node
from combe.realization.term import INPUT, Term

RawTerm = Term[int, int]
"""Signal 0 is the input, k+1 is step k; the coefficient is a raw integer in steps of the sum it belongs to."""


class Readable(Protocol):
    """What is read as a network: every kind of stage."""

    def network(self, source: Format, /) -> Network:
        """Its sums."""
        ...

    def title(self, index: int, node: Node, /) -> str:
        """What people call one of them."""
        ...


class Step(Struct, frozen=True):
    """One sum and its rounding. ``name`` tells people where it is."""

    name: str
    terms: tuple[RawTerm, ...]
    accumulator: Format
    result: Format
    rounding: str
    overflow: str
    stage: int = 0

    @property
    def shift(self) -> int:
        """Bits cut off."""
        return self.accumulator.fraction - self.result.fraction


class Program(Struct, frozen=True):
    """Steps in order; the last signal of ``output`` is handed on."""

    input: Format
    steps: tuple[Step, ...]
    output: int

    def format_of(self, signal: int) -> Format:
        """The format of a signal."""
        return self.input if signal == 0 else self.steps[signal - 1].result

    @property
    def longest_delay(self) -> int:
        """The oldest sample any term needs."""
        return max((term.delay for step in self.steps for term in step.terms), default=0)


def stages_program(stages: Iterable[Readable], source: Format) -> Program:
    """Stages in a row as one program: each is read as a network."""
    steps: list[Step] = []
    arriving, signal = source, 0
    for index, stage in enumerate(stages):
        signal, arriving = _append(steps, stage, index, signal, arriving)
    return Program(source, tuple(steps), signal)


def _append(steps: list[Step], stage: Readable, index: int, signal: int, source: Format) -> tuple[int, Format]:
    network = stage.network(source)
    if network.phase is not None:
        raise FormatError("the coefficients of a network with a phase change with each output", "stages")
    nodes = {node.name: node for node in network.nodes}
    numbers = {node.name: len(steps) + 1 + place for place, node in enumerate(network.nodes)} | {INPUT: signal}
    for node in network.nodes:
        terms = tuple(_numbered(term, node, nodes, numbers, source) for term in node.terms if term.coefficient)
        steps.append(
            Step(
                stage.title(index, node), terms, node.accumulator, node.result, node.rounding, node.overflow, index
            )
        )  # fmt: skip
    return numbers[network.output], nodes[network.output].result


def _numbered(
    term: NamedTerm, node: Node, nodes: dict[str, Node], numbers: dict[str, int], source: Format
) -> RawTerm:  # fmt: skip
    """The term with its coefficient in steps of the sum."""
    fraction = (
        source.fraction if term.signal == INPUT
        else nodes[term.signal].accumulator.fraction if term.is_rest
        else nodes[term.signal].result.fraction
    )  # fmt: skip
    raw = term.coefficient << (node.accumulator.fraction - fraction - term.format.fraction)
    return Term(numbers[term.signal], term.delay, raw, is_rest=term.is_rest)


def gain_of(program: Program, step: Step, term: RawTerm) -> Fraction:
    """The exact factor of a term: value of the sum for one unit of the signal's value."""
    if term.is_rest:
        fraction = program.steps[term.signal - 1].accumulator.fraction
    else:
        fraction = program.format_of(term.signal).fraction
    return term.coefficient * Fraction(2) ** (fraction - step.accumulator.fraction)
