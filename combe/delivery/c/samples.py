"""A sum of taps one output at a time: a circular history, a double one that needs no test, or pairs folded in that."""

from __future__ import annotations

from typing import Any

from combe.delivery.c.types import c_type, literal, signed_type
from combe.delivery.code_choices import CodeChoices
from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.stages import TapSum

USUAL_UNROLL = 4
WORDS = {
    "double": "Every sample is kept twice, so that the newest ones always lie in one piece.",
    "folded": "Every sample is kept twice, so that the newest ones always lie in one piece; two that share a coefficient are added first.",
    "circular": "Samples lie in a circle, gone through in two straight runs.",
}


def sample_layout(stage: TapSum, source: Format, choices: CodeChoices) -> dict[str, Any]:
    """What the template prints; taps stand newest sample first."""
    count, sign = len(stage.coefficients), stage.symmetry
    is_folded = stage.form == "folded" and count > 1 and choices.history == "double"
    if stage.form == "folded" and choices.history == "circular" and count > 1:
        raise FormatError("folded taps want their samples in one piece", "history", "take double, or structure direct")
    table_type = c_type(stage.coefficient)
    kept = stage.coefficients[: (count + 1) // 2] if is_folded else stage.coefficients
    low, high = (source.least, source.most) if sign > 0 else (source.least - source.most, source.most - source.least)
    return {
        "count": count, "padded": len(kept), "kept_count": len(kept), "sign": sign, "table_type": table_type,
        "sum_type": signed_type(stage.accumulator.least, stage.accumulator.most, 32),
        "accumulator": stage.accumulator, "coefficient": stage.coefficient, "kept_type": c_type(source),
        "rows": [literal(value, table_type) for value in kept], "layout": "folded" if is_folded else choices.history,
        "is_dual": False, "form": stage.form, "unroll": choices.unroll or USUAL_UNROLL,
        "described": f"{stage.coefficient}: the integer k stands for k * 2^{-stage.coefficient.fraction}",
        "order_words": " Newest sample first" + (", one for each pair." if is_folded else "."),
        "pair_type": signed_type(2 * low, 2 * high, 32), "layout_words": WORDS["folded" if is_folded else choices.history],
    }  # fmt: skip
