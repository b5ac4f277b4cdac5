"""From a design to integers: coefficients rounded, accumulator wide enough for any input."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from combe.arithmetic.better import better_integers
from combe.arithmetic.choices import FEWEST_BITS, MOST_BITS, Choices
from combe.arithmetic.finest import finest_integers
from combe.arithmetic.formats import Format, parse_format
from combe.arithmetic.recursive import realize_sections
from combe.arithmetic.stages import FORMS, Realization, Requantize, Stage, TapSum, needed_accumulator
from combe.design.shares import share_of
from combe.errors import FormatError
from combe.filters import Filter, Fir
from combe.ledger import Line, gain_lines, lines_of, meets
from combe.requirement import Requirement


def realize(
    source: Filter,
    sample_rate_hz: float,
    choices: Choices,
    name: str = "filter",
    requirement: Requirement | None = None,
    is_stopped: Callable[[], bool] = lambda: False,
) -> Realization:
    """The integer program of a filter: a tap sum, or sections in a row.

    Raises
    ------
    FormatError
        If a choice can't be kept, naming it and what would be right.
    """
    if not isinstance(source, Fir):
        return realize_sections(source, sample_rate_hz, choices, name)
    entry = parse_format(choices.input, "input")
    output = parse_format(choices.output, "output") if choices.output else entry
    form = choices.structure or ("folded" if source.symmetry and len(source.taps) > 1 else "direct")
    if form not in FORMS:
        raise FormatError(f'"{form}" is not a structure', "structure", f"known are {', '.join(FORMS)}")
    if form == "folded" and not source.symmetry:
        raise FormatError("folded needs symmetric or antisymmetric taps", "structure", "use direct")
    coefficient, integers = rounded_coefficients(source, choices.coefficient_bits)
    if choices.better and requirement is not None and source.symmetry:
        limits = coefficient.least, coefficient.most
        better, _, _ = better_integers(
            source.taps, source.symmetry, requirement, coefficient.fraction, limits, is_stopped
        )
        # Judged by the true extremes: the search itself looks at a grid.
        if _worst(better, coefficient, requirement) > _worst(integers, coefficient, requirement):
            integers = better
    draft = TapSum(integers, coefficient, Format(True, 2, 0), form)
    accumulator = needed_accumulator(draft, entry)
    if choices.accumulator_bits is not None:
        if choices.accumulator_bits < accumulator.bits:
            what = f"{choices.accumulator_bits} bits can overflow"
            raise FormatError(what, "accumulator_bits", f"{accumulator.bits} bits hold every sum this filter can make")
        accumulator = Format(True, choices.accumulator_bits, accumulator.fraction)
    if accumulator.bits > 64:
        what = f"the accumulator would need {accumulator.bits} bits, and 64 is the most"
        raise FormatError(what, "accumulator_bits", "take fewer input or coefficient bits")
    stages: list[Stage] = [replace(draft, accumulator=accumulator)]
    if output != accumulator:
        stages.append(Requantize(accumulator, output, choices.rounding, choices.overflow))
    return Realization(name, sample_rate_hz, form, entry, output, tuple(stages))


def _worst(integers: tuple[int, ...], coefficient: Format, requirement: Requirement) -> float:
    """The largest share of the tolerances left, 1 less what is used."""
    fir = Fir(tuple(value * coefficient.step for value in integers))
    return 1 - share_of(gain_lines(fir, requirement), requirement)


def rounded_coefficients(source: Fir, bits: int) -> tuple[Format, tuple[int, ...]]:
    """Taps rounded to the nearest integer at the finest binary point at which the largest still fits.

    Ties go to the even integer; symmetric taps stay symmetric.
    """
    if not FEWEST_BITS <= bits <= MOST_BITS:
        raise FormatError(
            f"{bits} coefficient bits are out of reach", "coefficient_bits", f"take {FEWEST_BITS} to {MOST_BITS}"
        )
    return finest_integers(source.taps, bits)


def rounded_lines(realization: Realization, requirement: Requirement) -> tuple[Line, ...]:
    """Every limit measured with the integer coefficients."""
    return lines_of(realization.exact(), requirement)


def fewest_bits(source: Filter, requirement: Requirement, choices: Choices, name: str = "filter") -> Realization:
    """The realization with the fewest coefficient bits whose rounded response keeps every limit.

    Widths are tried upward, one after another: whether a width holds doesn't follow from its neighbors.

    Raises
    ------
    FormatError
        If no width does, saying what stands in the way.
    """
    for bits in range(FEWEST_BITS, MOST_BITS + 1):
        try:
            found = realize(
                source, requirement.sample_rate_hz, replace(choices, coefficient_bits=bits), name, requirement
            )
        except FormatError as error:
            if error.where == "coefficient_bits" and bits < MOST_BITS:
                continue  # a pole moved out at this width; a wider one may hold it
            if error.where == "accumulator_bits" and bits > FEWEST_BITS:
                raise FormatError(
                    f"no width up to {bits - 1} bits keeps every limit", "coefficient_bits", error.sentence()
                ) from None
            raise
        if meets(rounded_lines(found, requirement)):
            return found
    instead = "the design itself must keep its limits with room to spare"
    raise FormatError(f"no width up to {MOST_BITS} bits keeps every limit", "coefficient_bits", instead)


__all__ = ["FEWEST_BITS", "MOST_BITS", "Choices", "fewest_bits", "realize", "rounded_coefficients", "rounded_lines"]
