"""A change of rate in integers: each stage's coefficients rounded, and what is handed on between them."""

from __future__ import annotations

from collections.abc import Callable
from math import floor, log2, log10

from combe.designing.designed import Design
from combe.designing.rates.stages import RateStage
from combe.errors import CombeError, FormatError
from combe.filters import Fir
from combe.ledger import Line, lines_of, meets
from combe.realization.cic import Cic, with_pruned_registers
from combe.realization.formats import Format, narrowest_signed, parse_format
from combe.realization.stages import Realization, Requantize, Stage, TapSum, needed_accumulator
from combe.requirement import Requirement
from combe.requirement.rates import prototype_requirement
from combe.rounding.assemble import chosen_accumulator
from combe.rounding.choices import FEWEST_BITS, MOST_BITS, Choices
from combe.rounding.half_bands import half_band
from combe.rounding.polynomials import polynomial_stage
from combe.rounding.realize import HELD, realize, rounded_coefficients
from combe.values import replace

HEADROOM, GUARD = 2, 2
"""Bits on top and below of what stages hand on, over the input's: overshoot of a stage, and noise below the output's."""


def realize_stages(
    design: Design,
    choices: Choices,
    name: str = "filter",
    is_stopped: Callable[[], bool] = lambda: False,
    enough: float = 0.0,
) -> Realization:  # fmt: skip
    """The integer program of a design that changes the rate.

    A single stage is rounded as any taps are, searched for better integers where that is asked; of several each is rounded to
    the same width. Between stages values keep a bit more on top and two below, or ``state_bits`` in all.

    Raises
    ------
    FormatError
        If a choice can't be kept, naming it and what would be right.
    """
    _check_choices(choices, design)
    entry = parse_format(choices.input, "input")
    output = parse_format(choices.output, "output") if choices.output else entry
    stages: list[Stage] = []
    arriving, gained = entry, 1.0
    """``gained`` is what sums before this place have made values larger by, and no taps have made good yet."""
    for index, stage in enumerate(design.stages):
        is_last = index == len(design.stages) - 1
        ahead = _gain_ahead(design.stages[index + 1 :])
        target = output if is_last else _between(entry, output, choices, gained)
        if stage.kind == "cic":
            made: Stage = _sums(stage, arriving)
            gained *= _gain(stage)
        elif stage.kind == "allpass":
            made = half_band(stage, stages, entry, arriving, target, choices)
        elif stage.kind == "farrow":
            scale = 1 / (gained * ahead)
            scaled = tuple(tuple(value * scale for value in row) for row in stage.branches)
            gained = 1 / ahead
            target = output if is_last else _between(entry, output, choices, gained)
            made = polynomial_stage(replace(stage, branches=scaled), stages, entry, arriving, target, choices)
        else:
            made = _taps(stage, design, 1 / (gained * ahead), arriving, choices, is_stopped, enough)
            gained = 1 / ahead
        target = output if is_last else _between(entry, output, choices, gained)
        if isinstance(made, Cic) and choices.pruned:
            made = with_pruned_registers(made, arriving, target)
        stages.append(made)
        if made.result != target:
            stages.append(Requantize(made.result, target, choices.rounding, choices.overflow))
        arriving = target
    form = choices.structure or "direct"
    return Realization(name, design.input_rate_hz, form, entry, output, tuple(stages))


def _check_choices(choices: Choices, design: Design) -> None:
    if choices.error_feedback and (design.feeds_back or any(stage.branches for stage in design.stages)):
        what = "stages that change the rate are written without feeding errors back"
        raise FormatError(what, "error_feedback", "take more state bits")
    if choices.structure not in ("", "direct", "folded"):
        what = f"{choices.structure} taps don't change the rate"
        raise FormatError(what, "structure", "take direct; phases follow from the factors")
    if choices.product_bits is not None:
        raise FormatError("a change of rate keeps its products whole", "product_bits", "leave it out")


def _sums(stage: RateStage, source: Format) -> Cic:
    draft = Cic(stage.order, stage.up, stage.down, stage.delay, Format(True, 2, source.fraction))
    bits = narrowest_signed(*draft.span(source))
    return replace(draft, accumulator=Format(True, bits, source.fraction))


def check_prunable(design: Design) -> None:
    """Raise ``FormatError`` where nothing has registers that could leave out bits."""
    if not any(stage.kind == "cic" and stage.down > 1 for stage in design.stages):
        raise FormatError("no sums in a row (cic) go down here", "prune", "leave it out, or take a plan such as cic8x2")


def _gain(stage: RateStage) -> float:
    """Of sums in a row, for a constant."""
    return Cic(stage.order, stage.up, stage.down, stage.delay, Format(True, 2, 0)).gain


def _gain_ahead(stages: tuple[RateStage, ...]) -> float:
    """Of the sums that follow with no taps between: what the taps before them make good."""
    gain = 1.0
    for stage in stages:
        if stage.kind in ("taps", "farrow"):
            return 1.0
        if stage.kind == "cic":
            gain *= _gain(stage)
    return gain


