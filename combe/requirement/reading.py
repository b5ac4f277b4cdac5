"""The requirement file: JSON to values and back, every mistake named with its key."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path
from typing import Any

from combe.checking import Fields, describe
from combe.errors import CombeError, FileError
from combe.files import read_json
from combe.requirement.bands import WHOLE_LIMITS, Band, Limit, Requirement
from combe.requirement.quantities import frequency_text
from combe.requirement.rates import RateChange
from combe.requirement.shape import BandShape, Point, RequirementShape
from combe.schema import read


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


MOST_BANDS, MOST_POINTS = 100, 1000
"""Of a requirement, and of one limit: what is accepted is answered within seconds."""


def requirement_from(document: Any, where: str = "") -> Requirement:
    """The requirement in a JSON document; ``where`` is its place inside a larger one."""
    Fields(document, where).header("combe-requirement", 1)
    found = read(document, RequirementShape, where)
    if not found.bands:
        raise FileError("expected at least one band, found an empty list", f"{where}.bands" if where else "bands")
    inside = f"{where}.bands" if where else "bands"
    if len(found.bands) > MOST_BANDS:
        raise FileError(f"{len(found.bands)} bands are too many", inside, f"up to {MOST_BANDS} are taken")
    bands = [_band(band, f"{inside}[{index}]", index) for index, band in enumerate(found.bands)]
    rate = found.rate
    change = RateChange(rate.up, rate.down, rate.alias_db, rate.image_db, rate.protect) if rate is not None else None
    works_hz = found.sample_rate_hz * (change.up if change is not None else 1)
    try:
        return Requirement(
            found.name, works_hz, tuple(sorted(bands, key=lambda band: band.start_hz)), found.phase,
            found.max_delay_s, found.max_delay_spread_s, found.max_multiplies, found.max_cycles, found.max_multipliers,
            found.clock_hz, found.note, change,
        )  # fmt: skip
    except CombeError as error:
        if where and not error.where.startswith(where):
            raise type(error)(error.what, f"{where}.{error.where}", error.instead) from None
        raise


def _band(found: BandShape, where: str, index: int) -> Band:
    start, stop = found.start_hz, found.stop_hz
    if not stop > start:
        what = f"expected a frequency above start_hz ({start:g}), found {describe(plain(stop))}"
        raise FileError(what, f"{where}.stop_hz")
    upper = _limit(found.max_db, f"{where}.max_db", start, stop)
    lower = None if found.min_db is None else _limit(found.min_db, f"{where}.min_db", start, stop)
    return Band(found.name if found.name is not None else f"band {index + 1}", start, stop, upper, lower)


def _limit(value: float | list[Point], where: str, start: float, stop: float) -> Limit:
    if not isinstance(value, list):
        return Limit.level(value, start, stop)
    if len(value) > MOST_POINTS:
        raise FileError(f"{len(value)} points are too many for a limit", where, f"up to {MOST_POINTS} are taken")
    if len(value) < 2:
        raise FileError(f"expected two or more [hz, db] points, found {describe(value)}", where)
    for index, (before, after) in enumerate(pairwise(value), 1):
        if after[0] < before[0]:
            what = f"{frequency_text(after[0])} lies below the point before it"
            raise FileError(what, f"{where}[{index}]", "put the points in rising order")
    if value[0][0] > start or value[-1][0] < stop:
        raise FileError(f"the points must reach from start_hz ({start:g}) to stop_hz ({stop:g})", where)
    limit = Limit(tuple(value), False)
    outside = value[0][0] < start or value[-1][0] > stop
    return limit.clipped(start, stop) if outside else limit


def requirement_document(requirement: Requirement) -> dict[str, Any]:
    """The JSON document of a requirement; reading it gives the same value again."""
    document: dict[str, Any] = {
        "format": "combe-requirement", "version": 1, "name": requirement.name,
        "sample_rate_hz": plain(requirement.input_rate_hz),
        "bands": [_band_document(band) for band in requirement.bands],
        "phase": requirement.phase,
    }  # fmt: skip
    for key in (*WHOLE_LIMITS, "clock_hz"):
        if getattr(requirement, key) is not None:
            document[key] = getattr(requirement, key)
    if requirement.note:
        document["note"] = requirement.note
    if requirement.rate is not None:
        document["rate"] = rate_document(requirement.rate)
    return document


def rate_document(rate: RateChange) -> dict[str, Any]:
    """A change of rate as the file has it."""
    document: dict[str, Any] = {"up": rate.up, "down": rate.down}
    for key in ("alias_db", "image_db"):
        if getattr(rate, key) is not None:
            document[key] = plain(getattr(rate, key))
    return document | {"protect": rate.protect}


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
