"""Sections to integers: gain shared out, coefficients rounded, states wide enough."""

from __future__ import annotations

from dataclasses import replace
from math import ceil, log2

import numpy as np

from combe.arithmetic.choices import FEWEST_BITS, MOST_BITS, Choices
from combe.arithmetic.finest import finest_integers
from combe.arithmetic.formats import Format, parse_format
from combe.arithmetic.section import SECTION_FORMS, Section, needed_section_accumulator
from combe.arithmetic.stages import Realization, Requantize, Stage
from combe.errors import FormatError
from combe.filters import Cascade, Roots, rational_of, sections_of
from combe.response import gain_peak, impulse_response
from combe.response.time import ringing_length

EXTRA_STATE_BITS, WIDEST_STATE = 8, 48
LONGEST_SUM = 20_000


def realize_sections(source: Cascade | Roots, sample_rate_hz: float, choices: Choices, name: str) -> Realization:
    """Sections in direct form I, one exact sum and one rounding each, then the output's own rounding.

    Raises
    ------
    FormatError
        If a choice can't be kept, or rounding moves a pole out of the unit circle.
    """
    entry = parse_format(choices.input, "input")
    output = parse_format(choices.output, "output") if choices.output else entry
    if choices.structure and choices.structure not in SECTION_FORMS:
        raise FormatError(
            f"{choices.structure} is no structure of sections", "structure", f"known are {', '.join(SECTION_FORMS)}"
        )
    if not FEWEST_BITS <= choices.coefficient_bits <= MOST_BITS:
        raise FormatError(
            f"{choices.coefficient_bits} coefficient bits are out of reach",
            "coefficient_bits",
            f"take {FEWEST_BITS} to {MOST_BITS}",
        )
    cascade = source if isinstance(source, Cascade) else sections_of(rational_of(source))
    if not rational_of(cascade).is_stable:
        raise FormatError("the design has a pole on or outside the unit circle", "design", "give a stable filter")
    stages: list[Stage] = []
    arriving = entry
    done: list[tuple[float, float, float, float, float]] = []
    for section in shared_gain(cascade):
        stage = _stage(section, arriving, entry, done, choices, output)
        stages.append(stage)
        arriving = stage.result
    if arriving != output:
        stages.append(Requantize(arriving, output, choices.rounding, choices.overflow))
    return Realization(name, sample_rate_hz, "direct-1", entry, output, tuple(stages))


def shared_gain(cascade: Cascade) -> list[tuple[float, float, float, float, float]]:
    """Sections with the gain put into their numerators, so that the peak after each is that of the whole filter."""
    final = 10 ** (gain_peak(cascade)[1] / 20)
    found: list[tuple[float, float, float, float, float]] = []
    for index, (b0, b1, b2, a1, a2) in enumerate(cascade.sections):
        bare = Cascade((*found, (b0, b1, b2, a1, a2)))
        if index == len(cascade.sections) - 1:
            have = 10 ** (gain_peak(bare)[1] / 20)
            scale = final / have if have else 1.0
            scale = scale if cascade.gain >= 0 else -scale
        else:
            peak = 10 ** (gain_peak(bare)[1] / 20)
            scale = final / peak if peak else 1.0
        found.append((b0 * scale, b1 * scale, b2 * scale, a1, a2))
    return found


def _stage(
    section: tuple[float, float, float, float, float],
    arriving: Format,
    entry: Format,
    done: list[tuple[float, float, float, float, float]],
    choices: Choices,
    output: Format,
) -> Section:
    """One section in integers; ``done`` collects the sections so far as rounded."""
    numerator, (b0, b1, b2) = finest_integers(section[:3], choices.coefficient_bits)
    denominator, (a1, a2) = finest_integers(section[3:], choices.coefficient_bits)
    exact_b = [value * 2.0**-numerator.fraction for value in (b0, b1, b2)]
    exact_a = [value * 2.0**-denominator.fraction for value in (a1, a2)]
    one = 1 << denominator.fraction if denominator.fraction >= 0 else 0
    if not (abs(a2) < one and abs(a1) < one + a2):
        radius = float(np.max(np.abs(np.roots([1.0, section[3], section[4]])), initial=0.0))
        what = f"at {choices.coefficient_bits} bits the pole at {radius:.6g} moves onto or outside the unit circle"
        raise FormatError(what, "coefficient_bits", "take more coefficient bits")
    done.append((exact_b[0], exact_b[1], exact_b[2], exact_a[0], exact_a[1]))
    bits = choices.state_bits or min(max(entry.bits, output.bits) + EXTRA_STATE_BITS, WIDEST_STATE)
    largest = worst_gain(Cascade(tuple(done))) * max(-entry.least, entry.most) * 2.0**-entry.fraction
    result = Format(True, bits, bits - 1 - ceil(log2(max(largest, 2.0**-300)) + 1e-9))
    fraction = max(arriving.fraction + numerator.fraction, result.fraction + denominator.fraction)
    draft = Section(
        (b0, b1, b2), (a1, a2), numerator, denominator, Format(True, 2, fraction), result, choices.rounding,
        choices.overflow,
    )  # fmt: skip
    accumulator = needed_section_accumulator(draft, arriving)
    if accumulator.bits > 64:
        what = f"the accumulator of a section would need {accumulator.bits} bits, and 64 is the most"
        raise FormatError(what, "accumulator_bits", "take fewer coefficient or state bits")
    if choices.accumulator_bits is not None:
        if choices.accumulator_bits < accumulator.bits:
            what = f"{choices.accumulator_bits} bits can overflow"
            raise FormatError(what, "accumulator_bits", f"{accumulator.bits} bits hold every sum of every section")
        accumulator = Format(True, choices.accumulator_bits, accumulator.fraction)
    return replace(draft, accumulator=accumulator)


def worst_gain(source: Cascade) -> float:
    """The largest output any input of size 1 can cause: Σ|h|, what lies beyond the samples looked at bounded."""
    count = min(ringing_length(source), LONGEST_SUM)
    size = np.abs(impulse_response(source, count))
    total = float(np.sum(size))
    radius = float(np.max(np.abs(rational_of(source).poles), initial=0.0))
    tail = float(np.max(size[-max(1, count // 10) :])) / (1 - radius) if radius < 1 else 0.0
    return total + tail
