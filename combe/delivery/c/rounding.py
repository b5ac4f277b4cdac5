"""A rounding in C: shift, constants and limits, all within one type."""

from __future__ import annotations

from typing import Any

from combe.delivery.c.types import literal
from combe.errors import FormatError
from combe.realization.stages import Requantize


def requantize_values(stage: Requantize) -> dict[str, Any]:
    """Shift, rounding constants and limits, all within one type that holds the value before and after."""
    source, target = stage.source, stage.target
    needed = max(entry.bits + (not entry.signed) for entry in (source, target))
    if needed > 64:
        raise FormatError(f"{source} to {target} is wider than C's 64 bits", "stages", "take fewer bits")
    work, width = ("int32_t", 32) if needed <= 32 else ("int64_t", 64)
    shift = source.fraction - target.fraction
    values: dict[str, Any] = {
        "is_wide": False, "shift": shift, "work": work, "unsigned": f"u{work}", "rounding": stage.rounding, "overflow": stage.overflow,
        "target": target, "width": width, "always_fits": _always_fits(stage), "full": target.bits == width,
        "least": literal(target.least, work), "most": literal(target.most, work), "up": -shift,
    }  # fmt: skip
    # What a rounding leaves needs fewer bits than what went in: 32 are cheaper to compare than 64 on most processors.
    left = source.bits + (not source.signed) - max(shift, 0) + 1
    is_limited = stage.overflow == "saturate" or values["always_fits"]
    values["narrow"] = (
        "int32_t" if is_limited and 0 < shift < width and max(left, target.bits + (not target.signed)) <= 32 else work
    )
    values["has_room"] = has_room(stage, width, source.most)
    narrow = values["narrow"]
    values |= {"top": literal(target.most, narrow), "bottom": literal(target.least, narrow)}
    span = target.most - target.least
    values["one_test"] = (narrow == "int32_t" and span < (1 << 32) - 1) or (
        narrow == "int64_t" and span < (1 << 64) - 1
    )
    values |= {"turn": literal(-target.least, f"u{narrow}"), "reach": literal(span, f"u{narrow}")}
    values["ssat"] = narrow == "int32_t" and target.signed and target.bits < 32
    values["is_biased"] = False
    if shift < 0:
        # k·2^up stays within the limits exactly where k lies between these.
        values["most_before"] = literal(target.most >> -shift, work)
        values["least_before"] = literal(-(-target.least >> -shift), work)
        values["scale"] = literal(1 << -shift, work) if -shift < width - 1 else ""
    elif 0 < shift < width:
        values["mask"] = literal((1 << shift) - 1, f"u{work}")
        values["half"] = literal(1 << (shift - 1), f"u{work}")
        values["up_half"] = literal(1 << (shift - 1), work)
        values["below_half"] = literal((1 << (shift - 1)) - 1, work)
    if target.bits < width:
        values["wrap_mask"] = literal((1 << target.bits) - 1, f"u{work}")
        values["sign_bit"] = literal(1 << (target.bits - 1), f"u{work}")
        values["sign_value"] = literal(1 << (target.bits - 1), work)
    return values


def has_room(stage: Requantize, width: int, most: int) -> bool:
    """Whether a step can be added to the largest value that arrives, in so many bits."""
    shift = stage.source.fraction - stage.target.fraction
    return 0 < shift < width and most + (1 << shift) < 1 << (width - 1)


def biased(values: dict[str, Any]) -> str:
    """Half a step, for a sum that can start with it and so spare the rounding an addition; empty where it can't."""
    is_plain = 0 < values["shift"] < values["width"] and values["has_room"]
    if not (is_plain and values["rounding"].startswith("nearest")):
        return ""
    values["is_biased"] = True
    return str(values["up_half"])


def _always_fits(stage: Requantize) -> bool:
    """Whether no value that can arrive leaves the target's range, so that the limit would be dead code."""
    shift = stage.source.fraction - stage.target.fraction
    ends = []
    for raw in (stage.source.least, stage.source.most):
        ends.append(raw << -shift if shift < 0 else -((-raw) >> shift) if raw > 0 else raw >> shift)
    return stage.target.holds(min(ends)) and stage.target.holds(max(ends))
