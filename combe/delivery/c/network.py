"""A network in C: one exact sum after the other, each in the narrowest type that holds it."""

from __future__ import annotations

from typing import Any

from combe.delivery.c.rounding import biased, requantize_values
from combe.delivery.c.types import c_type, factor_text, is_kept, literal, signed_type
from combe.delivery.c.wide import is_wide, wide_product, wide_rounding
from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.network import (
    NamedTerm,
    Network,
    Node,
    at_lower_rate,
    node_span,
    rest_limits,
    signal_limits,
)
from combe.realization.phases import WHOLE_BITS, least_steps, step_of, steps_between
from combe.realization.stages import Requantize
from combe.realization.term import INPUT, REST, TURNED
from combe.values import replace

WINDOW = -1
"""Instead of a depth: the newest samples lie side by side."""
SHIFTED_BY_HAND = 4
"""Histories up to this long are moved by assignments, longer ones by memmove."""


def network_values(stage: Network, index: int, source: Format) -> dict[str, Any]:
    """What the template prints of a network: nodes in order, and what is remembered of each signal."""
    if stage.phase is not None:
        return _phased_values(stage, index, source)
    up, down = stage.up, stage.down
    stage, outputs = at_lower_rate(stage)
    nodes = {node.name: node for node in stage.nodes}
    depth: dict[str, int] = {}
    used: set[str] = set(outputs)
    for node in stage.nodes:
        for term in node.terms:
            if term.coefficient:
                used.add(term.key)
                depth[term.key] = max(depth.get(term.key, 0), term.delay)
    kept = [
        {"name": kept_word(name), "type": _type(name, nodes, source), "depth": deepest, "new": value_word(name)}
        for name, deepest in depth.items()
        if deepest
    ]
    factors: list[int] = []
    return {
        "form": stage.form, "output": value_word(stage.output), "kept": kept, "by_hand": SHIFTED_BY_HAND,
        "uses_input": INPUT in used, "outputs": [value_word(name) for name in outputs], "input_word": kept_word(INPUT),
        "nodes": [_node(node, nodes, index, source, used, depth, factors) for node in stage.nodes],
        "kept_factors": factors,
    } | ({"layout": "network", "up": up, "down": down} if up > 1 or down > 1 else {})  # fmt: skip


def phased_shape(stage: Network) -> dict[str, Any]:
    """How a network that is computed once for each output counts them, in whatever numbers it computes."""
    assert stage.phase is not None
    used = {term.key for node in stage.nodes for term in node.terms if term.coefficient}
    samples = 1 + max((term.delay for node in stage.nodes for term in node.terms), default=0)
    step = step_of(stage.up)
    whole, part = steps_between(stage.up, stage.down)
    least_whole, least_part = least_steps(stage.up, stage.down)
    return {
        "layout": "phased", "form": stage.form, "output": value_word(stage.output), "up": stage.up, "down": stage.down,
        "samples": samples, "phase": stage.phase, "kept": (),
        "uses_phase": any(term.is_turned for node in stage.nodes for term in node.terms), "uses_input": INPUT in used,
        "parts": step * stage.up, "half": step // 2, "whole": whole, "part": part, "least_whole": least_whole, "least_part": least_part,
        "shift": WHOLE_BITS - 1 - stage.phase.fraction, "one": 1 << stage.phase.fraction,
    }  # fmt: skip


def _phased_values(stage: Network, index: int, source: Format) -> dict[str, Any]:
    """What the template prints of a network that is computed once for each output."""
    nodes = {node.name: node for node in stage.nodes}
    used = {term.key for node in stage.nodes for term in node.terms if term.coefficient}
    used |= {key.removesuffix(TURNED) for key in used} | {stage.output}
    factors: list[int] = []
    rows = [_node(node, nodes, index, source, used, {INPUT: WINDOW}, factors) for node in stage.nodes]
    return phased_shape(stage) | {"history_type": c_type(source), "nodes": rows, "kept_factors": factors}


