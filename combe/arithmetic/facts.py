"""What the arithmetic of a realization means, in sentences; each computed from its stages."""

from __future__ import annotations

from dataclasses import dataclass
from math import log10, sqrt

from combe.arithmetic.limit_cycles import zero_input_cycles
from combe.arithmetic.section import Section
from combe.arithmetic.noise import noise_power
from combe.arithmetic.run import requantized_integer
from combe.arithmetic.stages import Realization, Requantize, TapSum


@dataclass(frozen=True, slots=True)
class Fact:
    """A sentence, and how much it matters: ``muted`` for the record, ``amber`` for a warning, ``clay`` for a fault."""

    weight: str
    sentence: str


def facts(realization: Realization, with_cycles: bool = True) -> list[Fact]:
    """Accumulator, headroom, rounding noise and what the smallest inputs become; limit cycles of sections on request,
    for following every state takes a moment."""
    found: list[Fact] = []
    for stage, source in zip(realization.stages, realization.formats()):
        if isinstance(stage, TapSum):
            least, most = stage.span(source)
            c_bits = 32 if stage.accumulator.bits <= 32 else 64
            found.append(
                Fact(
                    "muted",
                    f"Accumulator {stage.accumulator}: sums run from {least} to {most}, so none can overflow.".replace(
                        "-", "−"
                    ),
                )
            )
            if stage.accumulator.bits > 32:
                found.append(
                    Fact(
                        "muted",
                        f"In C it takes a {c_bits}-bit sum; {stage.accumulator.bits - 32} bits fewer would fit 32.",
                    )
                )
        elif isinstance(stage, Section):
            found.append(_section_fact(stage, realization, with_cycles))
    if realization.is_recursive:
        return found + _recursive_noise(realization)
    found += _range(realization)
    found += _noise(realization)
    return found


def _section_fact(stage: Section, realization: Realization, with_cycles: bool) -> Fact:
    words = f"Section: {stage.accumulator} holds every sum, {stage.result} every state."
    if not with_cycles:
        return Fact("muted", words)
    cycles = zero_input_cycles(stage)
    loud = cycles.amplitude * stage.result.step > realization.output.step / 2
    return Fact("amber" if loud else "muted", f"{words} {cycles.sentence()}")


def _recursive_noise(realization: Realization) -> list[Fact]:
    power = noise_power(realization)
    full = (realization.output.most - realization.output.least) / 2
    ratio = 20 * log10(full / sqrt(2) / sqrt(power))
    words = (
        f"All roundings together come to {sqrt(power):.2f} output steps rms: {ratio:.1f} dB under a full-scale sine."
    )
    return [Fact("muted" if power < 1 else "amber", words)]


def _range(realization: Realization) -> list[Fact]:
    """Whether the largest possible output fits, and from which input level on it doesn't."""
    stages = realization.stages
    if len(stages) != 2 or not isinstance(stages[0], TapSum) or not isinstance(stages[1], Requantize):
        return []
    requantize = stages[1]
    least, most = stages[0].span(realization.input)
    free = Requantize(requantize.source, requantize.target, requantize.rounding, requantize.overflow)
    ends = [requantized_integer(free, raw) for raw in (least, most)]
    shift = requantize.source.fraction - requantize.target.fraction
    high, low = most / 2**shift, least / 2**shift
    room = min(realization.output.most / high if high > 0 else 9.9, realization.output.least / low if low < 0 else 9.9)
    if room >= 1 or (ends[0] > realization.output.least and ends[1] < realization.output.most):
        return [Fact("muted", "Even the worst input stays inside the output's range.")]
    what = "saturates" if requantize.overflow == "saturate" else "WRAPS AROUND"
    weight = "muted" if requantize.overflow == "saturate" else "clay"
    level = 20 * log10(room)
    return [
        Fact(weight, f"The worst input {what}: inputs up to {level:.1f} dB of full scale never do.".replace("-", "−"))
    ]


def _noise(realization: Realization) -> list[Fact]:
    """Power of the output rounding against a full-scale sine, by the discrete variance of the bits cut off.

    Source: Widrow & Kollár (2008), "Quantization noise": a quantizer that drops b bits of an integer adds
    (step² − finer²)/12.
    """
    last = realization.stages[-1]
    if not isinstance(last, Requantize):
        return [Fact("muted", "The output is exact: nothing is rounded after the sum.")]
    shift = last.source.fraction - last.target.fraction
    if shift <= 0:
        return [Fact("muted", "The output is exact: it has as many fraction bits as the sum.")]
    variance = (1 - 4.0**-shift) / 12
    full = (realization.output.most - realization.output.least) / 2
    ratio = 20 * log10(full / sqrt(2) / sqrt(variance))
    step = Fact("muted", f"Rounding cuts {shift} bits: {ratio:.1f} dB between a full-scale sine and its noise.")
    lost = realization.output.fraction < realization.input.fraction
    if lost:
        bits = realization.input.fraction - realization.output.fraction
        return [
            step,
            Fact(
                "amber",
                f"The output is {bits} bits coarser than the input: inputs under {2 ** (bits - 1)} steps can vanish.",
            ),
        ]
    return [step]
