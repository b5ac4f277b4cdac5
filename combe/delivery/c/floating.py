"""The same stages in floating point: real coefficients, real samples, nothing rounded on purpose."""

from __future__ import annotations

import struct
from typing import Any

from combe.delivery.c.blocks import block_length, filled, unrolling
from combe.delivery.c.network import SHIFTED_BY_HAND, WINDOW, kept_word, phased_shape, value_word
from combe.delivery.c.rates import rate_shape, rows_of
from combe.delivery.c.samples import USUAL_UNROLL, WORDS
from combe.delivery.c.stages import View
from combe.delivery.code_choices import CodeChoices
from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.network import NamedTerm, Network, at_lower_rate
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, Stage, TapSum
from combe.realization.term import INPUT

TYPES = {"single": "float", "double": "double"}
TOGETHER = {"single": 16, "double": 8}
"""Outputs worked out together where a processor has vectors: four of its registers."""
LEAST_NORMAL = {"single": 2.0**-126, "double": 2.0**-1022}
GUARD = {"single": "1e-30f", "double": "1e-290"}
"""Far below the rounding of anything heard, far above where denormals start."""


def real_text(value: float, number: str) -> str:
    """A floating-point constant that reads back to the very same number."""
    if number == "single":
        nearest = struct.unpack("f", struct.pack("f", value))[0]
        short = next(text for text in (f"{nearest:.{k}g}" for k in range(6, 18)) if struct.unpack("f", struct.pack("f", float(text)))[0] == nearest)  # fmt: skip
    else:
        short = repr(float(value))
    if "." not in short and "e" not in short:
        short += ".0"
    return short + ("f" if number == "single" else "")


def float_views(realization: Realization, choices: CodeChoices) -> list[View]:
    """Every stage that computes, in order; roundings and limits fall away."""
    formats = realization.formats()
    found = [
        _view(stage, index, formats[index], formats[index + 1], choices)
        for index, stage in enumerate(realization.stages)
        if not isinstance(stage, Requantize)
    ]
    word = TYPES[choices.number]
    return found or [View("requantize", 0, realization.input, realization.output, word, word, {"shift": 0})]


def _view(stage: Stage, index: int, source: Format, result: Format, choices: CodeChoices) -> View:
    word, number = TYPES[choices.number], choices.number
    if isinstance(stage, TapSum):
        return View("tap-sum", index, source, result, word, word, _taps(stage, index, choices, word))
    if isinstance(stage, Section):
        b = [real_text(value * stage.numerator.step, number) for value in stage.b]
        a = [real_text(-value * stage.denominator.step, number) for value in stage.a]
        values: dict[str, Any] = {
            "sum_type": word, "numerator": "real", "denominator": "real, negated", "u": 0, "v": 0, "bias": "", "round": None,
            "b": [f"({text})" for text in b], "a": [f"({text})" for text in a], "raw_b": b, "raw_a": a,
            "kept_factors": [], "is_reloadable": choices.reloadable, "accumulator": "",
        }  # fmt: skip
        if choices.reloadable:
            values |= {
                "factor_type": word, "plain_factors": [*b, *a], "b_type": word, "a_type": word,
                "b": ["k0", "k1", "k2"], "a": ["k3", "k4"],
            }  # fmt: skip
        return View("section", index, source, result, word, word, values)
    assert isinstance(stage, Network)
    if choices.reloadable:
        what = f"the coefficients of {stage.form} can't be replaced while it runs"
        raise FormatError(what, "reloadable", "taps and sections in direct form I can")
    return View("network", index, source, result, word, word, _network(stage, word, number))


def _taps(stage: TapSum, index: int, choices: CodeChoices, word: str) -> dict[str, Any]:
    number, count = choices.number, len(stage.coefficients)
    rows = [real_text(value * stage.coefficient.step, number) for value in stage.coefficients]
    shared: dict[str, Any] = {
        "count": count, "kept_count": count, "padded": count, "sum_type": word, "table_type": word, "kept_type": word,
        "pair_type": word, "accumulator": "", "coefficient": word, "is_dual": False, "form": stage.form,
        "described": "as real values", "order_words": " Newest sample first.", "rows": rows, "sign": stage.symmetry,
        "unroll": choices.unroll or USUAL_UNROLL, "is_reloadable": choices.reloadable,
        "table": f"state->taps_{index}" if choices.reloadable else "",
    }  # fmt: skip
    if (stage.up, stage.down) != (1, 1):
        return shared | _rates(stage, choices, rows)
    if stage.form == "transposed" and count > 1:
        if choices.reloadable:
            raise FormatError("transposed taps can't be replaced while it runs", "reloadable", "take direct or folded")
        return shared | {"layout": "transposed"}
    if choices.history != "blocks":
        is_folded = stage.form == "folded" and count > 1 and choices.history == "double"
        half = (count + 1) // 2 if is_folded else count
        layout = "folded" if is_folded else choices.history
        return shared | {
            "layout": layout, "layout_words": WORDS[layout], "rows": rows[:half], "kept_count": half, "padded": half,
        }  # fmt: skip
    padded = filled(count, choices.unroll)
    zero = real_text(0.0, number)
    return shared | {
        "layout": "blocks", "padded": padded, "stops": [], "segment": 0, "is_long": False, "bias": "0", "span": 0,
        "vectors": "real" if padded % 8 == 0 else "", "together": TOGETHER[number],
        "rows": [zero] * (padded - count) + rows[::-1], "block": block_length(padded),
        "order_words": " Oldest sample first" + (f", filled up with {padded - count} zeros." if padded > count else "."),
    } | unrolling(padded, choices.unroll)  # fmt: skip


