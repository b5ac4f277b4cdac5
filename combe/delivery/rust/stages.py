"""Every stage as the Rust template prints it: what it keeps, what it does with a sample, whom it hands on to."""

from __future__ import annotations

from typing import Any

from combe.delivery.rust.types import rounding, value_type, work_bits
from combe.realization.cic import Cic
from combe.realization.formats import Format
from combe.realization.network import NamedTerm, Network, Node, at_lower_rate, node_span, signal_limits
from combe.realization.phases import WHOLE_BITS, least_steps, step_of, steps_between
from combe.realization.stages import Realization, Requantize, TapSum
from combe.realization.term import INPUT, REST

WINDOW = -1
"""Instead of a depth: the newest samples lie side by side."""
SPARSE = 0.75
"""Of the taps, at most, that aren't zero where each is told with its sample's age."""


def stage_values(realization: Realization) -> list[dict[str, Any]]:
    """One entry a stage, in order."""
    formats = realization.formats()
    found = []
    for index, stage in enumerate(realization.stages):
        source, result = formats[index], formats[index + 1]
        common = {"index": index, "takes": value_type(source), "gives": value_type(result), "is_last": False}
        common |= {"source": str(source), "result": str(result)}
        if isinstance(stage, TapSum):
            values = _taps(stage, source)
        elif isinstance(stage, Cic):
            values = _cic(stage)
        elif isinstance(stage, Requantize):
            values = {"kind": "rounding", "round": rounding(stage)}
        else:
            values = _network(stage.network(source), source)
        found.append(common | values)
    found[-1]["is_last"] = True
    return found


