"""The design file, and every way to hand Combe a filter: taps, sections or roots."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from combe.checking import Fields, describe, is_number
from combe.designing.costs import cost_of_design, lines_of_design
from combe.designing.designed import Design
from combe.designing.given import given_filter, polynomials
from combe.errors import CombeError, FileError
from combe.files import parse_json, read_text
from combe.filters import Cascade, Filter, Fir, Roots
from combe.ledger import delay_over_passbands, meets
from combe.requirement import requirement_document, requirement_from

LONGEST = 200_000
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


def design_from(document: Any, where: str = "", sample_rate_hz: float | None = None) -> Design:
    """A design from a JSON document with taps, sections or zeros and poles."""
    fields = Fields(document, where)
    if "format" in document:
        fields.header("combe-design", 1)
    source = filter_from(fields)
    requirement = None
    if fields.has("requirement"):
        requirement = requirement_from(document["requirement"], fields.place("requirement"))
    rate = sample_rate_hz
    if rate is None:
        rate = fields.number("sample_rate_hz") if fields.has("sample_rate_hz") else 1.0
        if rate <= 0:
            raise fields.fail("sample_rate_hz", "the sample rate in Hz, above zero")
        if requirement is not None and requirement.sample_rate_hz != rate:
            raise fields.fail("sample_rate_hz", f"the requirement's sample rate, {requirement.sample_rate_hz:g}")
    elif requirement is not None and requirement.sample_rate_hz != rate:
        requirement = None
    notes = document.get("notes") or []
    kept = tuple(str(note) for note in notes) if isinstance(notes, list) else ()
    return Design(fields.text("method", "a method", "given"), source, rate, requirement, kept, parts=_parts(fields))


def _parts(fields: Fields) -> tuple[Fir, ...]:
    """The filters in a row a FIR is made of, where the file says so."""
    if not fields.has("parts"):
        return ()
    found = []
    for index, part in enumerate(fields.list("parts", "a list of lists of taps")):
        found.append(filter_from(Fields({"taps": part}, fields.place(f"parts[{index}]"))))
    return tuple(part for part in found if isinstance(part, Fir))


def filter_from(fields: Fields) -> Filter:
    """The filter a document describes, by whichever keys it has."""
    if fields.has("taps"):
        taps = tuple(
            _number(x, fields.place(f"taps[{k}]")) for k, x in enumerate(fields.list("taps", "a list of taps"))
        )
        if not 1 <= len(taps) <= LONGEST:
            raise fields.fail("taps", f"between 1 and {LONGEST} taps")
        return Fir(taps)
    gain = _number(fields.document["gain"], fields.place("gain")) if fields.has("gain") else 1.0
    if fields.has("sections"):
        entries = fields.list("sections", "a list of sections")
        if not entries:
            raise fields.fail("sections", "at least one section")
        return Cascade(tuple(_section(item, fields.place(f"sections[{k}]")) for k, item in enumerate(entries)), gain)
    if fields.has("zeros") or fields.has("poles"):
        return Roots(_roots(fields, "zeros"), _roots(fields, "poles"), gain)
    if fields.has("b") or fields.has("a"):
        b, a = (
            [_number(x, fields.place(f"{key}[{k}]")) for k, x in enumerate(fields.list(key))]
            if fields.has(key) else [1.0] for key in ("b", "a")
        )  # fmt: skip
        return polynomials(b, a).filter
    raise FileError(
        "there is no filter here",
        fields.where,
        'expected the key "taps", "sections", "b" and "a", or "zeros" and "poles"',
    )


def _section(item: Any, where: str) -> tuple[float, float, float, float, float]:
    if not isinstance(item, list) or len(item) != 5:
        raise FileError(f"expected [b0, b1, b2, a1, a2], found {describe(item)}", where)
    b0, b1, b2, a1, a2 = (_number(x, f"{where}[{k}]") for k, x in enumerate(item))
    return b0, b1, b2, a1, a2


def _roots(fields: Fields, key: str) -> tuple[complex, ...]:
    found = []
    for index, item in enumerate(fields.list(key) if fields.has(key) else []):
        place = fields.place(f"{key}[{index}]")
        if is_number(item):
            found.append(complex(_number(item, place)))
        elif isinstance(item, list) and len(item) == 2:
            found.append(complex(_number(item[0], place), _number(item[1], place)))
        else:
            raise FileError(f"expected [re, im], found {describe(item)}", place)
    total = sum(found)
    if abs(total.imag) > 1e-9 * (1 + sum(abs(root) for root in found)):
        raise FileError("the roots don't come in conjugate pairs", fields.place(key), "give both of each complex pair")
    return tuple(found)


def _number(value: Any, where: str) -> float:
    if not is_number(value):
        raise FileError(f"expected a number, found {describe(value)}", where)
    if abs(value) > LARGEST_NUMBER:
        raise FileError(f"{value:g} is too large", where, f"numbers up to {LARGEST_NUMBER:g} are taken")
    return float(value)
