"""Stages in a few words, for people."""

from __future__ import annotations

from combe.realization.cic import Cic
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Stage, TapSum


def stage_words(stage: Stage) -> str:
    """What a stage is, with its formats."""
    if isinstance(stage, TapSum):
        return (
            f"{stage.form} sum of {len(stage.coefficients)} taps{ratio_words(stage)}, {stage.coefficient}, "
            f"accumulator {stage.accumulator}"
        )
    if isinstance(stage, Cic):
        pruned = f", registers of {register_words(stage)}" if stage.discarded else ""
        length = stage.factor * stage.delay
        return f"{stage.order} sums in a row over {length} samples{ratio_words(stage)}, {stage.accumulator}{pruned}"
    if isinstance(stage, Section):
        return f"section, b {stage.numerator}, a {stage.denominator}, accumulator {stage.accumulator}, state {stage.result}"
    if isinstance(stage, Network):
        kept = ", ".join(f"{node.name} {node.result}" for node in stage.nodes[:8])
        more = f" and {len(stage.nodes) - 8} more" if len(stage.nodes) > 8 else ""
        return f"{stage.form}{ratio_words(stage)}, {len(stage.nodes)} sums of up to {widest_sum((stage,))} bits: {kept}{more}"
    return f"{stage.source} to {stage.target}, {stage.rounding}, {stage.overflow}"


def register_words(stage: Cic) -> str:
    """How wide sums in a row are: ``32 bits``, or ``33 to 21 bits`` where registers leave bits out."""
    whole = stage.accumulator.bits
    if not stage.discarded:
        return f"{whole} bits"
    return f"{whole - stage.discarded[0]} to {whole - stage.discarded[-1]} bits"


def ratio_words(stage: TapSum | Cic | Network) -> str:
    """How a stage changes the rate: `` ×3 ÷2``; empty where it doesn't."""
    return (f" ×{stage.up}" if stage.up > 1 else "") + (f" ÷{stage.down}" if stage.down > 1 else "")


def coefficient_words(stages: tuple[Stage, ...]) -> str:
    """The formats of all coefficients; those of ones aside."""
    return ", ".join(dict.fromkeys(str(entry) for stage in stages for entry in stage.coefficient_formats))


def widest_sum(stages: tuple[Stage, ...]) -> int:
    """Bits of the widest accumulator."""
    return max((entry.bits for stage in stages for entry in stage.accumulators), default=0)
