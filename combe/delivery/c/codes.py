"""Raw converter codes around a filter: as constants for the template, and bit for bit as a model to compare with."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.delivery.c.types import literal
from combe.delivery.code_choices import CodeChoices, Converter, converter_from, input_shift, output_shift
from combe.errors import FormatError
from combe.realization.stages import Realization
from combe.running.simulate import simulate


def converters(choices: CodeChoices) -> tuple[Converter, Converter]:
    """The converters on both sides."""
    return converter_from(choices.converter_in, "converter_in"), converter_from(choices.converter_out, "converter_out")


def code_values(realization: Realization, choices: CodeChoices) -> dict[str, Any] | None:
    """What the template prints, or nothing where no converter is asked for."""
    if not choices.converter_in:
        return None
    entry, result = converters(choices)
    up, down = input_shift(entry, realization.input), output_shift(result, realization.output)
    out_bits = realization.output.bits
    if max(out_bits, result.bits) > 60:
        raise FormatError(
            f"{realization.output} is too wide for converter codes", "converter_out", "60 bits are the most"
        )
    in_work = "int32_t" if realization.input.bits <= 32 else "int64_t"
    out_work = "int32_t" if max(out_bits, result.bits) + 2 <= 31 else "int64_t"
    lift = 1 << (out_bits + 1)
    lowered = result.offset - (lift >> max(down, 0))
    low = literal(lowered, out_work)
    words = (
        f"divided by 2^{down} and rounded to nearest, ties up"
        if down > 0
        else f"times 2^{-down}"
        if down
        else "as they are"
    )
    return {
        "in_bits": entry.bits, "in_offset": literal(entry.offset, in_work), "in_type": _unsigned(entry.bits),
        "in_work": in_work, "in_mask": f"{entry.most}u", "in_scale": literal(1 << up, in_work), "up": up,
        "out_bits": result.bits, "out_type": _unsigned(result.bits), "out_work": out_work, "down": down,
        "out_lift": literal(lift + (1 << max(down - 1, 0)), out_work), "out_offset": literal(result.offset, out_work),
        "out_lowered": f"({low})" if low.startswith("-") else low, "out_most": literal(result.most, out_work),
        "out_scale": literal(1 << max(-down, 0), out_work), "down_words": words,
    }  # fmt: skip


def codes_through(realization: Realization, choices: CodeChoices, codes: NDArray[np.int64]) -> NDArray[np.int64]:
    """The codes a filter gives for the codes it takes."""
    return codes_of(realization, choices, np.asarray(simulate(realization, values_of(realization, choices, codes))))


def values_of(realization: Realization, choices: CodeChoices, codes: NDArray[np.int64]) -> NDArray[np.int64]:
    """The raw inputs that a converter's codes stand for."""
    entry, _ = converters(choices)
    return np.asarray(((codes & entry.most) - entry.offset) << input_shift(entry, realization.input), dtype=np.int64)


def unlimited_codes(realization: Realization, choices: CodeChoices, raw: NDArray[np.int64]) -> NDArray[np.int64]:
    """The codes of raw outputs, those that no converter has among them."""
    _, result = converters(choices)
    down = output_shift(result, realization.output)
    moved = (raw + (1 << (down - 1))) >> down if down > 0 else raw << -down
    return np.asarray(moved + result.offset, dtype=np.int64)


def codes_of(realization: Realization, choices: CodeChoices, raw: NDArray[np.int64]) -> NDArray[np.int64]:
    """The codes a converter is given for raw outputs: what is beyond its range stands at an end of it."""
    _, result = converters(choices)
    return np.asarray(np.clip(unlimited_codes(realization, choices, raw), 0, result.most), dtype=np.int64)


def _unsigned(bits: int) -> str:
    return f"uint{next(width for width in (8, 16, 32) if bits <= width)}_t"
