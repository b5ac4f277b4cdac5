"""The design file, and every way to hand Combe a filter: taps, sections or roots."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

from msgspec import Meta, Struct

from combe.checking import Fields, describe
from combe.designing.costs import cost_of_design, lines_of_design
from combe.designing.designed import Design
from combe.designing.given import given_filter, polynomials
from combe.designing.rates.stages import RateStage, plan_words, prototype_of, ratio_of
from combe.errors import CombeError, FileError
from combe.files import parse_json, read_text
from combe.filters import Cascade, Filter, Fir, Roots
from combe.ledger import delay_over_passbands, meets
from combe.requirement import requirement_document, requirement_from
from combe.requirement.reading import rate_document
from combe.requirement.shape import RateShape
from combe.schema import read

LONGEST, MOST_SECTIONS, MOST_ROOTS, MOST_DEGREE = 20_000, 128, 256, 256
"""Of taps, sections, zeros or poles, and of b or a: what is accepted is answered within seconds."""
LARGEST_NUMBER = 1e100


def design_document(design: Design) -> dict[str, Any]:
    """The JSON document of a design, its lines measured anew."""
    requirement, source = design.requirement, design.filter
    document: dict[str, Any] = {
        "format": "combe-design", "version": 1, "method": design.method, "kind": design.kind,
        "order": design.order, "sample_rate_hz": design.input_rate_hz,
    }  # fmt: skip
    if requirement is not None:
        document["requirement"] = requirement_document(requirement)
    if design.stages:
        document |= _stages_document(design)
    else:
        document |= filter_document(source)
    if design.parts:
        document["parts"] = [list(part.taps) for part in design.parts]
    lines = lines_of_design(design, requirement) if requirement is not None else ()
    cost = cost_of_design(design)
    bands = [(band.start_hz, band.stop_hz) for band in requirement.passbands] if requirement else []
    delay = delay_over_passbands(source, bands, design.sample_rate_hz)
    up = ratio_of(design.stages)[0]
    document |= {
        "is_shortest": design.is_shortest,
        "holds_with_bits": design.holds_with_bits,
        "meets": meets(lines) if requirement is not None else None,
        "lines": [line.document() for line in lines],
        "cost": cost.document(),
        "delay_samples": {"mean": delay.mean / up, "least": delay.least / up, "most": delay.most / up},
        "seconds": round(design.seconds, 6),
    }
    if design.singular_values:
        document["hankel_singular_values"] = list(design.singular_values)
    if design.notes:
        document["notes"] = list(design.notes)
    return document


def _stages_document(design: Design) -> dict[str, Any]:
    """What a rate change adds: the ratio, the plan, its parts in signal order; a single one's taps, as ever, in ``taps``."""
    up, down = ratio_of(design.stages)
    requirement = design.requirement
    document: dict[str, Any] = {
        "rate": rate_document(requirement.rate) if requirement is not None and requirement.rate is not None
        else {"up": up, "down": down},
        "plan": plan_words(design.stages),
    }  # fmt: skip
    if len(design.stages) == 1 and design.stages[0].kind in ("taps", "farrow"):
        (only,) = design.stages
        document["taps"] = list(only.taps) or (only.up * only.prototype()).tolist()
    return document | {"parts": [stage.document() for stage in design.stages]}


def filter_document(source: Filter) -> dict[str, Any]:
    """The keys that hold a filter's coefficients."""
    if isinstance(source, Fir):
        return {"taps": list(source.taps)}
    if isinstance(source, Cascade):
        return {"sections": [list(section) for section in source.sections], "gain": source.gain}
    return {
        "zeros": [[z.real, z.imag] for z in source.zeros],
        "poles": [[p.real, p.imag] for p in source.poles],
        "gain": source.gain,
    }


def read_design(path: str | Path, sample_rate_hz: float | None = None, text: str | None = None) -> Design:
    """A design from a design file or a plain coefficient file; errors name the file and the key.

    ``text`` is the file's content where it has been read already.
    """
    text = read_text(path) if text is None else text
    try:
        if text.lstrip()[:1] in ("{", "["):
            document = parse_json(text, "")
            return design_from({"taps": document} if isinstance(document, list) else document, "", sample_rate_hz)
        given = given_filter(text)
        return Design("given", given.filter, sample_rate_hz or 1.0, notes=(f"read as {given.words}",))
    except CombeError as error:
        raise error.at(str(path)) from None


Number = Annotated[float, Meta(description="a number")]
Root = Annotated[float | tuple[float, float], Meta(description="[re, im]")]
SectionShape = Annotated[tuple[float, float, float, float, float], Meta(description="[b0, b1, b2, a1, a2]")]


class FilterShape(Struct):
    """A filter in whichever keys it is written."""

    taps: Annotated[list[Number], Meta(description="a list of taps")] | None = None
    sections: Annotated[list[SectionShape], Meta(description="a list of sections")] | None = None
    gain: Number = 1.0
    zeros: Annotated[list[Root], Meta(description="a list of roots")] | None = None
    poles: Annotated[list[Root], Meta(description="a list of roots")] | None = None
    b: Annotated[list[Number], Meta(description="a list of numbers")] | None = None
    a: Annotated[list[Number], Meta(description="a list of numbers")] | None = None