def _between(entry: Format, output: Format, choices: Choices, gained: float) -> Format:
    """What one stage hands on to the next; ``gained`` is what makes values larger there than they are worth."""
    bits = choices.state_bits or max(entry.bits, output.bits) + HEADROOM + GUARD
    whole = max(entry.bits - entry.fraction, output.bits - output.fraction) + HEADROOM + floor(log2(gained) + 1e-9)
    return Format(True, bits, bits - whole)


def _taps(
    stage: RateStage, design: Design, scale: float, source: Format, choices: Choices,
    is_stopped: Callable[[], bool], enough: float,
) -> TapSum:  # fmt: skip
    """A stage of taps; ``scale`` is what makes good for the gain of sums before it."""
    fir = Fir(tuple(tap * scale for tap in stage.taps))
    fraction = choices.coefficient_fraction if len(design.stages) == 1 else None
    coefficient, integers = rounded_coefficients(fir, choices.coefficient_bits, fraction)
    asked = design.requirement
    if choices.better and asked is not None and len(design.stages) == 1 and fir.symmetry:
        integers = _better(fir, integers, coefficient, asked, stage.up, is_stopped, enough)
    draft = TapSum(integers, coefficient, Format(True, 2, 0), "direct", 1, stage.up, stage.down)
    accumulator = chosen_accumulator(
        needed_accumulator(draft, source), choices, "this stage would need", "take fewer input or coefficient bits"
    )
    return replace(draft, accumulator=accumulator)


def _better(
    fir: Fir, integers: tuple[int, ...], coefficient: Format, asked: Requirement, up: int,
    is_stopped: Callable[[], bool], enough: float,
) -> tuple[int, ...]:  # fmt: skip
    """Integers that keep more of the margin: those of the prototype, whose levels stand higher by the stuffing's loss."""
    from combe.designing.shares import share_of
    from combe.ledger import gain_lines
    from combe.rounding.search.better_integers import better_integers

    lifted = stage_limits(asked, up)
    limits = coefficient.least, coefficient.most
    found = better_integers(fir.taps, fir.symmetry, lifted, coefficient.fraction, limits, is_stopped, enough).integers

    def used(values: tuple[int, ...]) -> float:
        taken = Fir(tuple(value * coefficient.step for value in values))
        return share_of(gain_lines(taken, lifted), lifted)

    return found if used(found) < used(integers) else integers


def stage_limits(asked: Requirement, up: int) -> Requirement:
    """What a single stage's own taps must keep: the prototype's limits, moved up by what stuffing loses."""
    return raised(prototype_requirement(asked), 20 * log10(up))


def raised(requirement: Requirement, db: float) -> Requirement:
    """The same with all limits moved up."""
    if not db:
        return requirement
    bands = tuple(
        replace(band, upper=band.upper.moved(db), lower=band.lower.moved(db) if band.lower is not None else None)
        for band in requirement.bands
    )
    return replace(requirement, bands=bands)


def rate_lines(realization: Realization, requirement: Requirement) -> tuple[Line, ...]:
    """Every limit measured with the integer coefficients."""
    from combe.analysis.exact import exact_filter

    return lines_of(exact_filter(realization), requirement)


def fewest_bits_of_stages(
    design: Design, choices: Choices, name: str = "filter", is_stopped: Callable[[], bool] = lambda: False
) -> Realization:  # fmt: skip
    """The narrowest coefficients with which all stages together keep every limit.

    Raises
    ------
    FormatError
        If no width does.
    """
    asked = design.requirement
    if asked is None:
        raise FormatError('"fewest" needs limits to keep', "coefficient_bits", "give a design with its requirement")
    failure: CombeError | None = None
    searches = (False, True) if choices.better and len(design.stages) == 1 else (False,)
    for bits in range(FEWEST_BITS, MOST_BITS + 1):
        for is_better in searches:
            wanted = replace(choices, coefficient_bits=bits, better=is_better)
            try:
                found = realize_stages(design, wanted, name, is_stopped, HELD)
            except CombeError as error:
                failure = error
                break
            if meets(rate_lines(found, asked)):
                return found
    instead = failure.sentence() if failure is not None else "the design itself must keep its limits with room to spare"
    raise FormatError(f"no width up to {MOST_BITS} bits keeps every limit", "coefficient_bits", instead)


def realize_design(
    design: Design,
    choices: Choices,
    name: str = "filter",
    is_stopped: Callable[[], bool] = lambda: False,
    enough: float = 0.0,
    requirement: Requirement | None = None,
) -> Realization:  # fmt: skip
    """The integer program of any design: in stages where it changes the rate. Without a ``requirement`` coefficients are
    rounded plainly."""
    if design.stages:
        plain = choices if requirement is not None else replace(choices, better=False)
        return realize_stages(design, plain, name, is_stopped, enough)
    return realize(design.filter, design.sample_rate_hz, choices, name, requirement, is_stopped, enough)