def _node(
    node: Node,
    nodes: dict[str, Node],
    index: int,
    source: Format,
    used: set[str],
    depth: dict[str, int],
    kept: list[int],
) -> dict[str, Any]:
    node = _shortened(node, nodes, source, used)
    least, most = node_span(node, nodes, source)
    if is_wide(min(node.accumulator.least, least), max(node.accumulator.most, most)):
        return _wide_node(node, nodes, index, source, used, depth)
    sum_type = signed_type(min(node.accumulator.least, least), max(node.accumulator.most, most), 32)
    rounding = requantize_values(Requantize(node.accumulator, node.result, node.rounding, node.overflow))
    has_rest = node.name + REST in used and node.shift > 0
    if has_rest and node.shift > rounding["width"] - 2:
        what = f"{node.name} cuts off {node.shift} bits, too many to carry on in C"
        raise FormatError(what, "stages", "take more state bits")
    is_plain = node.accumulator == node.result
    whole = [] if has_rest or is_plain or sum_type != "int64_t" else _whole_terms(node, nodes, source, rounding)
    rounding["adds"] = bool(whole)
    bias = biased(rounding) if rounding["work"] == sum_type and not has_rest and not is_plain else ""
    return {
        "is_wide": False, "bias": bias, "name": node.name, "value": value_word(node.name), "type": c_type(node.result), "sum_type": sum_type,
        "accumulator": node.accumulator, "result": node.result, "is_plain": is_plain,
        "terms": [_product(term, node, nodes, source, sum_type, depth, kept) for term in node.terms if term.coefficient and term not in whole],
        "more": _more(whole, node, nodes, source, depth),
        "is_used": node.name in used, "round": rounding | {"label": f"{index}_{node.name}"}, "has_rest": has_rest,
        "rest_type": _type(node.name + REST, nodes, source) if has_rest else "", "rest": value_word(node.name + REST),
        "whole": literal(1 << node.shift, rounding["work"]) if has_rest else "",
    }  # fmt: skip


def _shortened(node: Node, nodes: dict[str, Node], source: Format, used: set[str]) -> Node:
    """The same sum without the zeros that all of its terms end with, which the rounding would cut off: 32 bits often do for 64."""
    terms = tuple(term for term in node.terms if term.coefficient)
    if not terms or node.shift < 1 or node.name + REST in used or any(term.is_turned or term.is_rest for term in terms):
        return node
    zeros = min(_zeros(_raw(term, node, nodes, source)) for term in terms)
    spared = min(zeros, node.shift, node.accumulator.bits - 2)
    if not spared:
        return node
    shorter = Format(node.accumulator.signed, node.accumulator.bits - spared, node.accumulator.fraction - spared)
    return replace(node, terms=tuple(_without_zeros(term) for term in terms), accumulator=shorter)


def _without_zeros(term: NamedTerm) -> NamedTerm:
    """The same factor as an odd integer."""
    zeros = _zeros(term.coefficient)
    return replace(
        term, coefficient=term.coefficient >> zeros, format=replace(term.format, fraction=term.format.fraction - zeros)
    )


def _zeros(value: int) -> int:
    return (value & -value).bit_length() - 1


def _whole_terms(
    node: Node, nodes: dict[str, Node], source: Format, rounding: dict[str, Any]
) -> list[NamedTerm]:  # fmt: skip
    """Terms that are whole steps of the result, which are added behind the shift in 32 bits; they change neither what is cut off nor
    where it lies halfway."""
    is_plain = (
        0 < node.shift < 64
        and rounding["has_room"]
        and (rounding["work"], rounding["narrow"]) == ("int64_t", "int32_t")
    )
    if not is_plain or node.rounding == "toward-zero":
        return []
    used = [term for term in node.terms if term.coefficient]
    steps = {term: _raw(term, node, nodes, source) for term in used}
    found = [
        term for term, raw in steps.items()
        if raw % (1 << node.shift) == 0 and abs(raw) & (abs(raw) - 1) == 0 and not term.is_rest
        and max(map(abs, signal_limits(nodes, term.key, source)[:2])) * abs(raw) >> node.shift < 1 << 31
    ]  # fmt: skip
    return found if len(found) < len(used) and len(steps) == len(used) else []


def _raw(term: NamedTerm, node: Node, nodes: dict[str, Node], source: Format) -> int:
    """A coefficient in steps of its sum."""
    fraction = signal_limits(nodes, term.key, source)[2]
    return term.coefficient << (node.accumulator.fraction - fraction - term.format.fraction)


def _more(whole: list[NamedTerm], node: Node, nodes: dict[str, Node], source: Format, depth: dict[str, int]) -> str:
    """Their sum in steps of the result."""
    text = ""
    for term in whole:
        steps = _raw(term, node, nodes, source) >> node.shift
        operand = f"(int32_t){_operand(term, depth)}"
        part = operand if abs(steps) == 1 else f"{operand} * {abs(steps)}"
        text += (f" {'-' if steps < 0 else '+'} " if text else "-" if steps < 0 else "") + part
    return text


