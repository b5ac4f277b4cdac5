"""Coefficients that can be replaced while the filter runs: what is kept, and the limits new ones are held against."""

from __future__ import annotations

from typing import Any

from combe.delivery.c.types import c_type, literal
from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.section import Section
from combe.realization.stages import TapSum


def reloadable_taps(stage: TapSum, source: Format, index: int) -> dict[str, Any]:
    """Taps live in the state; new ones must keep the accumulator safe from any input."""
    _check_width(stage.coefficient.bits + source.bits, stage.accumulator)
    return {
        "is_ranged": stage.coefficient.bits not in (8, 16, 32, 64), "is_reloadable": True, "table": f"state->taps_{index}",
        "input_least": literal(source.least, "int64_t"), "input_most": literal(source.most, "int64_t"),
        "tap_least": literal(stage.coefficient.least, "int64_t"), "tap_most": literal(stage.coefficient.most, "int64_t"),
        "sum_least": literal(stage.accumulator.least, "int64_t"), "sum_most": literal(stage.accumulator.most, "int64_t"),
    }  # fmt: skip


def reloadable_section(stage: Section, source: Format, u: int, v: int, sum_type: str) -> dict[str, Any]:
    """Five factors in the state, already moved up to the sum's binary point and turned in sign."""
    widest = max(stage.numerator.bits + u + source.bits, stage.denominator.bits + v + stage.result.bits)
    _check_width(widest, stage.accumulator)
    fits = max(stage.numerator.bits + u, stage.denominator.bits + v + 1) <= 32
    factor_type = "int32_t" if fits else "int64_t"
    plain = [value << u for value in stage.b] + [-value << v for value in stage.a]
    return {
        "is_reloadable": True, "kept_factors": [], "factor_type": factor_type,
        "plain_factors": [literal(value, factor_type) for value in plain],
        "b": [f"({sum_type})k{k}" for k in range(3)], "a": [f"({sum_type})k{k}" for k in (3, 4)],
        "raw_b": (1, 1, 1), "raw_a": (1, 1), "b_type": c_type(stage.numerator), "a_type": c_type(stage.denominator),
        "b_scale": literal(1 << u, "int64_t"), "a_scale": literal(1 << v, "int64_t"),
        **{f"{key}_{end}": literal(getattr(entry, end), "int64_t")
           for key, entry in (("input", source), ("result", stage.result), ("b", stage.numerator),
                              ("a", stage.denominator), ("sum", stage.accumulator)) for end in ("least", "most")},
    }  # fmt: skip


def _check_width(product_bits: int, accumulator: Format) -> None:
    if max(product_bits, accumulator.bits) > 62:
        what = f"products of {product_bits} bits in {accumulator} can't be checked in 64 bits"
        raise FormatError(what, "reloadable", "take fewer bits, or fixed coefficients")
