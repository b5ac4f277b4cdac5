"""A sum of taps in blocks: the newest samples lie in one piece, and every load of a coefficient serves several outputs."""

from __future__ import annotations

from typing import Any

from combe.delivery.c.types import c_type, literal, signed_type
from combe.delivery.code_choices import CodeChoices
from combe.realization.formats import Format
from combe.realization.stages import TapSum

UNROLLED = 8
"""Taps a table is filled up to a multiple of."""
MOST_UNROLLED = 64
"""Taps in one turn of an unrolled loop, at most."""
MOST_FILLED = 2
"""Groups of zeros that may be added for a loop that divides evenly."""
LIMB = 8
"""Bits of the lower half of a coefficient, where two sums of 32 bits stand for one of 64."""
LEAST_SEGMENT = 16
"""Taps that pay for adding 32 bits to 64."""


def block_layout(stage: TapSum, source: Format, choices: CodeChoices) -> dict[str, Any]:
    """What the template prints. Taps stand oldest first, filled up with zeros at the oldest end.

    The same sum is written for four kinds of processor, and the preprocessor takes the one that fits: dual
    multiply-accumulates; long products (the plain way; in 32 bits where they hold a good ``segment``); none of these, where
    products of 16 bits stay in 32 and are added up in 64 at the ``stops``; vectors, where the compiler makes dot products of
    16-bit words, and sums above 32 bits are made of two: one of the coefficients' upper, one of their lower bits.
    """
    count = len(stage.coefficients)
    dual = is_dual(stage, source)
    padded = filled(count, choices.unroll)
    taps = [0] * (padded - count) + list(stage.coefficients[::-1])
    sum_type = signed_type(stage.accumulator.least, stage.accumulator.most, 32)
    is_long, table_type = sum_type == "int64_t", "int16_t" if dual else c_type(stage.coefficient)
    stops = _stops(taps, source) if is_long and not choices.reloadable else []
    segment = _segment(taps, source) if is_long and not choices.reloadable else 0
    span = _span(taps, source) if dual and is_long and not choices.reloadable else 0
    words = f", filled up with {padded - count} zeros" if padded > count else ""
    return {
        "count": count, "padded": padded, "kept_count": count, "sum_type": sum_type, "is_long": is_long, "bias": "0",
        "table_type": table_type, "kept_type": "int16_t" if dual else c_type(source),
        "accumulator": stage.accumulator, "coefficient": stage.coefficient, "form": stage.form, "layout": "blocks",
        "rows": [literal(value, table_type) for value in taps], "block": block_length(padded),
        "is_dual": dual and choices.intrinsics, "stops": stops, "segment": segment,
        "vectors": "" if not dual else "dot" if not is_long else "halves" if span else "", "span": span,
        "lower": [str(value & ((1 << LIMB) - 1)) for value in taps], "upper": [str(value >> LIMB) for value in taps],
        "limb": 1 << LIMB, "described": f"{stage.coefficient}: the integer k stands for k * 2^{-stage.coefficient.fraction}",
        "order_words": f" Oldest sample first{words}.",
    } | unrolling(padded, choices.unroll, segment)  # fmt: skip


def block_length(padded: int) -> int:
    """Samples taken in before the history is moved back."""
    return min(max(32, -(-padded // 32) * 32), 128)


def unrolling(padded: int, asked: int = 0, segment: int = 0) -> dict[str, int]:
    """Turns of each loop written out as one: of pairs, of fours, of single taps."""
    most, fours = asked or MOST_UNROLLED, (segment or padded) // 4
    return {
        "pairs_unrolled": divisor(padded // 2, most // 2), "fours_unrolled": divisor(fours, max(1, min(most, 32) // 4), whole=segment > 0),
        "taps_unrolled": divisor(padded, min(most, 16)),
    }  # fmt: skip


def filled(count: int, asked: int = 0) -> int:
    """The table's length: up to two groups of zeros more where an unrolled loop then has fewer turns to pay for."""
    group = asked or UNROLLED
    least = -(-count // group) * group
    if asked:
        return least
    return min((least + k * group for k in range(MOST_FILLED + 1)), key=_price)


def _price(padded: int) -> float:
    """Instructions of four outputs: seven for each pair of taps, as many again for each turn of the loop."""
    pairs = padded // 2
    return 7.0 * (pairs + pairs / divisor(pairs, MOST_UNROLLED // 2))


def divisor(turns: int, most: int, whole: bool = False) -> int:
    """The largest number of turns, at most so many, that divides all of them; into two parts or more unless ``whole``.

    A loop with sums of 64 bits that is written out whole loses its shape to compilers: they keep too much in registers.
    """
    return max((k for k in range(1, min(most, turns if whole else turns // 2) + 1) if turns % k == 0), default=1)


def is_dual(stage: TapSum, source: Format) -> bool:
    """Whether two products fit one dual multiply-accumulate: both factors in 16 signed bits."""
    return stage.coefficient.signed and stage.coefficient.bits <= 16 and source.bits + (not source.signed) <= 16


def _stops(taps: list[int], source: Format) -> list[int]:
    """Where to add up so that 32 bits hold everything in between, as few as can be; none where they don't hold a product."""
    if not all(fits_32([tap], source) for tap in taps):
        return []
    stops, begin = [], 0
    for index in range(1, len(taps) + 1):
        if not fits_32(taps[begin:index], source):
            stops.append(index - 1)
            begin = index - 1
    return [*stops, len(taps)]


def _segment(taps: list[int], source: Format) -> int:
    """The longest run of taps, dividing all of them evenly, whose sums 32 bits hold everywhere; 0 where none is worth it."""
    for parts in range(2, len(taps) // LEAST_SEGMENT + 1):
        length = len(taps) // parts
        if len(taps) % (4 * parts) == 0 and all(
            fits_32(taps[k : k + length], source) for k in range(0, len(taps), length)
        ):
            return length
    return 0


def _span(taps: list[int], source: Format) -> int:
    """The longest stretch of taps, dividing all of them evenly into groups, for which 32 bits hold both half sums."""
    groups = len(taps) // UNROLLED
    for parts in range(1, groups + 1):
        length = len(taps) // parts
        if len(taps) % UNROLLED == 0 and groups % parts == 0 and all(
            fits_32([value & ((1 << LIMB) - 1) for value in taps[k : k + length]], source)
            and fits_32([value >> LIMB for value in taps[k : k + length]], source)
            for k in range(0, len(taps), length)
        ):  # fmt: skip
            return length
    return 0


def fits_32(taps: list[int], source: Format) -> bool:
    ends = [(tap * source.least, tap * source.most) for tap in taps]
    low, high = sum(min(pair) for pair in ends), sum(max(pair) for pair in ends)
    return low >= -(1 << 31) and high < 1 << 31 and all(-(1 << 31) <= v < 1 << 31 for pair in ends for v in pair)
