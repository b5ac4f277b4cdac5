"""The largest value any input can cause at every step, roundings included, and the width that holds it."""

from __future__ import annotations

from math import ceil, floor

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.linear import LinearProgram
from combe.designing.rates.stages import RateStage
from combe.realization.formats import Format, narrowest_signed
from combe.realization.network import Network
from combe.realization.program import Program, Step
from combe.realization.stages import Realization, Stage

Array = NDArray[np.float64]


class Bound(Struct, frozen=True):
    """No input makes the rounded value of a step leave ``least`` to ``most`` (raw, were the format wide enough)."""

    name: str
    stage: int
    result: Format
    least: int
    most: int

    @property
    def needed_bits(self) -> int:
        """Bits of the narrowest signed format with this binary point that can never overflow."""
        return narrowest_signed(self.least, self.most)

    @property
    def is_safe(self) -> bool:
        """Whether the format holds all of it."""
        return self.result.holds(self.least) and self.result.holds(self.most)


def bounds(realization: Realization) -> list[Bound]:
    """A bound for every step.

    Raises
    ------
    FormatError
        Beyond the number of words of state bounds are found for.
    """
    if realization.changes_rate:
        return _rate_bounds(realization)
    program = realization.program
    low, high = worst_values(program)
    return [
        Bound(step.name, step.stage, step.result, floor(low[k] + 1e-9), ceil(high[k] - 1e-9))
        for k, step in enumerate(program.steps)
    ]


def _rate_bounds(realization: Realization) -> list[Bound]:
    """Where the rate changes: per stage, and per sum of a network, what any input and half a step or a step of every rounding before
    it can make."""
    from combe.analysis.network_paths import norms, stages_to_sums
    from combe.analysis.rates import rate_stages, spread_of

    entry = realization.input
    middle = (entry.most + entry.least) / 2 * entry.step
    half = (entry.most - entry.least) / 2 * entry.step
    errors: list[_Error] = []
    found = []
    for index, stage in enumerate(realization.stages):
        is_network = isinstance(stage, Network)
        own = _errors_of(stage, index)
        if not is_network:
            errors += own
        ways, gain = rate_stages(realization.stages[: index + (not is_network)])
        places = [ways]
        if isinstance(stage, Network):
            places = [[*ways, to_sum] for to_sum in stages_to_sums(stage)]
        for place, before in enumerate(places):
            center, reach = spread_of(before, gain, middle, half)
            for one in errors:
                behind, own_gain = rate_stages(realization.stages[one.after : index + (not is_network)])
                if isinstance(stage, Network):
                    behind = [*behind, stages_to_sums(stage)[place]]
                moved, wide = spread_of(
                    [*one.first, *behind], own_gain, (one.up + one.down) / 2, (one.up - one.down) / 2
                )
                center, reach = (center[0] + moved[0], center[1] + moved[1]), reach + wide
            low, high = center[0] - reach, center[1] + reach
            if isinstance(stage, Network):
                node = stage.nodes[place]
                for source, answer in enumerate(norms(stage)):
                    down, up = _node_limits(stage, source)
                    low += (
                        answer.positive[place] * down
                        + answer.negative[place] * up
                        - answer.tail[place] * max(-down, up)
                    )
                    high += (
                        answer.positive[place] * up
                        + answer.negative[place] * down
                        + answer.tail[place] * max(-down, up)
                    )
                is_out = node.name == stage.output and index == len(realization.stages) - 1
                found.append(
                    _bound("the output" if is_out else stage.title(index, node), index, node.result, low, high)
                )
            else:
                name = "the output" if index == len(realization.stages) - 1 else f"stage {index + 1}"
                found.append(_bound(name, index, stage.result, low, high))
        if is_network:
            errors += own
    return found


class _Error(Struct, frozen=True):
    """What a rounding can add at least and at most, and the way on: ``first`` within its network, then the stages from ``after`` on."""

    down: float
    up: float
    after: int
    first: tuple[RateStage, ...] = ()


def _errors_of(stage: Stage, index: int) -> list[_Error]:
    """Of all roundings of a stage."""
    from combe.analysis.network_paths import paths_out
    from combe.analysis.rates import register_limits, rounding_step

    if isinstance(stage, Network):
        limits = [_node_limits(stage, source) for source in range(len(stage.nodes))]
        if stage.phase is not None:
            # A phase may turn the sign of an error.
            limits = [(min(down, -up), max(up, -down)) for down, up in limits]
        return [
            _Error(down, up, index + 1, (path,))
            for (down, up), path in zip(limits, paths_out(stage))
            if down or up
        ]  # fmt: skip
    step = rounding_step(stage)
    down, up = error_limits(step) if step is not None else register_limits(stage)
    return [_Error(down, up, index + 1)] if down or up else []


def _node_limits(stage: Network, source: int) -> tuple[float, float]:
    from combe.analysis.network_paths import own_program

    return error_limits(own_program(stage).steps[source])


def _bound(name: str, index: int, entry: Format, low: float, high: float) -> Bound:
    return Bound(name, index, entry, floor(low / entry.step + 1e-9), ceil(high / entry.step - 1e-9))


def worst_values(program: Program) -> tuple[Array, Array]:
    """The least and the largest rounded result of each step, raw, over every input and every error roundings can make.

    Σ|h| from the input and Σ|h| from each rounding, tails bounded: if nothing overflows by this count, nothing ever does.
    """
    flow = LinearProgram.of(program)
    unit = program.input.step
    low_in, high_in = program.input.least * unit, program.input.most * unit
    errors = [error_limits(step) for step in program.steps]
    sources = [index for index, (down, up) in enumerate(errors) if down or up]
    norms, *paths = flow.norms_of([0, *(index + 1 for index in sources)])
    far = max(-low_in, high_in)
    high = norms.positive * high_in + norms.negative * low_in + norms.tail * far
    low = norms.positive * low_in + norms.negative * high_in - norms.tail * far
    for index, path in zip(sources, paths):
        down, up = errors[index]
        reach = max(-down, up)
        high += path.positive * up + path.negative * down + path.tail * reach
        low += path.positive * down + path.negative * up - path.tail * reach
    scale = np.array([step.result.step for step in program.steps])
    return low / scale, high / scale


def error_limits(step: Step) -> tuple[float, float]:
    """The least and the largest error of a rounding (result less sum), as values."""
    if step.shift <= 0:
        return 0.0, 0.0
    whole = step.result.step
    if step.rounding.startswith("nearest"):
        return -whole / 2, whole / 2
    finest = whole * (1 - 2.0**-step.shift)
    return (-finest, 0.0) if step.rounding == "floor" else (-finest, finest)