class DesignShape(FilterShape):
    """What is read of a design file; everything else in it is measured anew."""

    sample_rate_hz: Annotated[float, Meta(gt=0, description="the sample rate in Hz, above zero")] | None = None
    method: Annotated[str, Meta(description="a text")] = "given"
    parts: Annotated[list[Any], Meta(description="a list of parts")] | None = None
    rate: Any = None


Factor = Annotated[int, Meta(ge=1, le=4096, description="a whole number from 1 to 4096")]


class TapsPart(Struct, tag_field="kind", tag="taps", forbid_unknown_fields=True):
    """A stage of taps."""

    taps: Annotated[list[Number], Meta(description="a list of taps")]
    up: Factor = 1
    down: Factor = 1


class CicPart(Struct, tag_field="kind", tag="cic", forbid_unknown_fields=True):
    """Sums in a row."""

    order: Annotated[int, Meta(ge=1, le=16, description="a whole number from 1 to 16")]
    up: Factor = 1
    down: Factor = 1
    delay: Annotated[int, Meta(ge=1, le=4, description="a whole number from 1 to 4")] = 1


Alpha = Annotated[float, Meta(gt=-1, lt=1, description="a number between -1 and 1")]


class AllpassPart(Struct, tag_field="kind", tag="allpass", forbid_unknown_fields=True):
    """A half-band of two allpasses, a coefficient for each pole pair."""

    even: Annotated[list[Alpha], Meta(max_length=32, description="a list of up to 32 coefficients")]
    odd: Annotated[list[Alpha], Meta(max_length=32, description="a list of up to 32 coefficients")]
    up: Factor = 1
    down: Factor = 1


Row = Annotated[
    list[Number], Meta(min_length=1, max_length=4096, description="a list of 1 to 4096 coefficients, one a sample")
]


class FarrowPart(Struct, tag_field="kind", tag="farrow", forbid_unknown_fields=True):
    """Taps that follow polynomials: coefficients by power and then by sample."""

    branches: Annotated[
        list[Row], Meta(min_length=1, max_length=32, description="a list of 1 to 32 branches, one a power")
    ]
    up: Factor = 1
    down: Factor = 1


KINDS = ("taps", "cic", "allpass", "farrow")


def design_from(document: Any, where: str = "", sample_rate_hz: float | None = None) -> Design:
    """A design from a JSON document with taps, sections or zeros and poles."""
    fields = Fields(document, where)
    if "format" in document:
        fields.header("combe-design", 1)
    found = read(document, DesignShape, where)
    stages = _stages(found, fields)
    source: Filter = prototype_of(stages) if stages else _filter(found, where)
    up = ratio_of(stages)[0]
    requirement = None
    if fields.has("requirement"):
        requirement = requirement_from(document["requirement"], fields.place("requirement"))
    rate = None if sample_rate_hz is None else sample_rate_hz * up
    if rate is None:
        rate = (found.sample_rate_hz or 1.0) * up
        if requirement is not None and requirement.sample_rate_hz != rate:
            raise fields.fail("sample_rate_hz", f"the requirement's sample rate, {requirement.input_rate_hz:g}")
    elif requirement is not None and requirement.sample_rate_hz != rate:
        requirement = None
    notes = document.get("notes") or []
    kept = tuple(str(note) for note in notes) if isinstance(notes, list) else ()
    parts = () if stages else _parts(found, fields)
    return Design(found.method, source, rate, requirement, kept, parts=parts, stages=stages)


def _parts(found: DesignShape, fields: Fields) -> tuple[Fir, ...]:
    """Filters in a row whose product the taps are."""
    made = []
    for k, part in enumerate(found.parts or []):
        place = fields.place(f"parts[{k}]")
        if not isinstance(part, list):
            raise FileError(f"expected a list of taps, found {describe(part)}", place)
        taps = read({"taps": part}, FilterShape, place).taps or []
        made.append(Fir(tuple(_within(taps, place))))
    return tuple(made)


def _stages(found: DesignShape, fields: Fields) -> tuple[RateStage, ...]:
    """The stages of a rate change: parts with a kind, or the taps alone where only the ratio is told."""
    parts = found.parts or []
    if any(isinstance(part, dict) for part in parts):
        return tuple(_rate_stage(part, fields.place(f"parts[{k}]")) for k, part in enumerate(parts))
    if found.rate is None or found.taps is None:
        return ()
    ratio = read(found.rate, RateShape, fields.place("rate"))
    taps = _within(found.taps, fields.place("taps"))
    if not 1 <= len(taps) <= LONGEST:
        raise FileError(f"expected between 1 and {LONGEST} taps, found {describe(taps)}", fields.place("taps"))
    return (RateStage("taps", ratio.up, ratio.down, tuple(taps)),) if ratio.up > 1 or ratio.down > 1 else ()


