"""Sums of more than 64 bits in C: the compiler's own type of 128 bits where it has one, a pair of words elsewhere."""

from __future__ import annotations

from typing import Any

from combe.delivery.c.types import c_type, literal
from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.network import Network, Node
from combe.realization.section import Section
from combe.realization.stages import Requantize, TapSum
from combe.realization.term import INPUT, Term

WIDE, WIDEST_SUM = "wide", 126
"""Half a step is added before bits are cut off: two bits of the 128 stay free."""


def is_wide(least: int, most: int) -> bool:
    """Whether a sum between these leaves 64 bits.

    Raises
    ------
    FormatError
        If it leaves a pair of words, too.
    """
    bits = max(least.bit_length(), most.bit_length()) + 1
    if bits > WIDEST_SUM:
        what = f"a sum of {bits} bits is wider than the {WIDEST_SUM} that C is written for"
        raise FormatError(what, "accumulator", "take fewer bits")
    return least < -(1 << 63) or most >= 1 << 63


def wide_rounding(stage: Requantize) -> dict[str, Any]:
    """Shift and limits of a rounding that starts from a wide sum."""
    source, target = stage.source, stage.target
    shift = source.fraction - target.fraction
    if not target.signed and target.bits > 63:
        raise FormatError(f"{target} can't take a sum of {source.bits} bits in C", "stages", "take 63 bits or fewer")
    if shift < 0 or shift > WIDEST_SUM:
        raise FormatError(f"{source} to {target} can't be written in C", "stages", "take a sum of 64 bits or fewer")
    return {
        "is_wide": True, "is_summed": False, "shift": shift, "tie_mask": literal((1 << (shift - 1) % 64 + 1) - 1, "uint64_t"), "work": WIDE,
         "rounding": stage.rounding, "overflow": stage.overflow,
        "target": target, "always_fits": False, "ssat": False, "is_biased": False, "width": 128, "narrow": "int64_t",
        "least": literal(target.least, "int64_t"), "most": literal(target.most, "int64_t"), "full": target.bits == 64,
        "mask": literal((1 << target.bits) - 1, "uint64_t"), "sign_bit": literal(1 << (target.bits - 1), "uint64_t"),
    }  # fmt: skip


def used_of_wide(rounds: list[dict[str, Any]]) -> dict[str, bool]:
    """Which functions the generated text calls, empty where no sum is wide: compilers complain of others."""
    if not rounds:
        return {}
    return {
        "products": any(not q["is_summed"] or (q["shift"] > 0 and q["rounding"] != "floor") for q in rounds),
        "words": any(q["is_summed"] for q in rounds),
        "sums": any(q["has_terms"] or (q["shift"] > 0 and q["rounding"] != "floor") for q in rounds),
        "lows": any(q["overflow"] == "wrap" or (q["shift"] > 0 and q["rounding"] == "nearest-even") for q in rounds),
        "signs": any(q["shift"] > 0 and q["rounding"] == "toward-zero" for q in rounds),
        "limits": any(q["overflow"] == "saturate" for q in rounds),
    }


def wide_product(name: str, factor: int, up: int, operand: str) -> str:
    """A term of a wide sum; ``factor`` and what stands in ``operand`` have up to 64 bits."""
    text = literal(factor, "int64_t")
    return f"{name}_wide_product({text}, (int64_t){operand}, {up}u)"


def as_network(stage: Section | TapSum, source: Format, after: Requantize | None = None) -> Network | None:
    """A stage whose sums leave 64 bits as a network of one node with its rounding, else None.

    A sum of taps has no rounding of its own and takes the one that comes after it.
    """
    if isinstance(stage, Section):
        least, most = stage.span(source)
        if not is_wide(min(stage.accumulator.least, least), max(stage.accumulator.most, most)):
            return None
        return stage.network(source)
    if not is_wide(stage.accumulator.least, stage.accumulator.most) or stage.up > 1 or stage.down > 1:
        return None
    if after is None or after.target.bits > 64:
        c_type(stage.accumulator)  # says what is wrong
        return None
    terms = tuple(Term(INPUT, k, value, stage.coefficient) for k, value in enumerate(stage.coefficients) if value)
    node = Node("y", terms, stage.accumulator, after.target, after.rounding, after.overflow)
    return Network((node,), "y", stage.form)
