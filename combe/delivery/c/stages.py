"""What the C template needs to know of each stage, every width and shift decided here."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from combe.arithmetic.formats import Format
from combe.arithmetic.network import Network
from combe.arithmetic.section import Section
from combe.arithmetic.stages import Realization, Requantize, Stage, TapSum
from combe.delivery.c.network import network_values
from combe.delivery.c.rounding import requantize_values
from combe.delivery.c.types import c_type, literal, signed_type


@dataclass(frozen=True, slots=True)
class View:
    """One stage as the template prints it."""

    kind: str
    index: int
    source: Format
    result: Format
    source_type: str
    result_type: str
    values: dict[str, Any]

    @property
    def label(self) -> str:
        """What its rounding is called."""
        return str(self.values.get("label", self.index))


def views(realization: Realization) -> list[View]:
    """Every stage in order."""
    formats = realization.formats()
    return [_view(stage, index, formats[index], formats[index + 1]) for index, stage in enumerate(realization.stages)]


def _view(stage: Stage, index: int, source: Format, result: Format) -> View:
    if isinstance(stage, TapSum):
        return View("tap-sum", index, source, result, c_type(source), c_type(result), _tap_sum(stage, source))
    if isinstance(stage, Section):
        return View("section", index, source, result, c_type(source), c_type(result), _section(stage, source))
    if isinstance(stage, Network):
        values = network_values(stage, index, source)
        return View("network", index, source, result, c_type(source), c_type(result), values)
    return View("requantize", index, source, result, c_type(source), c_type(result), requantize_values(stage))


def _tap_sum(stage: TapSum, source: Format) -> dict[str, Any]:
    """Products and sums in one type that holds the accumulator and the sum of a folded pair."""
    coefficients = stage.coefficients
    count = len(coefficients)
    folded = stage.form == "folded" and count > 1
    minus = folded and stage.symmetry == -1
    least, most = source.least, source.most
    pair = (least - most, most - least) if minus else (2 * least, 2 * most) if folded else (least, most)
    sum_type = signed_type(min(stage.accumulator.least, pair[0]), max(stage.accumulator.most, pair[1]), 32)
    table_type = c_type(stage.coefficient)
    printed = coefficients[: (count + (0 if minus else 1)) // 2] if folded else coefficients
    return {
        "count": count, "half": count // 2, "middle": folded and not minus and count % 2 == 1, "folded": folded,
        "minus": minus, "sum_type": sum_type, "table_type": table_type, "accumulator": stage.accumulator,
        "rows": [literal(value, table_type) for value in printed], "coefficient": stage.coefficient,
        "transposed": stage.form == "transposed" and count > 1, "branches": stage.branches,
    }  # fmt: skip


def _section(stage: Section, source: Format) -> dict[str, Any]:
    """Five products in one type that holds the sum; the shifts are folded into the constants where they fit."""
    u, v = stage.shifts(source)
    least, most = stage.span(source)
    sum_type = signed_type(min(stage.accumulator.least, least), max(stage.accumulator.most, most), 32)
    rounding = Requantize(stage.accumulator, stage.result, stage.rounding, stage.overflow)
    for value, shift in [(value, u) for value in stage.b] + [(value, v) for value in stage.a]:
        signed_type(value << shift, value << shift, 32)
    return {
        "sum_type": sum_type, "accumulator": stage.accumulator, "numerator": stage.numerator,
        "denominator": stage.denominator, "u": u, "v": v, "raw_b": stage.b, "raw_a": stage.a,
        "b": [_constant(value << u, sum_type) for value in stage.b],
        "a": [_constant(-value << v, sum_type) for value in stage.a],
        "round": requantize_values(rounding),
    }  # fmt: skip


def _constant(value: int, sum_type: str) -> str:
    """A factor in the type of the sum, in brackets where it is negative."""
    text = literal(value, sum_type)
    return f"({text})" if text.startswith("-") else text
