"""A realization file run on fractions, written from docs/arithmetic.md alone: no code of Combe's is used."""

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


def brought(value: Fraction, name: str, rounding: str, overflow: str) -> tuple[Fraction, Fraction]:
    """The value in a format, and what its rounding cut off."""
    bits, fraction = int(name[1:].split("f")[0]), point(name)
    raw = rounded(value * Fraction(2) ** fraction, rounding)
    rest = value - raw * Fraction(2) ** -fraction
    low, high = (-(1 << (bits - 1)), (1 << (bits - 1)) - 1) if name[0] == "s" else (0, (1 << bits) - 1)
    raw = min(max(raw, low), high) if overflow == "saturate" else (raw - low) % (1 << bits) + low
    return raw * Fraction(2) ** -fraction, rest


def plain_run(document: dict[str, Any], samples: list[int]) -> list[int]:
    """Raw outputs for raw inputs."""
    signal = [Fraction(x) * Fraction(2) ** -point(document["input"]) for x in samples]
    for stage in document["stages"]:
        signal = {"requantize": _requantize, "section": _section, "tap-sum": _tap_sum, "network": _network}[
            stage["kind"]
        ](stage, signal)
    return [int(value * Fraction(2) ** point(document["output"])) for value in signal]


def _requantize(stage: dict[str, Any], signal: list[Fraction]) -> list[Fraction]:
    return [brought(x, stage["to"], stage["rounding"], stage["overflow"])[0] for x in signal]


def _tap_sum(stage: dict[str, Any], signal: list[Fraction]) -> list[Fraction]:
    step = Fraction(2) ** -point(stage["coefficient"])
    taps = stage["coefficients"]
    return [
        sum((c * step * signal[n - i] for i, c in enumerate(taps) if i <= n), Fraction(0)) for n in range(len(signal))
    ]


def _section(stage: dict[str, Any], signal: list[Fraction]) -> list[Fraction]:
    b = [Fraction(k) * Fraction(2) ** -point(stage["numerator"]) for k in stage["b"]]
    a = [Fraction(k) * Fraction(2) ** -point(stage["denominator"]) for k in stage["a"]]
    x, y, found = [Fraction(0)] * 2, [Fraction(0)] * 2, []
    for new in signal:
        total = b[0] * new + b[1] * x[0] + b[2] * x[1] - a[0] * y[0] - a[1] * y[1]
        result, _ = brought(total, stage["to"], stage["rounding"], stage["overflow"])
        x, y = [new, x[0]], [result, y[0]]
        found.append(result)
    return found


def _network(stage: dict[str, Any], signal: list[Fraction]) -> list[Fraction]:
    past: dict[str, list[Fraction]] = {"input": []}
    for node in stage["nodes"]:
        past[node["name"]], past[node["name"] + ".rest"] = [], []
    found = []
    for n, new in enumerate(signal):
        past["input"].append(new)
        for node in stage["nodes"]:
            total = Fraction(0)
            for name, delay, raw, entry in node["terms"]:
                if n >= delay:
                    total += raw * Fraction(2) ** -point(entry) * past[name][n - delay]
            value, rest = brought(total, node["to"], node["rounding"], node["overflow"])
            past[node["name"]].append(value)
            past[node["name"] + ".rest"].append(rest)
        found.append(past[stage["output"]][n])
    return found
