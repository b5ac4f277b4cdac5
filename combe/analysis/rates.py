"""What follows of a program that changes the rate: one filter at the highest rate, largest values, and noise.

A rounding at one place reaches the output through the stages behind it; of those that drop samples every one counts alike,
of those that stuff zeros each phase has its own share, and what is told is their mean (Vaidyanathan 1993).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from combe.analysis.network_paths import network_stage
from combe.designing.rates.stages import RateStage, prototype_of
from combe.errors import FormatError
from combe.filters import Fir
from combe.realization.cic import Cic
from combe.realization.network import Network
from combe.realization.program import Step, stages_program
from combe.realization.pruning import error_limits, error_powers
from combe.realization.stages import Realization, Requantize, Stage, TapSum
from combe.values import replace

Array = NDArray[np.float64]


def rate_stages(stages: Sequence[Stage]) -> tuple[list[RateStage], float]:
    """The stages as exact filters with a gain of their own taken out of sums in a row, and that gain.

    Raises
    ------
    FormatError
        If one is a section, or grows without bound.
    """
    found, gain = [], 1.0
    for stage in stages:
        if isinstance(stage, TapSum):
            taps = tuple(value * stage.coefficient.step for value in stage.coefficients)
            found.append(RateStage("taps", stage.up, stage.down, taps))
        elif isinstance(stage, Cic):
            found.append(RateStage("cic", stage.up, stage.down, (), stage.order, stage.delay))
            gain *= stage.gain
        elif isinstance(stage, Network):
            found.append(network_stage(stage))
        elif not isinstance(stage, Requantize):
            raise FormatError("sections beside a change of rate are not looked at as one filter", "stages")
    return found, gain


def program_stages(realization: Realization) -> tuple[RateStage, ...]:
    """The stages as exact filters in a row whose gains are those of the program: what sums make values larger by is taken into
    the taps nearest to them."""
    found, gain = rate_stages(realization.stages)
    place = next((k for k, stage in enumerate(found) if stage.kind == "taps"), None)
    if gain == 1.0 or place is None:
        return tuple(found)
    taps = tuple(tap * gain for tap in found[place].taps)
    return tuple(replace(stage, taps=taps) if k == place else stage for k, stage in enumerate(found))


def prototype_of_program(realization: Realization) -> Fir:
    """All taps as one filter at the highest rate, with a gain of 1 from input to output where the program has that."""
    stages, gain = rate_stages(realization.stages)
    whole = prototype_of(stages)
    if gain == 1.0:
        return whole
    return Fir(tuple(tap * gain for tap in whole.taps))


def spread(
    stages: Sequence[Stage], middle: float, half: float
) -> tuple[tuple[float, float], float]:  # fmt: skip
    """What these stages make of values within ``half`` of ``middle``: where the middle comes to lie, least and most over the
    phases, and how far around it the outputs reach at most."""
    return spread_of(*rate_stages(stages), middle, half)


def spread_of(
    found: Sequence[RateStage], gain: float, middle: float, half: float
) -> tuple[tuple[float, float], float]:  # fmt: skip
    """The same of stages as exact filters, and the gain of sums in a row among them."""
    if not found:
        return (middle, middle), half
    up = int(np.prod([stage.up for stage in found]))
    whole = prototype_of(found).array * gain * up
    phases = [whole[phase::up] for phase in range(min(up, len(whole)))]
    sums = [float(np.sum(phase)) * middle for phase in phases]
    return (min(sums), max(sums)), half * max(float(np.sum(np.abs(phase))) for phase in phases)


def rounding_step(stage: Stage) -> Step | None:
    """A requantization as a step by itself."""
    if not isinstance(stage, Requantize):
        return None
    return stages_program((stage,), stage.source).steps[0]


def rate_roundings(realization: Realization) -> list[tuple[int, Step]]:
    """Every requantization with its place among the stages, named for people."""
    found = []
    for index, stage in enumerate(realization.stages):
        step = rounding_step(stage)
        if step is not None:
            name = "the output" if index == len(realization.stages) - 1 else f"stage {index + 1}"
            found.append((index, replace(step, name=name)))
    return found


def register_cuts(realization: Realization) -> list[tuple[int, float, float]]:
    """Of sums in a row whose registers leave bits out: the place among the stages, variance and mean of what that does to what they
    give, as values."""
    found = []
    for index, stage in enumerate(realization.stages):
        if isinstance(stage, Cic) and stage.discarded:
            parts = error_powers(stage.discarded, stage.order, stage.factor, stage.delay)
            step = stage.accumulator.step
            found.append((index, sum(power for power, _ in parts) * step**2, sum(mean for _, mean in parts) * step))
    return found


def registers_of(index: int) -> str:
    """What the share of noise of a stage's registers is called."""
    return f"the registers of stage {index + 1}"


def register_limits(stage: Stage) -> tuple[float, float]:
    """The least and the largest error of what a stage gives by what its registers leave out, as values."""
    if not isinstance(stage, Cic) or not stage.discarded:
        return 0.0, 0.0
    low, high = error_limits(stage.discarded, stage.order, stage.factor, stage.delay)
    return low * stage.accumulator.step, high * stage.accumulator.step


def phase_steps(realization: Realization, index: int, step: Step) -> list[Step]:
    """A rounding once for each phase of the taps before it, as it acts there: a phase that copies samples leaves most of the
    bits that are cut off at zero, one of zeros leaves nothing to round."""
    before = realization.stages[index - 1] if index else None
    if not isinstance(before, TapSum):
        return [step]
    term = step.terms[0]
    phases = (before.coefficients[phase :: before.up] for phase in range(before.up))
    return [
        replace(
            step,
            terms=tuple(replace(term, coefficient=value) for value in own if value)
            or (replace(term, coefficient=1 << step.shift),),
        )
        for own in phases
    ]


def path_power(stages: Sequence[Stage], first: Sequence[RateStage] = ()) -> float:
    """Mean power at the output for white noise of power 1 in front of these stages, and of ``first`` before them."""
    found, gain = rate_stages(stages)
    found = [*first, *found]
    if not found:
        return 1.0
    whole = prototype_of(found).array * gain
    up = int(np.prod([stage.up for stage in found]))
    return float(np.sum(whole * whole)) * up


def path_gain(stages: Sequence[Stage], first: Sequence[RateStage] = ()) -> float:
    """What becomes of a constant."""
    found, gain = rate_stages(stages)
    found = [*first, *found]
    return float(np.sum(prototype_of(found).array)) * gain if found else 1.0