def _wide_node(
    node: Node, nodes: dict[str, Node], index: int, source: Format, used: set[str], depth: dict[str, int]
) -> dict[str, Any]:
    """A sum of more than 64 bits, its terms added by functions."""
    if node.name + REST in used and node.shift > 0:
        what = f"what {node.name} cuts off from a sum of {node.accumulator.bits} bits can't be carried on in C"
        raise FormatError(what, "stages", "take fewer bits, or no error feedback")
    terms = []
    for term in node.terms:
        if term.coefficient:
            fraction = signal_limits(nodes, term.key, source)[2]
            up = node.accumulator.fraction - fraction - term.format.fraction
            if term.is_turned:
                what = f"a sum of {node.accumulator.bits} bits of what a phase multiplies can't be written in C"
                raise FormatError(what, "stages", "take fewer state or coefficient bits")
            operand = _operand(term, depth)
            terms.append((term.coefficient, up, operand))

    def wide_sum(name: str) -> str:
        text = wide_product(name, *terms[0]) if terms else wide_product(name, 0, 0, "0")
        for each in terms[1:]:
            text = f"{name}_wide_sum({text},\n        {wide_product(name, *each)})"
        return text

    rounding = wide_rounding(Requantize(node.accumulator, node.result, node.rounding, node.overflow))
    return {
        "is_wide": True, "wide_sum": wide_sum, "name": node.name, "value": value_word(node.name), "type": c_type(node.result),
        "accumulator": node.accumulator, "result": node.result, "is_plain": False, "is_used": node.name in used,
        "round": rounding | {"label": f"{index}_{node.name}", "has_terms": len(terms) > 1}, "has_rest": False,
    }  # fmt: skip


def _product(
    term: NamedTerm,
    node: Node,
    nodes: dict[str, Node],
    source: Format,
    sum_type: str,
    depth: dict[str, int],
    kept_factors: list[int],
) -> dict[str, str]:
    """A term as C adds it: sign and the product in the type of the sum."""
    factor = _raw(term, node, nodes, source)
    if term.is_turned:
        return _turned(term, factor, sum_type)
    signed_type(factor, factor, 32)
    if signed_type(min(factor, -factor), max(factor, -factor), 32) == "int64_t" and sum_type == "int32_t":
        raise FormatError(f"the factor {factor} is wider than its sum", "stages", "take fewer bits")
    operand = f"({sum_type}){_operand(term, depth)}"
    if is_kept(factor, sum_type):
        # Read from a table with its sign: to add a product is one instruction, to take it away three.
        return {"sign": "+", "text": f"{factor_text(factor, sum_type, kept_factors)} * {operand}"}
    size = factor_text(abs(factor), sum_type, kept_factors)
    text = operand if abs(factor) == 1 else f"{size} * {operand}"
    return {"sign": "-" if factor < 0 else "+", "text": text}


def _turned(term: NamedTerm, factor: int, sum_type: str) -> dict[str, str]:
    """A product with the phase."""
    operand = value_word(term.signal)
    if factor == 1:
        return {"sign": "+", "text": f"({sum_type})phase * {operand}"}
    # The phase has one bit before its point: shifted first where 32 bits hold that.
    if factor << term.format.fraction < 1 << 31:
        return {"sign": "+", "text": f"({sum_type})(phase * {factor}) * {operand}"}
    return {"sign": "+", "text": f"({sum_type})phase * {operand} * {literal(factor, sum_type)}"}


def _operand(term: NamedTerm, depth: dict[str, int]) -> str:
    """The signal of a term, now or as it was."""
    if depth.get(term.key) == WINDOW:
        return f"window[{term.delay}]"
    return value_word(term.key) if not term.delay else _kept(term, depth[term.key])


def _kept(term: NamedTerm, deepest: int) -> str:
    if deepest <= SHIFTED_BY_HAND:
        return f"{kept_word(term.key)}_{term.delay}"
    return f"{kept_word(term.key)}[{term.delay - 1}]"


def kept_word(signal: str) -> str:
    """The history of a signal, by a name no other has."""
    return "past_" + signal.replace(".", "_")


def value_word(signal: str) -> str:
    return "sample" if signal == INPUT else "now_" + signal.replace(".", "_")


def _type(signal: str, nodes: dict[str, Node], source: Format) -> str:
    if signal == INPUT:
        return c_type(source)
    if signal.endswith(REST):
        return signed_type(*rest_limits(nodes[signal.removesuffix(REST)]))
    return c_type(nodes[signal].result)
