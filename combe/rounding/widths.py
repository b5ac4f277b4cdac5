"""What every width leaves, structure by structure, and the cheapest widths for a wanted signal-to-noise ratio."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from math import log10, sqrt

from msgspec import Struct

from combe.analysis.measured import measured_noise
from combe.analysis.noise import follows_signal, noise_power
from combe.designing.designed import Design
from combe.errors import FormatError, PoleError, Stopped, StructureError, SumError
from combe.filters import Cascade, Filter, Fir, rational_of, sections_of
from combe.ledger import meets, worst_line
from combe.realization.formats import Format, parse_format
from combe.realization.stages import Realization, TapSum
from combe.realization.term import INPUT
from combe.requirement import Requirement
from combe.responses.allpass_pair import ALLPASS_STRUCTURES
from combe.rounding.allpass import is_allpass_sum
from combe.rounding.choices import MOST_BITS, Choices
from combe.rounding.realize import realize, rounded_lines
from combe.rounding.recursive import SECTION_STRUCTURES
from combe.values import replace

CHARTED = range(4, 33)
CERTAIN = 3
"""Widths in a row that hold before a structure's chart ends."""
WidthRow = tuple[int, float]
"""Coefficient bits, and the least margin in dB."""


class WidthPoint(Struct, frozen=True):
    """One structure at one width: its least margin with coefficients of so many bits (None where a pole moves out), and
    the ratio of a full-scale sine to the predicted noise with states of so many bits, both in dB."""

    structure: str
    bits: int
    margin_db: float | None
    signal_to_noise_db: float | None


class Widths(Struct, frozen=True):
    """Choices that keep every limit and a signal-to-noise ratio; ``cost`` is the area of all multipliers, bit by bit."""

    choices: Choices
    signal_to_noise_db: float
    cost: int


def structures_for(source: Filter) -> list[str]:
    """The structures that differ in margin or noise for a filter."""
    if isinstance(source, Fir):
        return ["folded" if source.symmetry and len(source.taps) > 1 else "direct"]
    cascade = source if isinstance(source, Cascade) else sections_of(rational_of(source))
    return [name for name in SECTION_STRUCTURES if name not in ALLPASS_STRUCTURES or is_allpass_sum(cascade)]


def signal_to_noise_db(realization: Realization) -> float:
    """A full-scale sine at the output over all roundings: by prediction, or measured where errors follow the signal;
    infinite where nothing is rounded."""
    return _ratio_db(
        realization, measured_power(realization) if follows_signal(realization) else noise_power(realization)
    )


def measured_ratio_db(realization: Realization) -> float:
    """The same by a run alone."""
    return _ratio_db(realization, measured_power(realization))


def measured_power(realization: Realization) -> float:
    """The mean square of the error of a run, in squared output steps: white samples at half scale."""
    return measured_noise(realization).power


def _ratio_db(realization: Realization, power: float) -> float:
    full = (realization.output.most - realization.output.least) / 2
    return 20 * log10(full / sqrt(2) / sqrt(power)) if power else float("inf")


def design_chart(
    design: Design, requirement: Requirement, choices: Choices, is_stopped: Callable[[], bool] = lambda: False
) -> Iterator[WidthPoint]:  # fmt: skip
    """The chart of any design; stages that change the rate are rounded all to the same width, and have one structure."""
    from combe.rounding.rates import realize_stages

    if not design.stages:
        yield from width_chart(design.filter, requirement, choices, is_stopped)
        return
    holding = 0
    for bits in CHARTED:
        if is_stopped():
            raise Stopped
        base = replace(choices, structure="", better=False, accumulator_bits=None, product_bits=None)
        try:
            made = realize_stages(design, replace(base, coefficient_bits=bits))
        except SumError:
            break
        worst = worst_line(rounded_lines(made, requirement))
        margin = worst.margin if worst else None
        yield WidthPoint("direct", bits, margin, None)
        holding = holding + 1 if margin is not None and margin >= 0 else 0
        if holding >= CERTAIN:
            break


def width_chart(
    source: Filter,
    requirement: Requirement,
    choices: Choices,
    is_stopped: Callable[[], bool] = lambda: False,
) -> Iterator[WidthPoint]:
    """Every structure at every width worth looking at, point by point."""
    rate = requirement.sample_rate_hz
    for structure in structures_for(source):
        holding = 0
        for bits in CHARTED:
            if is_stopped():
                raise Stopped
            base = replace(choices, structure=structure, better=False, accumulator_bits=None, product_bits=None)
            margin = ratio = None
            try:
                made = realize(source, rate, replace(base, coefficient_bits=bits), requirement=requirement)
                worst = worst_line(rounded_lines(made, requirement))
                margin = worst.margin if worst else None
            except (SumError, StructureError):
                break
            except FormatError:
                pass  # a pole moves out, or states have no room: a wider one may hold it
            if not isinstance(source, Fir):
                try:
                    wide = replace(base, coefficient_bits=max(bits, choices.coefficient_bits), state_bits=bits)
                    ratio = signal_to_noise_db(realize(source, rate, wide, requirement=requirement))
                except FormatError:
                    ratio = None
            yield WidthPoint(structure, bits, margin, ratio)
            holding = holding + 1 if margin is not None and margin >= 0 else 0
            if holding >= CERTAIN and (isinstance(source, Fir) or bits >= 24):
                break


