"""Stages that change the rate in C: taps by phases, so that no zero is multiplied, and sums in a row."""

from __future__ import annotations

from fractions import Fraction
from math import ceil
from typing import Any

from msgspec import Struct

from combe.delivery.c.blocks import UNROLLED, block_length, divisor, fits_32, is_dual, unrolling
from combe.delivery.c.types import c_type, literal, signed_type
from combe.delivery.c.wide import is_wide, wide_rounding
from combe.delivery.code_choices import CodeChoices
from combe.errors import FormatError
from combe.realization.cic import Cic
from combe.realization.formats import Format
from combe.realization.stages import Requantize, TapSum

MOST_SKIPPED = 16
"""The largest factor of which samples that meet no tap are told apart."""
WORTH = 5
"""Taps that must fall away for each sample: telling samples apart costs as much as some of them."""
LONGEST_PERIODS = 256
"""Samples that come in before outputs of the same phase are worked out together, at most."""
SHORTEST = 64
"""Samples taken in at a time going up, at least: phases have few taps, and moving samples on costs as much as some of them."""
LONGEST_BETWEEN = 1024
"""Words handed on between two stages at a time."""


class Rows(Struct, frozen=True):
    """The taps of a change of rate as the table has them, by number, oldest sample first: a row for each phase of two taps or more.

    ``alone`` is the one tap of each other phase (-1 where it has none). Going down, samples that come ``skipped`` places before an output
    meet no tap of the table; one of these places may have a tap, again ``alone``.
    """

    rows: tuple[tuple[int, ...], ...]
    alone: tuple[tuple[int, int], ...] = ()
    skipped: tuple[int, ...] = ()

    @property
    def padded(self) -> int:
        """The length of each row with its zeros."""
        return -(-max(len(row) for row in self.rows) // UNROLLED) * UNROLLED


def rows_of(taps: tuple[int, ...], up: int, down: int, is_fixed: bool) -> Rows:
    """Zeros that stand at every such place needn't be multiplied, unless taps may be replaced: half-band and M-th-band stages
    (Mintzer 1982) have them."""
    every = Rows(tuple(tuple(range(phase, len(taps), up))[::-1] for phase in range(up)))
    if not is_fixed:
        return every
    if up > 1:
        used = [[number for number in row if taps[number]] for row in every.rows]
        alone = tuple((phase, (*row, -1)[0]) for phase, row in enumerate(used) if len(row) < 2)
        if len(alone) == up or (down > 1 and down % up == 0):
            return every
        return Rows(tuple(row for row, own in zip(every.rows, used) if len(own) > 1), alone)
    skipped: tuple[int, ...] = ()
    middle = -1
    for place in range(down if down <= MOST_SKIPPED else 0):
        own = [number for number in range(place, len(taps), down) if taps[number]]
        if not own or (len(own) == 1 and middle < 0):
            skipped += (place,)
            middle = own[0] if own else middle
    row = tuple(number for number in every.rows[0] if number % down not in skipped)
    found = Rows((row,), ((middle % down, middle),) if middle >= 0 else (), skipped)
    return found if row and every.padded - found.padded >= WORTH * down else every


def rate_layout(stage: TapSum, source: Format, choices: CodeChoices) -> dict[str, Any]:
    """What the template prints of a sum of taps that changes the rate.

    The table holds the taps of each phase in a row, oldest sample first, filled up with zeros at the oldest end. Four outputs
    are worked out together where they share something: the taps where the rate only goes down or there are few phases, the
    samples where it goes only up and has phases enough.
    """
    found = rows_of(stage.coefficients, stage.up, stage.down, not choices.reloadable)
    dual = is_dual(stage, source)
    # Taps that are replaced may be any of their format, as long as no sum leaves the accumulator.
    ends = (stage.accumulator.least, stage.accumulator.most) if choices.reloadable else stage.span(source)
    sum_type = signed_type(*ends, 32)
    sum_type = signed_type(stage.accumulator.least, stage.accumulator.most, 32) if sum_type == "int64_t" else sum_type
    table_type = "int16_t" if dual else c_type(stage.coefficient)
    any_taps = [[stage.coefficient.least, stage.coefficient.most]]
    taps = stage.coefficients
    rows = [[0] * (found.padded - len(row)) + [taps[k] for k in row] for row in found.rows]
    is_short = fits_32_each(any_taps if choices.reloadable else [list(taps)], source)
    narrow = "int32_t" if is_short else sum_type
    alone = [
        (place, number, literal(taps[number], "int32_t" if is_short else table_type) if number >= 0 else "")
        for place, number in found.alone
    ]
    shape = rate_shape(
        stage, found, choices, [(place, number, text and f"({narrow}){text}") for place, number, text in alone]
    )
    return shape | {
        "written": None, "numbers": [[end, end] for end in any_taps[0]] if choices.reloadable else rows,
        "many": _many(shape, sum_type == "int64_t") if dual and choices.intrinsics else [], "count": len(taps), "kept_count": len(taps), "alone_type": narrow,
        "sum_type": sum_type, "is_long": sum_type == "int64_t", "bias": "0", "table_type": table_type,
        "kept_type": "int16_t" if dual else c_type(source), "accumulator": stage.accumulator,
        "coefficient": stage.coefficient, "form": stage.form,
        "rows": [literal(value, table_type) for row in rows for value in row],
        "is_dual": dual and choices.intrinsics, "is_short": sum_type == "int64_t" and is_short,
        "described": f"{stage.coefficient}: the integer k stands for k * 2^{-stage.coefficient.fraction}",
        "vectors": "dot" if dual and sum_type == "int32_t" else "",
    }  # fmt: skip


def rate_shape(
    stage: TapSum, found: Rows, choices: CodeChoices, alone: list[tuple[int, int, str]]
) -> dict[str, Any]:  # fmt: skip
    """What the same template prints of phases and blocks, in integers and in floating point alike; ``alone`` are the taps that stand
    outside of the table, by place, number and text."""
    if choices.history != "blocks":
        raise FormatError(
            f"a change of rate keeps its samples in blocks, not {choices.history}", "history", "take blocks"
        )
    up, down, padded = stage.up, stage.down, found.padded
    together = "down" if up == 1 else "" if down > 1 else "up" if up % 4 == 0 and not alone else "samples"
    if up > 1 and down > 1 and down % up and not alone and 4 * down <= LONGEST_PERIODS:
        # Outputs of the same phase come once in every ``down`` samples.
        together = "periods"
    kept = down - len(found.skipped)
    rowed = [phase for phase in range(up) if phase not in [place for place, _, _ in alone]]
    ages = [number // (up if up > 1 else down) for _, number, _ in alone]
    return {
        "layout": "rates", "up": up, "down": down, "whole": down // up, "part": down % up, "together": together,
        "padded": padded, "tap_stride": padded if together == "up" else 0,
        "sample_stride": {"down": kept, "samples": 1, "periods": down}.get(together, 0),
        "output_stride": up if together in ("samples", "periods") else 1,
        "block": max(block_length(padded), min(32 * down, LONGEST_PERIODS) if up == 1 or together == "periods" else SHORTEST),
        "order_words": _order_words(found, up),
        "few_unrolled": divisor(padded // 2, 16), "many_unrolled": divisor(padded // 2, 16, whole=True),
        # Going down: which places are kept, and the history of the one whose tap stands alone.
        "skipped": found.skipped, "kept": kept, "moves": range(down - 1, -1, -1),
        "aside": alone[0][0] if found.skipped and alone else -1, "aside_age": ages[0] if found.skipped and alone else 0,
        "aside_tap": alone[0][2] if found.skipped and alone else "",
        "plain_skipped": " && ".join(f"place != {place}u" for place in found.skipped if not alone or place != alone[0][0]),
        # Going up: the phases that have rows, and those of a single tap with its age.
        "rowed": [(phase, row) for row, phase in enumerate(rowed)],
        "short": [(place, age, text) for (place, _, text), age in zip(alone, ages)] if up > 1 else [],
    } | unrolling(padded, choices.unroll)  # fmt: skip


def _many(shape: dict[str, Any], is_long: bool) -> list[tuple[int, int]]:
    """Of outputs together that share the taps of one phase, each one's sample and place: eight, or four of sums of 64 bits, for which
    there are registers; none where four are together so anyway."""
    up = shape["up"]
    if shape["together"] == "periods":
        return []
    if shape["together"] == "down":
        return [] if is_long else [(k * shape["sample_stride"], k) for k in range(8)]
    if is_long:
        return [(k, k * up) for k in range(4)] if shape["together"] == "up" else []
    return [(k, k * up) for k in range(8)] if shape["together"] else []


def _order_words(found: Rows, up: int) -> str:
    """How the table lies."""
    if found.skipped:
        return " Oldest sample first, without those that are always zero."
    if up > 1 and found.alone:
        return f" {len(found.rows)} of {up} phases, each oldest sample first; the others have one tap at most."
    return f" {up} phases, each oldest sample first." if up > 1 else " Oldest sample first."


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
        "cuts": stage.shifts, "dropped": stage.discarded[-1] if stage.discarded else 0,
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
