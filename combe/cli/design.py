"""``combe design``"""

from __future__ import annotations

import re
from typing import Annotated, Any

import typer

from combe import api
from combe.api.designing import rate_of
from combe.cli.output import print_json, print_lines, say, status_of
from combe.designing.costs import lines_of_design
from combe.designing.file import design_document, read_design
from combe.designing.prices import prices
from combe.designing.task import SHAPES, SPARE, DesignChoice
from combe.errors import CombeError, DesignError
from combe.files import json_text, write_text
from combe.requirement import read_requirement
from combe.requirement.quantities import parse_frequency, parse_sample_rate

RequirementFile = Annotated[
    str,
    typer.Argument(
        metavar="[REQ.json]", help="The requirement file, - for standard input; none with --cutoff or --set."
    ),
]


def run(
    requirement: RequirementFile = "",
    method: Annotated[str, typer.Option(help="A method's name; without one the cheapest contender.")] = "",
    order: Annotated[int | None, typer.Option(help="A given order: its best filter instead of the shortest.")] = None,
    symmetry: Annotated[
        str, typer.Option(help="symmetric, or antisymmetric (phase turned by 90 degrees).")
    ] = "symmetric",
    cutoff: Annotated[
        list[str] | None, typer.Option(help="Cut-off instead of limits (12k, 0.1fs, 0.2fn); twice for a band.")
    ] = None,
    shape: Annotated[str, typer.Option(help="lowpass, highpass, bandpass or bandstop, with --cutoff.")] = "",
    sample_rate: Annotated[str, typer.Option(help="The sample rate where no requirement gives it (48k).")] = "",
    spare: Annotated[str, typer.Option(help="Where a classic puts spare room: shared, stopband, passband.")] = "shared",
    weight: Annotated[list[float] | None, typer.Option(help="Weights to trade bands by hand, one for each.")] = None,
    set_: Annotated[
        list[str] | None,
        typer.Option("--set", metavar="NAME=VALUE", help="A setting of the method; see combe methods."),
    ] = None,
    from_: Annotated[
        str,
        typer.Option(
            "--from", help="Coefficients from a file, held against the requirement; with delay-equalized, evened out."
        ),
    ] = "",
    holds_with_bits: Annotated[
        int | None,
        typer.Option(metavar="N", help="The least order that keeps every limit with N-bit coefficients, too."),
    ] = None,
    plan: Annotated[
        str,
        typer.Option(
            help="Stages of a change of rate: single, or factors such as 2x2x2, cic8x2, iir2x2, 147/80x2; iir: half-bands of two allpasses; "
            "farrow: any ratio from few coefficients; else the cheapest."
        ),
    ] = "",
    with_prices: Annotated[bool, typer.Option("--prices", help="Add what moving each figure would save.")] = False,
    out: Annotated[str, typer.Option(help="Write the design file here.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print the design file.")] = False,
) -> int:
    """Design one filter: the shortest that keeps every limit, or the best of a given order."""
    if not (requirement or cutoff or set_ or method):
        raise DesignError(
            "no requirement is given", "REQ.json", "name its file, or give a method with --cutoff or --set"
        )
    asked = read_requirement(requirement) if requirement else None
    rate = rate_of(asked, parse_sample_rate(sample_rate) if sample_rate else None)
    given = read_design(from_, rate).filter if from_ else None
    if from_ and method != "delay-equalized":
        method = "given"
    settings = dict(_setting(text, rate) for text in set_ or [])
    try:
        found = api.design(
            asked, method, order, symmetry=_symmetry(symmetry),
            cutoffs_hz=[parse_frequency(text, rate) for text in cutoff or []],
            shape=_among(shape, ("", *SHAPES), "shape"), sample_rate_hz=rate, spare=_among(spare, SPARE, "spare"),
            weights=weight or (), settings=settings, given=given,
            holds_with_bits=holds_with_bits, plan=plan, say=say,
        )  # fmt: skip
    except CombeError as error:
        raise (error.at(requirement) if requirement else error) from None
    document = design_document(found)
    if with_prices and asked is not None:
        choice = DesignChoice(found.method, None, _symmetry(symmetry), settings=tuple(settings.items()))
        document["prices"] = [price.document(asked) for price in prices(asked, choice, found)]
    if out:
        write_text(out, json_text(document))
    held = asked if asked is not None else found.requirement
    lines = lines_of_design(found, held) if held is not None else ()
    if json:
        print_json(document)
    elif out != "-":
        size = f"plan {document['plan']}" if "plan" in document else f"order {found.order}"
        print_lines(lines, f"{found.method}, {size}, {document['cost']['multiplies']} multiplies")
        for price in document.get("prices", []):
            print(_price_sentence(price, found.kind))
    for note in found.notes:
        say(f"note: {note}")
    return status_of(lines)


def _symmetry(word: str) -> int:
    return 1 if _among(word, ("symmetric", "antisymmetric"), "symmetry") == "symmetric" else -1


def _among(word: str, known: tuple[str, ...], name: str) -> str:
    if word not in known:
        raise DesignError(f'"{word}" is not a {name}', name, "known are " + ", ".join(k for k in known if k))
    return word


def _setting(text: str, rate: float) -> tuple[str, float]:
    """``name=value``; frequencies take units."""
    match = re.fullmatch(r"\s*([\w-]+)\s*=\s*(.+?)\s*", text)
    if not match:
        raise DesignError(f'"{text}" is not a setting', "--set", "write one like attenuation_db=60")
    name = match[1].replace("-", "_")
    if name.endswith("_hz"):
        return name, parse_frequency(match[2], rate)
    try:
        return name, float(match[2])
    except ValueError:
        raise DesignError(f'"{match[2]}" is not a number', name, "write one like 60") from None


def _price_sentence(price: dict[str, Any], kind: str) -> str:
    per = price["order_per_unit"] * (1000 if price["unit"] == "hz" else 1)
    unit = "kHz" if price["unit"] == "hz" else "dB"
    thing = "taps" if kind == "fir" else "orders"
    return f"price: {price['band']}, {price['figure']}: {per:.3g} {thing} per {unit}"
