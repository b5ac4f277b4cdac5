"""From a design to integers: coefficients rounded, accumulator wide enough for any input."""

from __future__ import annotations

from collections.abc import Callable

from combe.analysis.cost import realized_cost
from combe.analysis.exact import exact_filter
from combe.designing.shares import share_of
from combe.errors import CombeError, FormatError, PoleError, StructureError, SumError
from combe.filters import Cascade, Filter, Fir, Roots, rational_of, sections_of
from combe.ledger import Line, cost_of, gain_lines, lines_of, meets, worst_line
from combe.ledger.cost import cost_of_sections
from combe.ledger.cycles import estimated_cycles
from combe.ledger.lines import COUNTED, with_counts
from combe.realization.formats import Format, parse_format
from combe.realization.network import Network, Node, needed_node_accumulator
from combe.realization.stages import FORMS, Realization, Requantize, Stage, TapSum, needed_accumulator
from combe.realization.term import INPUT, Term
from combe.requirement import Requirement
from combe.requirement.quantities import level_text
from combe.rounding.assemble import chosen_accumulator
from combe.rounding.choices import FEWEST_BITS, MOST_BITS, Choices
from combe.rounding.forms import Rounder
from combe.rounding.recursive import realize_sections
from combe.rounding.search.better_integers import better_integers
from combe.values import replace


def _is_out_of_reach(source: Fir, requirement: Requirement) -> bool:
    """Whether even the best real taps of this length miss a limit."""
    from combe.designing.equiripple import design

    try:
        best = design(requirement, source.order, source.symmetry)
    except CombeError:
        return False
    return not meets(gain_lines(best.filter, requirement))


HELD = 0.9998
"""A share of the tolerances at which a width surely holds."""
WIDEST_IN_VAIN = 14
"""A filter that misses its limits by itself is tried up to here: finer integers come ever closer to what misses."""


def realize(
    source: Filter,
    sample_rate_hz: float,
    choices: Choices,
    name: str = "filter",
    requirement: Requirement | None = None,
    is_stopped: Callable[[], bool] = lambda: False,
    enough: float = 0.0,
) -> Realization:
    """The integer program of a filter: a tap sum, or sections in a row.

    Where better integers are searched for, a share of the tolerances that is ``enough`` ends the search.

    Raises
    ------
    FormatError
        If a choice can't be kept, naming it and what would be right.
    """
    if not isinstance(source, Fir):
        return realize_sections(source, sample_rate_hz, _affordable(source, choices, requirement), name)
    entry = parse_format(choices.input, "input")
    output = parse_format(choices.output, "output") if choices.output else entry
    form = choices.structure or ("folded" if source.symmetry and len(source.taps) > 1 else "direct")
    if form not in FORMS:
        raise StructureError(f'"{form}" is not a structure', "structure", f"known are {', '.join(FORMS)}")
    if form == "folded" and not source.symmetry:
        raise StructureError("folded needs symmetric or antisymmetric taps", "structure", "use direct")
    coefficient, integers = rounded_coefficients(source, choices.coefficient_bits, choices.coefficient_fraction)
    if choices.better and requirement is not None and source.symmetry:
        limits = coefficient.least, coefficient.most
        better = better_integers(
            source.taps, source.symmetry, requirement, coefficient.fraction, limits, is_stopped, enough
        ).integers
        # Judged by the true extremes: the search itself looks at a grid.
        if _worst(better, coefficient, requirement) > _worst(integers, coefficient, requirement):
            integers = better
    return realize_integers(integers, coefficient, form, entry, output, choices, sample_rate_hz, name)


def _affordable(source: Cascade | Roots, choices: Choices, requirement: Requirement | None) -> Choices:
    """With no structure chosen, two allpasses where sections would take more multiplies than the brief spends."""
    if choices.structure or requirement is None or requirement.max_multiplies is None:
        return choices
    cascade = source if isinstance(source, Cascade) else sections_of(rational_of(source))
    is_dear = cost_of_sections(cascade).multiplies > requirement.max_multiplies
    return replace(choices, structure=cost_of(cascade).structure) if is_dear else choices


def realize_integers(
    integers: tuple[int, ...], coefficient: Format, form: str, entry: Format, output: Format, choices: Choices,
    sample_rate_hz: float, name: str,
) -> Realization:  # fmt: skip
    """Integer taps as a program: the sum, and the output's rounding where it needs one."""
    stages = [fir_stage(integers, coefficient, form, entry, choices)]
    arriving = stages[0].result
    if output != arriving:
        stages.append(Requantize(arriving, output, choices.rounding, choices.overflow))
    return Realization(name, sample_rate_hz, form, entry, output, tuple(stages))


def fir_stage(integers: tuple[int, ...], coefficient: Format, form: str, entry: Format, choices: Choices) -> Stage:
    """Integer taps as one stage: an exact sum, or a network where products are rounded before they are added."""
    if choices.product_bits is not None:
        return _rounded_products(integers, coefficient, form, entry, choices)
    branches = choices.branches if form == "polyphase" else 1
    draft = TapSum(integers, coefficient, Format(True, 2, 0), form, branches)
    accumulator = chosen_accumulator(
        needed_accumulator(draft, entry), choices, "this filter would need", "take fewer input or coefficient bits"
    )
    return replace(draft, accumulator=accumulator)


