"""Which Rust type holds what, and roundings within one of them."""

from __future__ import annotations

from typing import Any

from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.stages import Requantize

WORDS = (32, 64, 128)
MOST_SHIFT = 126
RESERVED = (
    "abstract as async await become box break const continue core crate do dyn else enum extern false final fn for if "
    "impl in let loop macro main match mod move mut override priv pub ref return self static std alloc struct super "
    "trait true try type typeof unsafe unsized use virtual where while yield "
)
KEYWORDS = frozenset(RESERVED.split())
"""Names a module can't have: keywords of all editions, those kept for later, and the language's own crates."""


def struct_name(name: str) -> str:
    """What the filter's struct is called: the name in camel case."""
    return "".join(part[:1].upper() + part[1:] for part in name.split("_"))


def value_type(entry: Format) -> str:
    """The narrowest type that holds a format."""
    for bits in (8, 16, 32, 64, 128):
        if entry.bits <= bits:
            return f"{'i' if entry.signed else 'u'}{bits}"
    raise FormatError(f"{entry} is wider than Rust's 128 bits", "accumulator", "take fewer input or coefficient bits")


def work_bits(least: int, most: int) -> int:
    """The narrowest word, of 32 bits at least, for a sum between two integers."""
    needed = max(least.bit_length(), most.bit_length()) + 1
    for bits in WORDS:
        if needed <= bits:
            return bits
    raise FormatError(f"a sum of {needed} bits is wider than Rust's 128", "accumulator", "take fewer bits")


def rounding(stage: Requantize) -> dict[str, Any]:
    """What the template prints of a rounding: its word has room for half a step and for the result."""
    source, target = stage.source, stage.target
    shift = source.fraction - target.fraction
    if shift > MOST_SHIFT:
        raise FormatError(f"{source} to {target} cuts off {shift} bits, too many for Rust", "stages", "take fewer")
    reach = 1 << max(shift, 0)
    least, most = source.least - reach, source.most + reach
    if shift < 0:
        least, most = source.least << -shift, source.most << -shift
    bits = work_bits(min(least, target.least - 1), max(most, target.most + 1))
    return {
        "bits": bits, "word": f"i{bits}", "type": value_type(target), "shift": shift, "up": -shift, "rounding": stage.rounding,
        "overflow": stage.overflow, "mask": reach - 1, "half": reach >> 1, "least": target.least, "most": target.most,
        "signed": target.signed, "spare": bits - target.bits, "target_mask": (1 << target.bits) - 1,
        "source": str(source), "target": str(target),
    }  # fmt: skip
