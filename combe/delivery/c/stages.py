"""What the C template needs to know of each stage, every width and shift decided here."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from combe.delivery.c.network import network_values
from combe.delivery.c.reloading import reloadable_section, reloadable_taps
from combe.delivery.c.rounding import biased, requantize_values
from combe.delivery.c.samples import sample_layout
from combe.delivery.c.types import c_type, factor_text, literal, signed_type
from combe.delivery.code_choices import CodeChoices
from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, Stage, TapSum

MOST_SEGMENTS = 32
UNROLLED = 8
"""Taps in one turn of the inner loop."""


class View(Struct, frozen=True):
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


def views(realization: Realization, choices: CodeChoices = CodeChoices()) -> list[View]:
    """Every stage in order."""
    formats = realization.formats()
    stages = realization.stages
    # The rounding after a stage, where it's the only one: two in a row can't be made one.
    following = [
        after if not (isinstance(later, Requantize)) else None
        for after, later in zip([*stages[1:], None], [*stages[2:], None, None])
    ]
    return [
        _view(stage, index, formats[index], formats[index + 1], following[index], choices)
        for index, stage in enumerate(realization.stages)
    ]


def _view(
    stage: Stage, index: int, source: Format, result: Format, after: Stage | None, choices: CodeChoices
) -> View:  # fmt: skip
    types = c_type(source), c_type(result)
    if isinstance(stage, TapSum):
        return View("tap-sum", index, source, result, *types, _tap_sum(stage, index, source, after, choices))
    if isinstance(stage, Section):
        return View("section", index, source, result, *types, _section(stage, source, choices))
    if isinstance(stage, Network):
        if choices.reloadable:
            what = f"the coefficients of {stage.form} can't be replaced while it runs"
            raise FormatError(what, "reloadable", "taps and sections in direct form I can")
        return View("network", index, source, result, *types, network_values(stage, index, source))
    return View("requantize", index, source, result, *types, requantize_values(stage))


def _tap_sum(
    stage: TapSum, index: int, source: Format, after: Stage | None, choices: CodeChoices
) -> dict[str, Any]:  # fmt: skip
    """A sum of taps as blocks: the newest samples in one piece, four outputs at a time.

    Taps stand oldest first, filled up with zeros to a multiple of UNROLLED at the oldest end. Where 32 bits don't hold the
    whole sum they hold those of a few segments, which are then added in 64.
    """
    count = len(stage.coefficients)
    if stage.form == "transposed" and count > 1:
        values = _transposed(stage)
    elif choices.history != "blocks":
        values = sample_layout(stage, source, choices)
    else:
        values = _blocks(stage, source, after, choices)
    if choices.reloadable:
        if values["layout"] == "transposed":
            raise FormatError("transposed taps can't be replaced while it runs", "reloadable", "take direct or folded")
        values |= reloadable_taps(stage, source, index)
    values.setdefault("table", "")
    return values


def _blocks(stage: TapSum, source: Format, after: Stage | None, choices: CodeChoices) -> dict[str, Any]:
    count = len(stage.coefficients)
    group = max(UNROLLED, choices.unroll) if choices.unroll != 4 else 4
    padded = -(-count // group) * group
    taps = [0] * (padded - count) + list(stage.coefficients[::-1])
    sum_type = signed_type(stage.accumulator.least, stage.accumulator.most, 32)
    table_type = c_type(stage.coefficient)
    segment = 0 if choices.reloadable and sum_type == "int64_t" else padded
    if sum_type == "int64_t" and not choices.reloadable:
        segment = _segment(taps, source, group)
    inner = "int32_t" if segment else sum_type
    is_dual = _is_dual(stage, source) and inner == "int32_t" and choices.intrinsics
    length = segment or padded
    filled = f", filled up with {padded - count} zeros" if padded > count else ""
    return {
        "count": count, "padded": padded, "kept_count": count, "segment": length, "inner": inner, "sum_type": sum_type,
        "table_type": "int16_t" if is_dual else table_type, "accumulator": stage.accumulator, "coefficient": stage.coefficient,
        "rows": [literal(value, table_type) for value in taps], "layout": "blocks", "is_dual": is_dual,
        "kept_type": "int16_t" if is_dual else c_type(source), "block": min(max(32, -(-padded // 32) * 32), 128),
        "unrolled": choices.unroll or next(k * UNROLLED for k in (4, 2, 1) if length % (k * UNROLLED) == 0),
        "form": stage.form, "described": _described(stage.coefficient), "order_words": f" Oldest sample first{filled}.",
        "quick": _quick(after) if is_dual and sum_type == "int64_t" and 2 * length == padded else None,
    }  # fmt: skip


def _described(entry: Format) -> str:
    return f"{entry}: the integer k stands for k * 2^{-entry.fraction}"


def _transposed(stage: TapSum) -> dict[str, Any]:
    sum_type = signed_type(stage.accumulator.least, stage.accumulator.most, 32)
    table_type = c_type(stage.coefficient)
    return {
        "count": len(stage.coefficients), "sum_type": sum_type, "table_type": table_type, "layout": "transposed",
        "described": _described(stage.coefficient), "order_words": "",
        "accumulator": stage.accumulator, "coefficient": stage.coefficient, "is_dual": False, "quick": None,
        "rows": [literal(value, table_type) for value in stage.coefficients], "form": stage.form,
    }  # fmt: skip


def _quick(after: Stage | None) -> dict[str, Any] | None:
    """A rounding that may first saturate its sum to 32 bits, for whatever doesn't fit them saturates the output too."""
    if not isinstance(after, Requantize) or after.overflow != "saturate" or after.rounding == "toward-zero":
        return None
    shift, target = after.source.fraction - after.target.fraction, after.target
    if not (0 < shift < 31 and target.signed and target.bits + shift <= 32 and target.bits <= 32):
        return None
    return {
        "type": c_type(target), "shift": shift, "bits": target.bits, "rounding": after.rounding,
        "below_half": (1 << (shift - 1)) - 1, "most": literal(target.most, "int32_t"),
        "least": literal(target.least, "int32_t"),
    }  # fmt: skip


