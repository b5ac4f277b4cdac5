"""What the C template needs to know of each stage, every width and shift decided here."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from combe.delivery.c.blocks import block_layout
from combe.delivery.c.network import network_values
from combe.delivery.c.rates import cic_layout, rate_layout
from combe.delivery.c.reloading import reloadable_section, reloadable_taps
from combe.delivery.c.rounding import biased, has_room, requantize_values
from combe.delivery.c.samples import sample_layout
from combe.delivery.c.types import c_type, factor_text, literal, signed_type
from combe.delivery.c.wide import as_network
from combe.delivery.code_choices import CodeChoices
from combe.errors import FormatError
from combe.realization.cic import Cic
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.phases import MOST_FASTER
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, Stage, TapSum


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
    found: list[View] = []
    for index, stage in enumerate(realization.stages):
        following = realization.stages[index + 1] if index + 1 < len(realization.stages) else None
        rounded = following if isinstance(following, Requantize) else None
        if found and found[-1].values.get("has_taken") == index:
            continue  # the sum before it has rounded already
        if isinstance(stage, Cic):
            found.append(_sums_in_a_row(stage, index, formats[index], formats[index + 1], rounded, choices))
            continue
        network = None if choices.reloadable else _wide_network(stage, formats[index], rounded)
        if network is None:
            found.append(_view(stage, index, formats[index], formats[index + 1], choices))
            continue
        result = network.result
        types = c_type(formats[index]), c_type(result)
        values = network_values(network, index, formats[index])
        taken = index + 1 if isinstance(stage, TapSum) else -1
        found.append(View("network", index, formats[index], result, *types, values | {"has_taken": taken}))
    for view, after in zip(found, found[1:]):
        # A sum that starts with half a step spares its rounding an addition.
        if (
            view.values.get("layout") in ("blocks", "rates")
            and after.kind == "requantize"
            and after.values["work"] == view.values["sum_type"]
        ):
            summed, rounding = realization.stages[view.index], realization.stages[after.index]
            if isinstance(summed, TapSum) and isinstance(rounding, Requantize) and not choices.reloadable:
                # Of known taps no sum comes near the ends of a format it nearly fills.
                after.values["has_room"] = has_room(rounding, after.values["width"], summed.span(view.source)[1])
            view.values["bias"] = biased(after.values) or "0"
    return found


def _wide_network(stage: Stage, source: Format, after: Requantize | None) -> Network | None:
    """Sections and taps whose sums leave 64 bits are written as networks."""
    return as_network(stage, source, after) if isinstance(stage, (Section, TapSum)) else None


def _view(stage: Stage, index: int, source: Format, result: Format, choices: CodeChoices) -> View:
    types = c_type(source), c_type(result)
    if isinstance(stage, TapSum):
        return View("tap-sum", index, source, result, *types, _tap_sum(stage, index, source, choices))
    if isinstance(stage, Section):
        return View("section", index, source, result, *types, _section(stage, source, choices))
    if isinstance(stage, Network):
        if choices.reloadable:
            what = f"the coefficients of {stage.form} can't be replaced while it runs"
            raise FormatError(what, "reloadable", "taps and sections in direct form I can")
        return View("network", index, source, result, *types, network_values(stage, index, source))
    assert not isinstance(stage, Cic), "written by itself"
    return View("requantize", index, source, result, *types, requantize_values(stage))


def _sums_in_a_row(
    stage: Cic, index: int, source: Format, result: Format, after: Requantize | None, choices: CodeChoices
) -> View:
    """Sums in a row; where 64 bits don't hold them together with the rounding that follows."""
    if choices.reloadable:
        raise FormatError("sums in a row have no coefficients to replace", "reloadable", "leave it out")
    values = cic_layout(stage, source, after)
    if values["is_wide"] and after is not None:
        result = after.target
        values["has_taken"] = index + 1
    return View("cic", index, source, result, c_type(source), c_type(result), values)


def _tap_sum(stage: TapSum, index: int, source: Format, choices: CodeChoices) -> dict[str, Any]:
    """A sum of taps: transposed, one output at a time, or in blocks."""
    if stage.up > 1 or stage.down > 1:
        values = rate_layout(stage, source, choices)
    elif stage.form == "transposed" and len(stage.coefficients) > 1:
        values = _transposed(stage)
    elif choices.history != "blocks":
        values = sample_layout(stage, source, choices)
    else:
        values = block_layout(stage, source, choices)
    if choices.reloadable:
        if values["layout"] == "transposed":
            raise FormatError("transposed taps can't be replaced while it runs", "reloadable", "take direct or folded")
        values |= reloadable_taps(stage, source, index)
    values.setdefault("table", "")
    return values


def _transposed(stage: TapSum) -> dict[str, Any]:
    sum_type = signed_type(stage.accumulator.least, stage.accumulator.most, 32)
    table_type = c_type(stage.coefficient)
    return {
        "count": len(stage.coefficients), "sum_type": sum_type, "table_type": table_type, "layout": "transposed",
        "described": f"{stage.coefficient}: the integer k stands for k * 2^{-stage.coefficient.fraction}", "order_words": "",
        "accumulator": stage.accumulator, "coefficient": stage.coefficient, "is_dual": False,
        "rows": [literal(value, table_type) for value in stage.coefficients], "form": stage.form,
    }  # fmt: skip


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
    def ratio(self) -> tuple[int, int]:
        """Values it gives for values it takes."""
        up, down = self.first.values.get("up", 1), self.first.values.get("down", 1)
        if self.first.values.get("layout") == "phased":
            # Its ratio can be set while it runs: there is room for that.
            return up * MOST_FASTER[0], down * MOST_FASTER[1]
        return up, down

    @property
    def changes_rate(self) -> bool:
        """Whether it gives as many as it takes is not sure: it returns how many."""
        return self.first.values.get("layout") in ("rates", "cic", "network", "phased")

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
