"""The requirement file: JSON to values and back, every mistake named with its key."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from combe.checking import Fields, describe, is_number
from combe.errors import CombeError, FileError
from combe.files import read_json
from combe.requirement.bands import WHOLE_LIMITS, Band, Limit, Requirement

KEYS = (
    "format", "version", "name", "sample_rate_hz", "bands", "phase", "max_delay_s", "max_delay_spread_s",
    "max_multiplies",
    "max_cycles",
    "max_multipliers",
    "clock_hz",
)  # fmt: skip
BAND_KEYS = ("name", "start_hz", "stop_hz", "min_db", "max_db")


def read_requirement(path: str | Path) -> Requirement:
    """The requirement in a file.

    Raises
    ------
    FileError, RequirementError
        Naming the file, the key and what was expected.
    """
    document = read_json(path)
    try:
        return requirement_from(document)
    except CombeError as error:
        raise error.at(str(path)) from None


def requirement_from(document: Any, where: str = "") -> Requirement:
    """The requirement in a JSON document; ``where`` is its place inside a larger one."""
    fields = Fields(document, where)
    fields.header("combe-requirement", 1)
    fields.only(KEYS)
    rate = fields.number("sample_rate_hz", "the sample rate in Hz, above zero")
    if rate <= 0:
        raise fields.fail("sample_rate_hz", "the sample rate in Hz, above zero")
    entries = fields.list("bands", "a list of bands")
    if not entries:
        raise fields.fail("bands", "at least one band")
    bands = [_band(item, fields.place(f"bands[{index}]"), index) for index, item in enumerate(entries)]
    try:
        return Requirement(
            name=fields.text("name", "a text", "filter"),
            sample_rate_hz=rate,
            bands=tuple(sorted(bands, key=lambda band: band.start_hz)),
            phase=fields.choice("phase", ("linear", "any"), "any"),
            max_delay_s=_optional(fields, "max_delay_s", "seconds, zero or more"),
            max_delay_spread_s=_optional(fields, "max_delay_spread_s", "seconds, zero or more"),
            max_multiplies=fields.integer("max_multiplies", 0, 10**9) if fields.has("max_multiplies") else None,
            max_cycles=_optional(fields, "max_cycles", "clock cycles a sample, zero or more"),
            max_multipliers=fields.integer("max_multipliers", 0, 10**6) if fields.has("max_multipliers") else None,
            clock_hz=_optional(fields, "clock_hz", "the clock of the device in Hz"),
            note=fields.text("note", "a text", ""),
        )
    except CombeError as error:
        if where and not error.where.startswith(where):
            raise type(error)(error.what, f"{where}.{error.where}", error.instead) from None
        raise


def _optional(fields: Fields, key: str, expected: str) -> float | None:
    if not fields.has(key):
        return None
    value = fields.number(key, expected)
    if value < 0:
        raise fields.fail(key, expected)
    return value


def _band(item: Any, where: str, index: int) -> Band:
    fields = Fields(item, where)
    fields.only(BAND_KEYS)
    start, stop = fields.number("start_hz", "a frequency in Hz"), fields.number("stop_hz", "a frequency in Hz")
    if not stop > start:
        raise fields.fail("stop_hz", f"a frequency above start_hz ({start:g})")
    upper = _limit(fields, "max_db", start, stop)
    lower = _limit(fields, "min_db", start, stop) if fields.has("min_db") else None
    return Band(fields.text("name", "a text", f"band {index + 1}"), start, stop, upper, lower)


def _limit(fields: Fields, key: str, start: float, stop: float) -> Limit:
    expected = "a gain in dB, or a list of [hz, db] points"
    value = fields.document.get(key)
    if is_number(value):
        return Limit.level(float(value), start, stop)  # type: ignore[arg-type]
    if not isinstance(value, list):
        raise fields.fail(key, expected)
    if len(value) < 2:
        raise FileError(f"expected two or more [hz, db] points, found {describe(value)}", fields.place(key))
    points: list[tuple[float, float]] = []
    for index, point in enumerate(value):
        place = fields.place(f"{key}[{index}]")
        if not (isinstance(point, list) and len(point) == 2 and all(is_number(x) for x in point)):
            raise FileError(f"expected [hz, db], found {describe(point)}", place)
        if points and point[0] < points[-1][0]:
            raise FileError(f"{point[0]:g} Hz lies below the point before it", place, "put the points in rising order")
        points.append((float(point[0]), float(point[1])))
    if points[0][0] > start or points[-1][0] < stop:
        raise FileError(f"the points must reach from start_hz ({start:g}) to stop_hz ({stop:g})", fields.place(key))
    limit = Limit(tuple(points), False)
    outside = points[0][0] < start or points[-1][0] > stop
    return limit.clipped(start, stop) if outside else limit


def requirement_document(requirement: Requirement) -> dict[str, Any]:
    """The JSON document of a requirement; reading it gives the same value again."""
    document: dict[str, Any] = {
        "format": "combe-requirement", "version": 1, "name": requirement.name,
        "sample_rate_hz": plain(requirement.sample_rate_hz),
        "bands": [_band_document(band) for band in requirement.bands],
        "phase": requirement.phase,
    }  # fmt: skip
    for key in (*WHOLE_LIMITS, "clock_hz"):
        if getattr(requirement, key) is not None:
            document[key] = getattr(requirement, key)
    if requirement.note:
        document["note"] = requirement.note
    return document


def _band_document(band: Band) -> dict[str, Any]:
    document: dict[str, Any] = {
        "name": band.name, "start_hz": plain(band.start_hz), "stop_hz": plain(band.stop_hz),
    }  # fmt: skip
    if band.lower is not None:
        document["min_db"] = _limit_document(band.lower)
    document["max_db"] = _limit_document(band.upper)
    return document


def _limit_document(limit: Limit) -> Any:
    if limit.flat:
        return plain(limit.first_db)
    return [[plain(hz), plain(db)] for hz, db in limit.points]


def plain(value: float) -> float | int:
    """Whole numbers without a decimal point, as people write them."""
    return int(value) if float(value).is_integer() and abs(value) < 1e15 else float(value)
