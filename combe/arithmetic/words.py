"""Stages in a few words, for people."""

from __future__ import annotations

from combe.arithmetic.section import Section
from combe.arithmetic.stages import Stage, TapSum


def stage_words(stage: Stage) -> str:
    """What a stage is, with its formats."""
    if isinstance(stage, TapSum):
        return (
            f"{stage.form} sum of {len(stage.coefficients)} taps, {stage.coefficient}, accumulator {stage.accumulator}"
        )
    if isinstance(stage, Section):
        return f"section, b {stage.numerator}, a {stage.denominator}, accumulator {stage.accumulator}, state {stage.result}"
    return f"{stage.source} to {stage.target}, {stage.rounding}, {stage.overflow}"


def coefficient_words(stages: tuple[Stage, ...]) -> str:
    """The formats of all coefficients."""
    found: list[str] = []
    for stage in stages:
        if isinstance(stage, TapSum):
            found.append(str(stage.coefficient))
        elif isinstance(stage, Section):
            found += [str(stage.numerator), str(stage.denominator)]
    return ", ".join(dict.fromkeys(found))


def widest_sum(stages: tuple[Stage, ...]) -> int:
    """Bits of the widest accumulator."""
    return max((stage.accumulator.bits for stage in stages if isinstance(stage, (TapSum, Section))), default=0)