def _rates(stage: TapSum, choices: CodeChoices, rows: list[str]) -> dict[str, Any]:
    """Taps by phases, laid out as the integers are."""
    found = rows_of(stage.coefficients, stage.up, stage.down, not choices.reloadable)
    zero = real_text(0.0, choices.number)
    alone = [(place, number, rows[number] if number >= 0 else "") for place, number in found.alone]
    return rate_shape(stage, found, choices, alone) | {
        "rows": [text for row in found.rows for text in [zero] * (found.padded - len(row)) + [rows[k] for k in row]],
        "bias": "0", "is_long": False, "is_short": False, "vectors": "", "many": [], "written": None, "alone_type": TYPES[choices.number],
    }  # fmt: skip


def _network(stage: Network, word: str, number: str) -> dict[str, Any]:
    """Nodes without roundings, so that what they'd cut off is nothing; where the rate changes as they are computed at the lower one, or, with
    a phase, once for each output."""
    ratio = stage.up, stage.down
    shape = phased_shape(stage) if stage.phase is not None else {}
    stage, outputs = at_lower_rate(stage)
    depth: dict[str, int] = {}
    used = set(outputs)
    for node in stage.nodes:
        for term in node.terms:
            if term.coefficient and not term.is_rest:
                used.add(term.signal)
                depth[term.signal] = max(depth.get(term.signal, 0), term.delay)
    if shape:
        depth = dict.fromkeys(depth, 0) | {INPUT: WINDOW}
    kept = [
        {"name": kept_word(name), "type": word, "depth": deepest, "new": value_word(name)}
        for name, deepest in depth.items()
        if deepest > 0
    ]
    nodes = [
        {
            "bias": "", "name": node.name, "value": value_word(node.name), "type": word, "sum_type": word,
            "terms": [_term(term, number, depth[term.signal]) for term in node.terms if term.coefficient and not term.is_rest],
            "is_used": node.name in used, "has_rest": False, "is_plain": True, "is_wide": False,
        }
        for node in stage.nodes
    ]  # fmt: skip
    found: dict[str, Any] = {
        "form": stage.form, "output": value_word(stage.output), "kept": kept, "by_hand": SHIFTED_BY_HAND,
        "uses_input": INPUT in used, "nodes": nodes, "kept_factors": [],
    }  # fmt: skip
    if shape:
        assert stage.phase is not None
        return found | shape | {"history_type": word, "step": real_text(stage.phase.step, number)}
    if ratio == (1, 1):
        return found
    more = {"layout": "network", "up": ratio[0], "down": ratio[1], "input_word": kept_word(INPUT)}
    return found | more | {"outputs": [value_word(name) for name in outputs]}


def _term(term: NamedTerm, number: str, deepest: int) -> dict[str, str]:
    real = term.coefficient * term.format.step
    if term.is_turned:
        return {"sign": "+", "text": f"phase * {value_word(term.signal)}"}
    if deepest == WINDOW:
        operand = f"window[{term.delay}]"
    elif not term.delay:
        operand = value_word(term.signal)
    elif deepest <= SHIFTED_BY_HAND:
        operand = f"{kept_word(term.signal)}_{term.delay}"
    else:
        operand = f"{kept_word(term.signal)}[{term.delay - 1}]"
    text = operand if abs(real) == 1 else f"{real_text(abs(real), number)} * {operand}"
    return {"sign": "-" if real < 0 else "+", "text": text}


def denormal_words(realization: Realization, number: str) -> list[str]:
    """Where denormals would bite: inputs so small that a product with the smallest tap is one; loops that die away."""
    least = LEAST_NORMAL[number]
    rows = []
    taps = [
        abs(c) * s.coefficient.step for s in realization.stages if isinstance(s, TapSum) for c in s.coefficients if c
    ]
    if taps:
        rows.append(f"Inputs below {least / min(taps):.3g} make denormal products with the smallest tap.")
    if realization.is_recursive and not realization.changes_rate:
        from combe.analysis.linear import LinearProgram

        radius = LinearProgram.of(realization.program).radius
        if 0 < radius < 1:
            import math

            samples = math.ceil(math.log(least) / math.log(radius))
            rows.append(f"After the input falls silent the loops reach denormals within some {samples} samples.")
    return rows