def _taps(stage: TapSum, source: Format) -> dict[str, Any]:
    """Taps by phases, the newest sample's first; one phase where the rate stays."""
    least, most = stage.span(source)
    bits = work_bits(min(stage.accumulator.least, least), max(stage.accumulator.most, most))
    rows = -(-len(stage.coefficients) // stage.up)
    padded = [*stage.coefficients, *[0] * (rows * stage.up - len(stage.coefficients))]
    phases = [padded[phase :: stage.up] for phase in range(stage.up)]
    used = [[f"({age}, {tap})" for age, tap in enumerate(row) if tap] for row in phases]
    return {
        "used": used if (stage.up, stage.down) != (1, 1) and sum(map(len, used)) <= SPARSE * len(padded) else [],
        "kind": "taps", "word": f"i{bits}", "count": rows, "up": stage.up, "down": stage.down, "coefficient": str(stage.coefficient),
        "tap_type": value_type(stage.coefficient), "phases": phases,
    }  # fmt: skip


def _cic(stage: Cic) -> dict[str, Any]:
    bits = 64 if stage.accumulator.bits <= 64 else 128
    return {
        "kind": "cic", "order": stage.order, "up": stage.up, "down": stage.down, "delay": stage.delay, "word": f"u{bits}",
        "signed_word": f"i{bits}", "spare": bits - stage.accumulator.bits, "is_signed": stage.accumulator.signed,
        "cuts": stage.shifts, "dropped": stage.discarded[-1] if stage.discarded else 0,
    }  # fmt: skip


def _network(whole: Network, source: Format) -> dict[str, Any]:
    if whole.phase is not None:
        return _phased(whole, source)
    network, outputs = at_lower_rate(whole)
    nodes = {node.name: node for node in network.nodes}
    depth: dict[str, int] = {}
    used = set(outputs)
    for node in network.nodes:
        for term in node.terms:
            if term.coefficient:
                used.add(term.key)
                depth[term.key] = max(depth.get(term.key, 0), term.delay)
    rests = {key for key in used if key.endswith(REST) and nodes[key.removesuffix(REST)].shift > 0}
    rows = [_node(node, nodes, source, node.name + REST in rests, depth) for node in network.nodes]
    kept = [
        {"name": _word(key), "type": _type(key, nodes, source), "depth": deepest, "now": f"now_{_word(key)}"}
        for key, deepest in depth.items()
        if deepest and (not key.endswith(REST) or key in rests)
    ]
    return {
        "kind": "network", "form": network.form, "nodes": rows, "kept": kept, "outputs": [_word(name) for name in outputs],
        "up": whole.up, "down": whole.down,
        "uses_input": INPUT in used, "unused": [f"now_{_word(n.name)}" for n in network.nodes if n.name not in used],
    }  # fmt: skip


def _phased(stage: Network, source: Format) -> dict[str, Any]:
    """One that is computed once for each output, from the newest samples side by side."""
    assert stage.phase is not None
    nodes = {node.name: node for node in stage.nodes}
    used = {term.signal for node in stage.nodes for term in node.terms if term.coefficient} | {stage.output}
    samples = 1 + max((term.delay for node in stage.nodes for term in node.terms), default=0)
    step = step_of(stage.up)
    (whole, part), least = steps_between(stage.up, stage.down), least_steps(stage.up, stage.down)
    return {
        "kind": "phased", "form": stage.form, "nodes": [_node(node, nodes, source, False, {INPUT: WINDOW}) for node in stage.nodes],
        "output": _word(stage.output), "up": stage.up, "down": stage.down, "samples": samples, "parts": step * stage.up, "half": step // 2,
        "whole": whole, "part": part, "least": least, "shift": WHOLE_BITS - 1 - stage.phase.fraction, "one": 1 << stage.phase.fraction,
        "uses_phase": any(term.is_turned for node in stage.nodes for term in node.terms), "uses_input": INPUT in used,
        "unused": [f"now_{_word(n.name)}" for n in stage.nodes if n.name not in used],
    }  # fmt: skip


def _node(node: Node, nodes: dict[str, Node], source: Format, has_rest: bool, depth: dict[str, int]) -> dict[str, Any]:
    least, most = node_span(node, nodes, source)
    bits = work_bits(min(node.accumulator.least, least), max(node.accumulator.most, most))
    word = f"i{bits}"
    terms = []
    for term in node.terms:
        own = nodes.get(term.key.removesuffix(REST))
        if term.coefficient and not (term.key.endswith(REST) and own is not None and own.shift <= 0):
            terms.append(_term(term, node, nodes, source, word, depth))
    return {
        "name": _word(node.name), "word": word, "terms": terms, "has_rest": has_rest,
        "round": rounding(Requantize(node.accumulator, node.result, node.rounding, node.overflow)),
    }  # fmt: skip


def _term(term: NamedTerm, node: Node, nodes: dict[str, Node], source: Format, word: str, depth: dict[str, int]) -> str:
    fraction = signal_limits(nodes, term.key, source)[2]
    factor = term.coefficient << (node.accumulator.fraction - fraction - term.format.fraction)
    if term.is_turned:
        return f"+ {factor} * (phase as {word}) * (now_{_word(term.signal)} as {word})".replace("+ 1 * ", "+ ")
    if depth.get(term.key) == WINDOW:
        operand = f"window[{term.delay}] as {word}"
        return f"{'-' if factor < 0 else '+'} {abs(factor)} * ({operand})"
    name = _word(term.key)
    operand = f"now_{name} as {word}" if not term.delay else f"past_{name}[{term.delay - 1}] as {word}"
    size = f"{abs(factor)} * ({operand})" if abs(factor) != 1 else f"({operand})"
    return f"{'-' if factor < 0 else '+'} {size}"


def _type(key: str, nodes: dict[str, Node], source: Format) -> str:
    if key == INPUT:
        return value_type(source)
    if key.endswith(REST):
        node = nodes[key.removesuffix(REST)]
        return str(rounding(Requantize(node.accumulator, node.result, node.rounding, node.overflow))["word"])
    return value_type(nodes[key].result)


def _word(key: str) -> str:
    return key.replace(".", "_")