def _rounded_products(
    integers: tuple[int, ...], coefficient: Format, form: str, entry: Format, choices: Choices
) -> Network:
    """A node a product, then their sum; the products share the binary point at which the largest fits."""
    bits = choices.product_bits or 0
    if not 2 <= bits <= 64:
        raise FormatError(f"{bits} product bits are out of reach", "product_bits", "take 2 to 64")
    if form not in ("direct", "transposed"):
        raise StructureError(f"{form} keeps its products whole", "product_bits", "take direct or transposed")
    whole = entry.fraction + coefficient.fraction
    largest = max(abs(value) for value in integers) * max(-entry.least, entry.most)
    fraction = min(whole, whole - (max(2, largest.bit_length() + 1) - bits))
    product, one = Format(True, bits, fraction), Format(True, 2, 0)
    nodes = []
    for index, value in enumerate(integers):
        if value:
            delay = index if form == "direct" else 0
            node = Node(f"p{index}", (Term(INPUT, delay, value, coefficient),), Format(True, 2, whole), product,
                        choices.rounding, choices.overflow)  # fmt: skip
            nodes.append(replace(node, accumulator=needed_node_accumulator(node, {}, entry)))
    known = {node.name: node for node in nodes}
    terms = tuple(Term(n.name, 0 if form == "direct" else int(n.name[1:]), 1, one) for n in nodes)
    terms = terms or (Term(INPUT, 0, 0, one),)
    point = fraction if nodes else entry.fraction
    total = Node("y", terms, Format(True, 2, point), Format(True, 2, point), "floor", "wrap")
    accumulator = chosen_accumulator(
        needed_node_accumulator(total, known, entry), choices, "this filter would need", "take fewer product bits"
    )
    return Network((*nodes, replace(total, accumulator=accumulator, result=accumulator)), "y", form)


def _worst(integers: tuple[int, ...], coefficient: Format, requirement: Requirement) -> float:
    """The largest share of the tolerances left, 1 less what is used."""
    fir = Fir(tuple(value * coefficient.step for value in integers))
    return 1 - share_of(gain_lines(fir, requirement), requirement)


def rounded_coefficients(source: Fir, bits: int, fraction: int | None = None) -> tuple[Format, tuple[int, ...]]:
    """Taps rounded to the nearest integer at the given binary point, or the finest at which the largest still fits.

    Ties go to the even integer; symmetric taps stay symmetric.
    """
    if not FEWEST_BITS <= bits <= MOST_BITS:
        raise FormatError(
            f"{bits} coefficient bits are out of reach", "coefficient_bits", f"take {FEWEST_BITS} to {MOST_BITS}"
        )
    return Rounder(bits, fraction).integers(*source.taps)


def rounded_lines(realization: Realization, requirement: Requirement) -> tuple[Line, ...]:
    """Every limit measured with the integer coefficients, multiplies counted in the structure that was chosen."""
    exact = exact_filter(realization)
    lines = lines_of(exact, requirement)
    if isinstance(exact, Fir) or realization.changes_rate or not any(line.limit in COUNTED for line in lines):
        return lines
    return with_counts(lines, requirement, realized_cost(realization).multiplies, estimated_cycles(exact))


def fewest_bits(
    source: Filter,
    requirement: Requirement,
    choices: Choices,
    name: str = "filter",
    is_stopped: Callable[[], bool] = lambda: False,
) -> Realization:
    """The realization with the fewest coefficient bits whose rounded response keeps every limit.

    Widths are tried upward, one after another: whether a width holds doesn't follow from its neighbors. With
    ``choices.better`` a width that plain rounding misses is searched for integers that hold.

    Raises
    ------
    FormatError
        If no width does, saying what stands in the way.
    """
    searches = choices.better and isinstance(source, Fir) and source.symmetry != 0
    own = worst_line(gain_lines(source, requirement))
    is_kept = own is None or own.margin >= 0
    if (
        own is not None
        and not is_kept
        and isinstance(source, Fir)
        and source.symmetry
        and _is_out_of_reach(source, requirement)
    ):
        what = f"the filter misses {own.band} by {level_text(-own.margin, 3)}, and no {len(source.taps)} taps keep every limit, whole or not"
        raise FormatError(what, "coefficient_bits", "take a longer filter, or relax that limit")
    for bits in range(FEWEST_BITS, (MOST_BITS if is_kept else WIDEST_IN_VAIN) + 1):
        for is_better in (False, True) if searches else (False,):
            wanted = replace(choices, coefficient_bits=bits, better=is_better)
            try:
                found = realize(source, requirement.sample_rate_hz, wanted, name, requirement, is_stopped, HELD)
            except PoleError:
                if bits == MOST_BITS:
                    raise
                continue  # a wider one may hold it
            except SumError as error:
                if bits == FEWEST_BITS:
                    raise
                raise FormatError(
                    f"no width up to {bits - 1} bits keeps every limit", "coefficient_bits", error.sentence()
                ) from None
            if meets(rounded_lines(found, requirement)):
                return found
    if own is not None and not is_kept:
        what = f"the filter itself misses {own.band} by {level_text(-own.margin, 3)}, and no rounding up to {WIDEST_IN_VAIN} bits makes that good"
        raise FormatError(what, "coefficient_bits", "take a longer filter, or relax that limit")
    instead = "the design itself must keep its limits with room to spare"
    raise FormatError(f"no width up to {MOST_BITS} bits keeps every limit", "coefficient_bits", instead)


__all__ = ["FEWEST_BITS", "MOST_BITS", "Choices", "fewest_bits", "realize", "rounded_coefficients", "rounded_lines"]
