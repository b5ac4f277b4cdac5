"""``combe realize``"""

from __future__ import annotations

from typing import Annotated, Any

import typer

from combe.analysis.certified import certified_lines
from combe.analysis.facts import facts
from combe.cli.output import print_json, print_lines, say, status_of
from combe.cli.sources import FilterName, design_in
from combe.designing.designed import Design
from combe.errors import CombeError, FormatError
from combe.files import json_text, write_text
from combe.filters import Fir
from combe.ledger import Line
from combe.realization.formats import Format, narrowest_signed, parse_format
from combe.realization.reading import realization_document
from combe.realization.stages import FORMS, Realization
from combe.realization.words import stage_words
from combe.rounding.rates import check_prunable, fewest_bits_of_stages, realize_stages
from combe.rounding.realize import Choices, fewest_bits, realize, realize_integers, rounded_lines
from combe.rounding.recursive import SECTION_STRUCTURES
from combe.rounding.search.fewer_adders import fewer_adders
from combe.rounding.widths import cheapest_widths, design_chart
from combe.signals.report import adders_document, arithmetic_document, chart_document, widths_document


def run(
    design: Annotated[str, typer.Argument(metavar="DESIGN.json", help="A design, or plain taps.")],
    structure: Annotated[
        str, typer.Option(help=f"{', '.join(FORMS)} for taps; {', '.join(SECTION_STRUCTURES)} for sections.")
    ] = "",
    coefficient_bits: Annotated[str, typer.Option(metavar="N|fewest", help="Width of the coefficients.")] = "16",
    coefficient_fraction: Annotated[
        int | None, typer.Option(metavar="N", help="One binary point for all coefficients; else the finest that fits.")
    ] = None,
    input: Annotated[str, typer.Option(metavar="FMT", help="Format of the input.")] = "s16f15",
    output: Annotated[str, typer.Option(metavar="FMT", help="Format of the output; the input's without one.")] = "",
    accumulator_bits: Annotated[int | None, typer.Option(metavar="N", help="A wider accumulator than needed.")] = None,
    guard_bits: Annotated[int, typer.Option(metavar="N", help="Bits on top of what accumulators need.")] = 0,
    product_bits: Annotated[
        int | None, typer.Option(metavar="N", help="Round every product of a FIR before it is added.")
    ] = None,
    state_bits: Annotated[
        int | None, typer.Option(metavar="N", help="Width of what sections hand on and feed back.")
    ] = None,
    scaling: Annotated[str, typer.Option(help="Room for: l1 any input, l2 the input's energy, peak sines.")] = "l1",
    ordering: Annotated[
        str, typer.Option(help="given, or search for the pairing and order with least noise.")
    ] = "given",
    error_feedback: Annotated[
        bool, typer.Option("--error-feedback", help="Carry each rounding's rest on to the next sample.")
    ] = False,
    branches: Annotated[int, typer.Option(metavar="N", help="Sums of the polyphase form.")] = 2,
    prune: Annotated[
        bool,
        typer.Option(
            "--prune", help="Registers of sums in a row (CIC) that go down leave out bits that are cut anyway."
        ),
    ] = False,
    better: Annotated[
        bool, typer.Option("--better", help="Search for integers that keep more of the margin than plain rounding.")
    ] = False,
    plain: Annotated[
        bool, typer.Option("--plain", help="With fewest: each tap to its nearest integer, no search.")
    ] = False,
    signal_to_noise: Annotated[
        float | None, typer.Option(metavar="DB", help="Take the cheapest widths that give this ratio.")
    ] = None,
    adders: Annotated[
        bool, typer.Option("--adders", help="Search for taps with few adders; tell their graph.")
    ] = False,
    chart: Annotated[bool, typer.Option("--chart", help="Margin and noise of every structure at every width.")] = False,
    rounding: Annotated[str, typer.Option(help="nearest-even, nearest-up, floor or toward-zero.")] = "nearest-even",
    overflow: Annotated[str, typer.Option(help="saturate or wrap.")] = "saturate",
    filter: FilterName = "",
    out: Annotated[str, typer.Option(help="Write the realization file here.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print the realization file.")] = False,
) -> int:
    """Turn a design into integers that a chip can run."""
    source = design_in(design, filter)
    fewest = coefficient_bits == "fewest"
    if not fewest and not (coefficient_bits.isascii() and coefficient_bits.isdigit()):
        raise FormatError(f'"{coefficient_bits}" is not a width', "coefficient_bits", 'a number of bits, or "fewest"')
    if better and plain:
        raise FormatError("--better and --plain contradict each other", "plain", "give one of them")
    choices = Choices(
        16 if fewest else int(coefficient_bits), structure, input, output, accumulator_bits, rounding, overflow,
        state_bits, better or (fewest and not plain), coefficient_fraction, product_bits, guard_bits, scaling, ordering, error_feedback, branches, prune,
    )  # fmt: skip
    if prune:
        check_prunable(source)
    wishes = {
        "better": better, "coefficient_bits": fewest, "signal_to_noise": signal_to_noise is not None, "adders": adders,
        "chart": chart,
    }  # fmt: skip
    _needs_limits(source, wishes)
    try:
        made, extra = _made(source, choices, fewest, signal_to_noise, adders)
        if chart:
            assert source.requirement is not None
            extra["chart"] = chart_document(list(design_chart(source, source.requirement, choices)))
    except CombeError as error:
        raise error.at(design) from None
    lines = rounded_lines(made, source.requirement) if source.requirement else ()
    if source.requirement:
        lines = certified_lines(made, source.requirement, lines)
    document = realization_document(made, lines, source) | extra
    if json or out:
        document["arithmetic"] = arithmetic_document(made, source.filter, source.requirement)
    if out:
        write_text(out, json_text(document))
    if json:
        print_json(document)
    elif out != "-":
        _print(made, lines, extra)
    return status_of(lines)


