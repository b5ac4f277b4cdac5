"""The design file, and every way to hand Combe a filter: taps, sections or roots."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

from msgspec import Meta, Struct

from combe.checking import Fields, describe
from combe.designing.costs import cost_of_design, lines_of_design
from combe.designing.designed import Design
from combe.designing.given import given_filter, polynomials
from combe.errors import CombeError, FileError
from combe.files import parse_json, read_text
from combe.filters import Cascade, Filter, Fir, Roots
from combe.ledger import delay_over_passbands, meets
from combe.requirement import requirement_document, requirement_from
from combe.schema import read

LONGEST, MOST_SECTIONS, MOST_ROOTS, MOST_DEGREE = 20_000, 128, 256, 256
"""Of taps, sections, zeros or poles, and of b or a: what is accepted is answered within seconds."""
LARGEST_NUMBER = 1e100


def design_document(design: Design) -> dict[str, Any]:
    """The JSON document of a design, its lines measured anew."""
    requirement, source = design.requirement, design.filter
    document: dict[str, Any] = {
        "format": "combe-design", "version": 1, "method": design.method, "kind": design.kind,
        "order": design.order, "sample_rate_hz": design.sample_rate_hz,
    }  # fmt: skip
    if requirement is not None:
        document["requirement"] = requirement_document(requirement)
    document |= filter_document(source)
    if design.parts:
        document["parts"] = [list(part.taps) for part in design.parts]
    lines = lines_of_design(design, requirement) if requirement is not None else ()
    cost = cost_of_design(design)
    bands = [(band.start_hz, band.stop_hz) for band in requirement.passbands] if requirement else []
    delay = delay_over_passbands(source, bands, design.sample_rate_hz)
    document |= {
        "is_shortest": design.is_shortest,
        "holds_with_bits": design.holds_with_bits,
        "meets": meets(lines) if requirement is not None else None,
        "lines": [line.document() for line in lines],
        "cost": {"multiplies": cost.multiplies, "adds": cost.adds, "delays": cost.delays},
        "delay_samples": {"mean": delay.mean, "least": delay.least, "most": delay.most},
        "seconds": round(design.seconds, 6),
    }
    if design.singular_values:
        document["hankel_singular_values"] = list(design.singular_values)
    if design.notes:
        document["notes"] = list(design.notes)
    return document


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
    parts: Annotated[list[list[Number]], Meta(description="a list of lists of taps")] | None = None


def design_from(document: Any, where: str = "", sample_rate_hz: float | None = None) -> Design:
    """A design from a JSON document with taps, sections or zeros and poles."""
    fields = Fields(document, where)
    if "format" in document:
        fields.header("combe-design", 1)
    found = read(document, DesignShape, where)
    source = _filter(found, where)
    requirement = None
    if fields.has("requirement"):
        requirement = requirement_from(document["requirement"], fields.place("requirement"))
    rate = sample_rate_hz
    if rate is None:
        rate = found.sample_rate_hz or 1.0
        if requirement is not None and requirement.sample_rate_hz != rate:
            raise fields.fail("sample_rate_hz", f"the requirement's sample rate, {requirement.sample_rate_hz:g}")
    elif requirement is not None and requirement.sample_rate_hz != rate:
        requirement = None
    notes = document.get("notes") or []
    kept = tuple(str(note) for note in notes) if isinstance(notes, list) else ()
    parts = tuple(Fir(tuple(_within(part, fields.place(f"parts[{k}]")))) for k, part in enumerate(found.parts or []))
    return Design(found.method, source, rate, requirement, kept, parts=parts)


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