def _segment(taps: list[int], source: Format, group: int = UNROLLED) -> int:
    """The longest run of taps, dividing all of them evenly, whose sums 32 bits hold everywhere; 0 where none is worth it."""
    groups = len(taps) // group
    for parts in range(2, MOST_SEGMENTS + 1):
        if groups % parts == 0:
            length = len(taps) // parts
            if all(_fits_32(taps[k : k + length], source) for k in range(0, len(taps), length)):
                return length
    return 0


def _fits_32(taps: list[int], source: Format) -> bool:
    ends = [(tap * source.least, tap * source.most) for tap in taps]
    low, high = sum(min(pair) for pair in ends), sum(max(pair) for pair in ends)
    return low >= -(1 << 31) and high < 1 << 31 and all(-(1 << 31) <= v < 1 << 31 for pair in ends for v in pair)


def _is_dual(stage: TapSum, source: Format) -> bool:
    """Whether two products fit one dual multiply-accumulate: both factors in 16 signed bits."""
    return stage.coefficient.signed and stage.coefficient.bits <= 16 and source.bits + (not source.signed) <= 16


def _section(stage: Section, source: Format, choices: CodeChoices) -> dict[str, Any]:
    """Five products in one type that holds the sum; the shifts are folded into the constants where they fit."""
    u, v = stage.shifts(source)
    least, most = stage.span(source)
    sum_type = signed_type(min(stage.accumulator.least, least), max(stage.accumulator.most, most), 32)
    rounding = Requantize(stage.accumulator, stage.result, stage.rounding, stage.overflow)
    kept: list[int] = []
    for value, shift in [(value, u) for value in stage.b] + [(value, v) for value in stage.a]:
        signed_type(value << shift, value << shift, 32)
    rounded = requantize_values(rounding)
    values = {
        "sum_type": sum_type, "accumulator": stage.accumulator, "numerator": stage.numerator,
        "denominator": stage.denominator, "u": u, "v": v, "raw_b": stage.b, "raw_a": stage.a, "is_reloadable": False,
        "b": [factor_text(value << u, sum_type, kept) for value in stage.b],
        "a": [factor_text(-value << v, sum_type, kept) for value in stage.a],
        "kept_factors": kept, "bias": biased(rounded) if rounded["work"] == sum_type else "", "round": rounded,
    }  # fmt: skip
    return values | reloadable_section(stage, source, u, v, sum_type) if choices.reloadable else values


class Part(Struct, frozen=True):
    """Stages that run over a block together: one that remembers, and the roundings after it."""

    index: int
    first: View
    rounds: tuple[View, ...]

    @property
    def source_type(self) -> str:
        """What it takes."""
        return self.first.source_type

    @property
    def result_type(self) -> str:
        """What it gives."""
        return (self.rounds[-1] if self.rounds else self.first).result_type


def parts(found: list[View]) -> list[Part]:
    """Every stage that remembers with the roundings that follow it; a rounding at the very front stands alone."""
    grouped: list[list[View]] = []
    for view in found:
        if view.kind == "requantize" and grouped:
            grouped[-1].append(view)
        else:
            grouped.append([view])
    return [Part(index, group[0], tuple(group[1:])) for index, group in enumerate(grouped)]


def buffers(found: list[Part]) -> list[int]:
    """Which buffer each part but the last writes: its own source where it may, for parts can run in place."""
    numbers: list[int] = []
    for index, part in enumerate(found[:-1]):
        is_same = index > 0 and part.source_type == part.result_type
        numbers.append(numbers[-1] if is_same else index)
    return numbers