def _needs_limits(source: Design, wishes: dict[str, bool]) -> None:
    if source.requirement is not None:
        return
    for key, is_asked in wishes.items():
        if is_asked:
            word = '"fewest"' if key == "coefficient_bits" else f"--{key.replace('_', '-')}"
            raise FormatError(f"{word} needs limits to keep", key, "give a design file with its requirement")


def _made(
    source: Design, choices: Choices, fewest: bool, wanted_db: float | None, adders: bool
) -> tuple[Realization, dict[str, Any]]:
    """The realization, and what else was found on the way."""
    name = source.requirement.name if source.requirement else "filter"
    extra: dict[str, Any] = {}
    if source.stages:
        for key, is_asked in (("signal_to_noise", wanted_db is not None), ("adders", adders)):
            if is_asked:
                raise FormatError("this is not searched for where the rate changes", key, "leave it out")
        return (fewest_bits_of_stages if fewest else realize_stages)(source, choices, name), extra
    if wanted_db is not None:
        assert source.requirement is not None
        if not 0 < wanted_db <= 280:
            raise FormatError(f"{wanted_db:g} dB can't be asked for", "signal_to_noise", "ask for up to 280")
        found = cheapest_widths(source.filter, source.requirement, choices, wanted_db)
        choices, extra["widths"] = found[0].choices, widths_document(found)
    if adders:
        made = _multiplierless(source, choices, name)
        return made, extra | {"adders": adders_document(made)}
    if fewest and wanted_db is None:
        assert source.requirement is not None
        return fewest_bits(source.filter, source.requirement, choices, name), extra
    return realize(source.filter, source.sample_rate_hz, choices, name, source.requirement), extra


def _multiplierless(source: Design, choices: Choices, name: str) -> Realization:
    """The design with the integers that take the fewest adders found."""
    if not isinstance(source.filter, Fir) or not source.filter.symmetry or source.requirement is None:
        raise FormatError("--adders needs symmetric or antisymmetric taps", "adders", "take a linear-phase design")
    found = fewer_adders(source.filter.taps, source.filter.symmetry, source.requirement, report=say)
    if found is None:
        raise FormatError("no integers found keep every limit", "adders", "give the design room to spare")
    bits = narrowest_signed(min(found.coefficients), max(found.coefficients))
    entry = parse_format(choices.input, "input")
    output = parse_format(choices.output, "output") if choices.output else entry
    form = choices.structure or "transposed"
    coefficient = Format(True, bits, found.fraction)
    return realize_integers(found.coefficients, coefficient, form, entry, output, choices, source.sample_rate_hz, name)


def _print(made: Realization, lines: tuple[Line, ...], extra: dict[str, Any]) -> None:
    print(f"{made.structure}, {made.input} to {made.output}")
    for stage in made.stages:
        print(f"  {stage_words(stage)}")
    print_lines(lines, "limits with integer coefficients")
    if proved := [line.within_db for line in lines if line.within_db is not None]:
        print(f"certified: {len(proved)} margins proved over their whole bands, to {max(proved):g} dB")
    for fact in facts(made):
        print(
            {"danger": "DANGER: ", "warning": "warning: ", "note": ""}[fact.severity] + fact.sentence.replace("−", "-")
        )
        if fact.remedy:
            print(f"  remedy: {fact.remedy.words}")
    for row in extra.get("widths", []):
        print(
            f"{row['structure']}: {row['coefficient_bits']} coefficient bits, {row['state_bits'] or '-'} state bits, "
            f"output {row['output']}, {row['signal_to_noise_db']:.1f} dB, area {row['multiplier_area']}"
        )
    if "adders" in extra:
        told = extra["adders"]
        print(
            f"adders: {told['multiplier_adders']} for all multiples (depth {told['depth']}), "
            f"{told['structural_adders']} between taps"
        )
    for row in extra.get("chart", []):
        margin = "-" if row["margin_db"] is None else f"{row['margin_db']:+.3f} dB"
        ratio = "" if row["signal_to_noise_db"] is None else f", {row['signal_to_noise_db']:.1f} dB to noise"
        print(f"{row['structure']} {row['bits']} bits: {margin}{ratio}")
