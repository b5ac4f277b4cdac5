"""A realization file run on exact numbers, written from docs/arithmetic.md alone: no code of Combe's is used."""

from __future__ import annotations

from fractions import Fraction
from math import floor
from typing import Any


def rounded(value: Fraction, how: str) -> int:
    if how == "floor":
        return floor(value)
    if how == "toward-zero":
        return int(value)
    if how == "nearest-up":
        return floor(value + Fraction(1, 2))
    return round(value)


def point(name: str) -> int:
    return int(name.split("f")[1])


PARTS = 256
"""Within a run every number is an integer of so many binary places: no sum of one needs more."""
ONE, HALF = 1 << PARTS, 1 << (PARTS - 1)
EVEN_TIE = (1 << (PARTS + 1)) - 1


def in_parts(raw: int, places: int) -> int:
    """``raw`` units of ``2**-places``."""
    assert places <= PARTS
    return raw << (PARTS - places)


def times(raw: int, places: int, value: int) -> int:
    """A coefficient of ``raw`` units of ``2**-places`` times a value: nothing may be cut off."""
    product = raw * value
    found = product >> places if places >= 0 else product << -places
    assert places <= 0 or found << places == product
    return found


def whole(value: int, how: str) -> int:
    """Rounded to an integer."""
    if how == "floor":
        return value >> PARTS
    if how == "toward-zero":
        return value >> PARTS if value >= 0 else -(-value >> PARTS)
    up = (value + HALF) >> PARTS
    return up - 1 if how != "nearest-up" and value & EVEN_TIE == HALF else up


def brought_parts(value: int, name: str, rounding: str, overflow: str) -> tuple[int, int]:
    """The value in a format, and what its rounding cut off."""
    bits, places = int(name[1:].split("f")[0]), point(name)
    raw = whole(value << places if places >= 0 else value >> -places, rounding)
    rest = value - in_parts(raw, places)
    low, high = (-(1 << (bits - 1)), (1 << (bits - 1)) - 1) if name[0] == "s" else (0, (1 << bits) - 1)
    raw = min(max(raw, low), high) if overflow == "saturate" else (raw - low) % (1 << bits) + low
    return in_parts(raw, places), rest


def brought(value: Fraction, name: str, rounding: str, overflow: str) -> tuple[Fraction, Fraction]:
    """The same for a fraction; nothing of it may be smaller than a part."""
    parts = value * ONE
    assert parts.denominator == 1
    found, rest = brought_parts(int(parts), name, rounding, overflow)
    return Fraction(found, ONE), Fraction(rest, ONE)


def plain_run(document: dict[str, Any], samples: list[int]) -> list[int]:
    """Raw outputs for raw inputs."""
    signal = [in_parts(x, point(document["input"])) for x in samples]
    for stage in document["stages"]:
        signal = {"requantize": _requantize, "section": _section, "tap-sum": _tap_sum, "network": _network}[
            stage["kind"]
        ](stage, signal)
    return [whole(times(1, -point(document["output"]), value), "floor") for value in signal]


def _requantize(stage: dict[str, Any], signal: list[int]) -> list[int]:
    return [brought_parts(x, stage["to"], stage["rounding"], stage["overflow"])[0] for x in signal]


def _tap_sum(stage: dict[str, Any], signal: list[int]) -> list[int]:
    places, taps = point(stage["coefficient"]), stage["coefficients"]
    return [times(1, places, sum(c * signal[n - i] for i, c in enumerate(taps) if i <= n)) for n in range(len(signal))]


def _section(stage: dict[str, Any], signal: list[int]) -> list[int]:
    ahead, back = point(stage["numerator"]), point(stage["denominator"])
    b, a = stage["b"], stage["a"]
    x, y, found = [0] * 2, [0] * 2, []
    for new in signal:
        total = times(1, ahead, b[0] * new + b[1] * x[0] + b[2] * x[1]) - times(1, back, a[0] * y[0] + a[1] * y[1])
        result, _ = brought_parts(total, stage["to"], stage["rounding"], stage["overflow"])
        x, y = [new, x[0]], [result, y[0]]
        found.append(result)
    return found


def _network(stage: dict[str, Any], signal: list[int]) -> list[int]:
    past: dict[str, list[int]] = {"input": []}
    for node in stage["nodes"]:
        past[node["name"]], past[node["name"] + ".rest"] = [], []
    found = []
    for n, new in enumerate(signal):
        past["input"].append(new)
        for node in stage["nodes"]:
            total = 0
            for name, delay, raw, entry in node["terms"]:
                if n >= delay:
                    total += times(raw, point(entry), past[name][n - delay])
            value, rest = brought_parts(total, node["to"], node["rounding"], node["overflow"])
            past[node["name"]].append(value)
            past[node["name"] + ".rest"].append(rest)
        found.append(past[stage["output"]][n])
    return found