def _rate_stage(part: Any, where: str) -> RateStage:
    if not isinstance(part, dict) or part.get("kind") not in KINDS:
        raise FileError(
            f"expected a part with its kind, found {describe(part)}", where, f"kinds are {', '.join(KINDS)}"
        )
    if part["kind"] == "allpass":
        half = read(part, AllpassPart, where)
        if {half.up, half.down} != {1, 2}:
            raise FileError("an allpass part goes up or down by two", where, "give it up or down 2, the other 1")
        return RateStage("allpass", half.up, half.down, even=tuple(half.even), odd=tuple(half.odd))
    if part["kind"] == "farrow":
        powers = read(part, FarrowPart, where)
        if powers.up < 2:
            raise FileError("a farrow part goes up, or up and down", f"{where}.up", "give it up 2 or more")
        if len({len(row) for row in powers.branches}) > 1:
            raise FileError("the branches differ in length", f"{where}.branches", "give each as many coefficients")
        if powers.up * len(powers.branches[0]) > LONGEST:
            what = f"{powers.up * len(powers.branches[0])} taps are too many"
            raise FileError(what, f"{where}.branches", f"up times the samples is at most {LONGEST}")
        rows = [tuple(_within(row, f"{where}.branches[{k}]")) for k, row in enumerate(powers.branches)]
        return RateStage("farrow", powers.up, powers.down, branches=tuple(rows))
    shape: TapsPart | CicPart = read(part, TapsPart, where) if part["kind"] == "taps" else read(part, CicPart, where)
    if isinstance(shape, TapsPart):
        if not 1 <= len(shape.taps) <= LONGEST:
            raise FileError(f"expected between 1 and {LONGEST} taps, found {describe(shape.taps)}", f"{where}.taps")
        return RateStage("taps", shape.up, shape.down, tuple(_within(shape.taps, f"{where}.taps")))
    if (shape.up > 1) == (shape.down > 1):
        raise FileError("a cic goes up or down, one of the two", where, "give it up or down a factor of 2 or more")
    return RateStage("cic", shape.up, shape.down, (), shape.order, shape.delay)


def filter_from(document: Any, where: str = "") -> Filter:
    """The filter a document describes, by whichever keys it has."""
    return _filter(read(document, FilterShape, where), where)


def _filter(found: FilterShape, where: str) -> Filter:
    def place(key: str) -> str:
        return f"{where}.{key}" if where else key

    gain = _within([found.gain], place("gain"), single=True)[0]
    if found.taps is not None:
        taps = _within(found.taps, place("taps"))
        if not 1 <= len(taps) <= LONGEST:
            raise FileError(f"expected between 1 and {LONGEST} taps, found {describe(taps)}", place("taps"))
        return Fir(tuple(taps))
    if found.sections is not None:
        if not found.sections:
            raise FileError("expected at least one section, found an empty list", place("sections"))
        _at_most(MOST_SECTIONS, "sections", len(found.sections), place("sections"))
        for index, section in enumerate(found.sections):
            _within(list(section), f"{place('sections')}[{index}]")
        return Cascade(tuple(found.sections), gain)
    if found.zeros is not None or found.poles is not None:
        for key, roots in (("zeros", found.zeros), ("poles", found.poles)):
            _at_most(MOST_ROOTS, key, len(roots or []), place(key))
        return Roots(_roots(found.zeros or [], place("zeros")), _roots(found.poles or [], place("poles")), gain)
    if found.b is not None or found.a is not None:
        for key, values in (("b", found.b), ("a", found.a)):
            _at_most(MOST_DEGREE + 1, "coefficients", len(values or []), place(key))
            if values is not None and not values:
                raise FileError("expected at least one coefficient, found an empty list", place(key))
        b = [1.0] if found.b is None else _within(found.b, place("b"))
        a = [1.0] if found.a is None else _within(found.a, place("a"))
        return polynomials(b, a).filter
    raise FileError(
        "there is no filter here", where, 'expected the key "taps", "sections", "b" and "a", or "zeros" and "poles"'
    )


def _at_most(most: int, what: str, count: int, where: str) -> None:
    if count > most:
        raise FileError(f"{count} {what} are too many", where, f"up to {most} are taken")


def _roots(found: list[float | tuple[float, float]], where: str) -> tuple[complex, ...]:
    roots = []
    for index, item in enumerate(found):
        re, im = item if isinstance(item, tuple) else (item, 0.0)
        _within([re, im], f"{where}[{index}]", single=True)
        roots.append(complex(re, im))
    total = sum(roots)
    if abs(total.imag) > 1e-9 * (1 + sum(abs(root) for root in roots)):
        raise FileError("the roots don't come in conjugate pairs", where, "give both of each complex pair")
    return tuple(roots)


def _within(values: list[float], where: str, single: bool = False) -> list[float]:
    """The values, none of them too large for arithmetic in doubles."""
    for index, value in enumerate(values):
        if abs(value) > LARGEST_NUMBER:
            place = where if single else f"{where}[{index}]"
            raise FileError(f"{value:g} is too large", place, f"numbers up to {LARGEST_NUMBER:g} are taken")
    return values
