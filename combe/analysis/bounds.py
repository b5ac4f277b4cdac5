"""The largest value any input can cause at every step, roundings included, and the width that holds it."""

from __future__ import annotations

from math import ceil, floor

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.linear import LinearProgram
from combe.realization.formats import Format, narrowest_signed
from combe.realization.program import Program, Step
from combe.realization.stages import Realization

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
    """Where the rate changes: per stage what any input, and half a step or a step of every rounding before it, can make."""
    from combe.analysis.rates import register_limits, rounding_step, spread

    entry = realization.input
    middle = (entry.most + entry.least) / 2 * entry.step
    half = (entry.most - entry.least) / 2 * entry.step
    found = []
    for index, stage in enumerate(realization.stages):
        stages = realization.stages[: index + 1]
        center, reach = spread(stages, middle, half)
        for place, before in enumerate(stages):
            step = rounding_step(before)
            down, up = error_limits(step) if step is not None else register_limits(before)
            if down or up:
                moved, wide = spread(stages[place + 1 :], (up + down) / 2, (up - down) / 2)
                center, reach = (center[0] + moved[0], center[1] + moved[1]), reach + wide
        unit = stage.result.step
        name = "the output" if index == len(realization.stages) - 1 else f"stage {index + 1}"
        least, most = (center[0] - reach) / unit, (center[1] + reach) / unit
        found.append(Bound(name, index, stage.result, floor(least + 1e-9), ceil(most - 1e-9)))
    return found


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
