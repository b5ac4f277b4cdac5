"""Stages that change the rate in C: taps by phases, so that no zero is multiplied, and sums in a row."""

from __future__ import annotations

from fractions import Fraction
from math import ceil
from typing import Any

from combe.delivery.c.blocks import UNROLLED, block_length, divisor, fits_32, is_dual, unrolling
from combe.delivery.c.types import c_type, literal, signed_type
from combe.delivery.c.wide import is_wide, wide_rounding
from combe.delivery.code_choices import CodeChoices
from combe.errors import FormatError
from combe.realization.cic import Cic
from combe.realization.formats import Format
from combe.realization.stages import Requantize, TapSum

LONGEST_BETWEEN = 1024
"""Words handed on between two stages at a time."""


def rate_layout(stage: TapSum, source: Format, choices: CodeChoices) -> dict[str, Any]:
    """What the template prints of a sum of taps that changes the rate.

    The table holds the taps of each phase in a row, oldest sample first, filled up with zeros at the oldest end. Four outputs
    are worked out together where they share something: the taps where the rate only goes down, the samples where it goes
    only up and has phases enough.
    """
    up = stage.up
    depth = -(-len(stage.coefficients) // up)
    padded = -(-depth // UNROLLED) * UNROLLED
    rows = phase_rows(stage, padded)
    dual = is_dual(stage, source)
    # Taps that are replaced may be any of their format, as long as no sum leaves the accumulator.
    ends = (stage.accumulator.least, stage.accumulator.most) if choices.reloadable else stage.span(source)
    sum_type = signed_type(*ends, 32)
    sum_type = signed_type(stage.accumulator.least, stage.accumulator.most, 32) if sum_type == "int64_t" else sum_type
    table_type = "int16_t" if dual else c_type(stage.coefficient)
    any_taps = [[stage.coefficient.least, stage.coefficient.most]]
    return rate_shape(stage, padded, choices) | {
        "count": len(stage.coefficients), "padded": padded, "depth": depth, "kept_count": len(stage.coefficients),
        "sum_type": sum_type, "is_long": sum_type == "int64_t", "bias": "0", "table_type": table_type,
        "kept_type": "int16_t" if dual else c_type(source), "accumulator": stage.accumulator,
        "coefficient": stage.coefficient, "form": stage.form,
        "rows": [literal(value, table_type) for row in rows for value in row],
        "is_dual": dual and choices.intrinsics, "is_short": sum_type == "int64_t" and fits_32_each(any_taps if choices.reloadable else rows, source),
        "described": f"{stage.coefficient}: the integer k stands for k * 2^{-stage.coefficient.fraction}",
        "vectors": "dot" if dual and sum_type == "int32_t" else "",
    }  # fmt: skip


def rate_shape(stage: TapSum, padded: int, choices: CodeChoices) -> dict[str, Any]:
    """What the same template prints of phases and blocks, in integers and in floating point alike."""
    if choices.history != "blocks":
        raise FormatError(
            f"a change of rate keeps its samples in blocks, not {choices.history}", "history", "take blocks"
        )
    up, down = stage.up, stage.down
    together = "down" if up == 1 else "up" if down == 1 and up % 4 == 0 else ""
    return {
        "layout": "rates", "up": up, "down": down, "whole": down // up, "part": down % up, "together": together,
        "tap_stride": padded if together == "up" else 0, "sample_stride": down if together == "down" else 0,
        "block": max(block_length(padded), min(32 * down, 256) if up == 1 else 0),
        "order_words": f" {up} phases, each oldest sample first." if up > 1 else " Oldest sample first.",
        "few_unrolled": divisor(padded // 2, 8),
    } | unrolling(padded, choices.unroll)  # fmt: skip


def phase_rows(stage: TapSum, padded: int) -> list[list[int]]:
    """The taps of each phase, oldest sample first, filled up at the oldest end."""
    rows = []
    for phase in range(stage.up):
        own = list(stage.coefficients[phase :: stage.up])[::-1]
        rows.append([0] * (padded - len(own)) + own)
    return rows


def fits_32_each(rows: list[list[int]], source: Format) -> bool:
    """Whether 32 bits hold every single product."""
    return all(fits_32([value], source) for row in rows for value in row)


def cic_layout(stage: Cic, source: Format, after: Requantize | None = None) -> dict[str, Any]:
    """What the template prints of sums in a row: they count modulo 2^32 or 2^64; or modulo 2^128 where 64 bits don't hold what
    comes out, and the rounding ``after`` them, which must leave at most 64, is taken in.

    Raises
    ------
    FormatError
        If C's words don't hold what goes in or comes out.
    """
    bits = max(stage.accumulator.bits, source.bits + (not source.signed))
    common = {
        "layout": "cic", "order": stage.order, "up": stage.up, "down": stage.down, "delay": stage.delay,
        "factor": stage.factor, "accumulator": stage.accumulator, "kept_factors": [], "is_wide": bits > 64,
    }  # fmt: skip
    if bits <= 64:
        word = 32 if bits <= 32 else 64
        return common | {
            "word": f"uint{word}_t", "signed_word": f"int{word}_t", "top": word - 1, "sum_type": f"int{word}_t",
        }  # fmt: skip
    is_wide(stage.accumulator.least, stage.accumulator.most)
    if after is None or after.target.bits > 64 or (not source.signed and source.bits > 63):
        what = f"sums of {bits} bits from {source} are wider than C's 64"
        raise FormatError(what, "accumulator", "let a rounding to 64 bits or fewer follow them")
    return common | {"round": wide_rounding(after) | {"is_summed": True, "has_terms": False}, "word": "uint64_t"}


def growth(ratios: list[tuple[int, int]]) -> Fraction:
    """The most values that stand between two stages for one input."""
    most, now = Fraction(1), Fraction(1)
    for up, down in ratios:
        now *= Fraction(up, down)
        most = max(most, now)
    return most


def chunk_of(ratios: list[tuple[int, int]], usual: int) -> int:
    """Inputs taken at a time, so that no buffer between two stages grows beyond its bounds."""
    inner = growth(ratios[:-1]) if len(ratios) > 1 else Fraction(1)
    return max(1, min(usual, int(LONGEST_BETWEEN / inner)))


def most_outputs(count: int, ratios: list[tuple[int, int]]) -> int:
    """The most outputs of stages in a row for so many inputs, whatever came before."""
    for up, down in ratios:
        count = ceil(Fraction(count * up, down))
    return count


def most_words(ratios: list[tuple[int, int]]) -> str:
    """The same as a C expression of ``count``."""
    text = "(count)"
    for up, down in ratios:
        if up > 1:
            text = f"({text} * {up}u)"
        if down > 1:
            text = f"(({text} + {down - 1}u) / {down}u)"
    return text
