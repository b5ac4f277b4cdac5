"""A network with a phase, bit for bit: computed once for each output, at the place between two samples where that lies."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.realization.formats import Format
from combe.realization.network import NamedTerm, Network, Node
from combe.realization.phases import WHOLE_BITS, phase_of
from combe.realization.stages import Requantize
from combe.realization.term import INPUT
from combe.running.requantized import requantized

Integers = NDArray[Any]
NARROW = 62
"""Bits of sums that numbers of 64 bits hold whatever is added on the way."""


class Steps(Struct, frozen=True):
    """A ratio set by hand: samples of the input from one output to the next, the fraction in parts of 2^31."""

    whole: int
    fraction: int


class PhasedFlow:
    """The sums of all outputs of a piece side by side; the newest samples stay for the next one.

    ``steps`` take the place of the network's own ratio, as generated code lets it be set.
    """

    def __init__(self, stage: Network, source: Format, steps: Steps | None = None) -> None:
        assert stage.phase is not None
        self.stage, self.source, self.phase, self.steps = stage, source, stage.phase, steps
        self.nodes = {node.name: node for node in stage.nodes}
        bits = [source.bits, *(max(node.accumulator.bits, node.result.bits) for node in stage.nodes)]
        lifts = [node.accumulator.bits - min(node.shift, 0) for node in stage.nodes]
        self.kind: Any = np.int64 if max(*bits, *lifts) <= NARROW else object
        self.phases = np.array(stage.phases, dtype=self.kind)
        depth = max((term.delay for node in stage.nodes for term in node.terms), default=0)
        self.past = np.zeros(depth, dtype=self.kind)
        self.ahead = 0
        """Where the next output stands, counted from the next input: in parts of 1/up, or of 2^-31 where steps are set."""

    def take(self, signal: Integers) -> Integers:
        """The next outputs."""
        every = np.concatenate([self.past, signal.astype(self.kind)])
        if self.steps is None:
            parts, step = self.stage.up, self.stage.down
        else:
            parts, step = 1 << WHOLE_BITS, (self.steps.whole << WHOLE_BITS) + self.steps.fraction
        spots = np.arange(self.ahead, len(signal) * parts, step, dtype=np.int64)
        self.ahead += len(spots) * step - len(signal) * parts
        newest = spots // parts + len(self.past)
        if self.steps is None:
            phase = self.phases[spots % parts]
        else:
            phase = np.array([phase_of(place, 0, self.phase) for place in (spots % parts).tolist()], dtype=self.kind)
        self.past = every[len(every) - len(self.past) :].copy()
        return self._outputs(every, newest, phase)

    def _outputs(self, every: Integers, newest: Integers, phase: Integers) -> Integers:
        values: dict[str, Integers] = {}
        for node in self.stage.nodes:
            total = np.zeros(len(newest), dtype=self.kind)
            for term in node.terms:
                operand = every[newest - term.delay] if term.signal == INPUT else values[term.signal].astype(self.kind)
                total += self._factor(node, term, phase) * operand
            rounding = Requantize(node.accumulator, node.result, node.rounding, node.overflow)
            values[node.name] = requantized(rounding, total)
        return values[self.stage.output]

    def _factor(self, node: Node, term: NamedTerm, phase: Integers) -> Any:
        """A coefficient in steps of its sum: one number, or one for each output."""
        entry = self.source if term.signal == INPUT else self.nodes[term.signal].result
        shift = node.accumulator.fraction - entry.fraction - term.format.fraction
        return phase << shift if term.is_turned else term.coefficient << shift