def cheapest_widths(
    source: Filter,
    requirement: Requirement,
    choices: Choices,
    wanted_db: float,
    is_stopped: Callable[[], bool] = lambda: False,
) -> list[Widths]:
    """For every structure the fewest coefficient, state and output bits that keep all limits and the ratio, cheapest
    first. The input stays as it is; the output keeps its whole bits.

    Raises
    ------
    FormatError
        If no structure reaches the ratio within 48 bits.
    """
    found = []
    for structure in [choices.structure] if choices.structure else structures_for(source):
        made = _cheapest(source, requirement, replace(choices, structure=structure), wanted_db, is_stopped)
        if made is not None:
            found.append(made)
    if not found:
        what = f"no widths up to {MOST_BITS} bits give {wanted_db:g} dB and keep every limit"
        raise FormatError(what, "signal_to_noise", "ask for less, or give the design room to spare")
    return sorted(found, key=lambda each: each.cost)


def _cheapest(
    source: Filter, requirement: Requirement, choices: Choices, wanted_db: float, is_stopped: Callable[[], bool]
) -> Widths | None:
    entry = parse_format(choices.input, "input")
    given = parse_format(choices.output, "output") if choices.output else entry
    # A rounding of the output alone leaves 6.02 dB a bit and 1.76: nothing narrower can do.
    least = max(2, int((wanted_db - 1.77) / 6.0206))
    for output_bits in range(least, least + 3):
        output = str(Format(given.signed, output_bits, given.fraction + output_bits - given.bits))
        base = replace(choices, output=output, accumulator_bits=None)
        wide = None if isinstance(source, Fir) else 40
        coefficient_bits = _first(range(4, MOST_BITS + 1), partial(_holds, source, requirement, base, wide), is_stopped)
        if coefficient_bits is None:
            return None
        base = replace(base, coefficient_bits=coefficient_bits)
        if isinstance(source, Fir):
            made = realize(source, requirement.sample_rate_hz, base, requirement=requirement)
            ratio = _reached_db(made, wanted_db)
            if ratio is not None:
                return Widths(base, ratio, multiplier_area(made))
            continue
        for state_bits in range(max(output_bits - 6, 4), 49):
            if is_stopped():
                raise Stopped
            try:
                made = realize(
                    source, requirement.sample_rate_hz, replace(base, state_bits=state_bits), requirement=requirement
                )
            except SumError:
                break
            except FormatError:
                continue  # too few to give every value room: more will do
            ratio = _reached_db(made, wanted_db)
            if ratio is not None:
                return Widths(replace(base, state_bits=state_bits), ratio, multiplier_area(made))
    return None


def _reached_db(realization: Realization, wanted_db: float) -> float | None:
    """The ratio where a run reaches what is wanted, not only its prediction: the lesser of both."""
    told = signal_to_noise_db(realization)
    if told < wanted_db:
        return None
    heard = _ratio_db(realization, measured_power(realization))
    return min(told, heard) if heard >= wanted_db else None


def _holds(source: Filter, requirement: Requirement, choices: Choices, state_bits: int | None, bits: int) -> bool:
    tried = replace(choices, coefficient_bits=bits, state_bits=state_bits)
    for state in (state_bits, 24):
        try:
            made = realize(
                source, requirement.sample_rate_hz, replace(tried, state_bits=state), requirement=requirement
            )
            return meets(rounded_lines(made, requirement))
        except PoleError:
            return False
        except FormatError:
            continue
    return False


def _first(among: range, holds: Callable[[int], bool], is_stopped: Callable[[], bool]) -> int | None:
    for value in among:
        if is_stopped():
            raise Stopped
        if holds(value):
            return value
    return None


def multiplier_area(realization: Realization) -> int:
    """Σ coefficient bits × signal bits over all products by more than a power of two, a folded pair counted once."""
    total = 0
    for stage, source in zip(realization.stages, realization.formats()):
        if isinstance(stage, TapSum) and stage.form == "folded":
            values = stage.coefficients[: (len(stage.coefficients) + 1) // 2]
            total += sum(stage.coefficient.bits * (source.bits + 1) for v in values if not _is_shift(v))
            continue
        nodes = stage.network(source).nodes
        widths = {node.name: node.result.bits for node in nodes} | {INPUT: source.bits}
        total += sum(
            term.format.bits * (2 if term.is_rest else widths[term.signal])
            for node in nodes for term in node.terms if not _is_shift(term.coefficient)
        )  # fmt: skip
    return total


def _is_shift(value: int) -> bool:
    return value == 0 or abs(value) & (abs(value) - 1) == 0
