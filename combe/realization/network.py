"""A network: any structure with feedback as exact integer sums, each rounded once, in the order they are computed.

Direct, transposed, coupled and lattice sections, sums of allpasses, error feedback and products rounded before they
are added are all networks. A reader that walks networks knows every structure there is.
"""

from __future__ import annotations

import re

from msgspec import Struct

from combe.errors import FormatError
from combe.realization.feedback import feedback_groups
from combe.realization.formats import OVERFLOWS, ROUNDINGS, Format, narrowest_signed
from combe.realization.phases import MOST_PHASE_BITS, phases_of
from combe.realization.term import INPUT, ONE, REST, TURNED, Term

NamedTerm = Term[str, int]
MOST_NODES, LONGEST_DELAY, MOST_TERMS = 6000, 6000, 20_000
MOST_FACTOR = 4096


class Node(Struct, frozen=True):
    """One exact sum in ``accumulator``, brought into ``result``."""

    name: str
    terms: tuple[NamedTerm, ...]
    accumulator: Format
    result: Format
    rounding: str
    overflow: str

    @property
    def shift(self) -> int:
        """Bits its rounding cuts off; below zero where the result has more fraction bits than the sum."""
        return self.accumulator.fraction - self.result.fraction


class Network(Struct, frozen=True):
    """Nodes in the order they are computed; ``output`` names the one that is handed on.

    One that changes the rate is the same network at its higher rate, between stuffing zeros and dropping samples: all of its delays
    but some of the input (going down) and some at the output (going up) are multiples of the factor, so that it can be computed
    once for each sample at the lower rate.

    One with a ``phase`` is computed once for each output instead: of the input it sees the samples up to the one that has come by then,
    and whatever is marked ``.phase`` has for its coefficient where between two samples the output lies, -1 to 1, in the format ``phase``.
    """

    nodes: tuple[Node, ...]
    output: str
    form: str
    up: int = 1
    down: int = 1
    phase: Format | None = None

    @property
    def phases(self) -> tuple[int, ...]:
        """Where outputs lie between samples, in steps of ``phase``; none where that isn't looked at."""
        return phases_of(self.up, self.phase) if self.phase is not None else ()

    def at_phase(self, phase: int) -> Network:
        """The sums of the outputs that lie at one phase, in steps of ``phase``: an ordinary network at the rate of the input."""
        assert self.phase is not None
        nodes = tuple(_with(node, node.name, tuple(_fixed(term, phase) for term in node.terms)) for node in self.nodes)
        return Network(nodes, self.output, self.form)

    def node(self, name: str) -> Node:
        """A node by its name."""
        return next(node for node in self.nodes if node.name == name)

    @property
    def result(self) -> Format:
        """The format handed on."""
        return self.node(self.output).result

    @property
    def is_recursive(self) -> bool:
        """Whether any node comes back to itself."""
        numbers = {node.name: index + 1 for index, node in enumerate(self.nodes)}
        uses = [[0 if t.is_rest else numbers.get(t.signal, 0) for t in node.terms] for node in self.nodes]
        return bool(feedback_groups(uses))

    def network(self, _: Format) -> Network:
        """Itself: what every kind of stage is read as."""
        return self

    @property
    def overflow(self) -> str:
        """What the node that is handed on does with what doesn't fit."""
        return self.node(self.output).overflow

    @property
    def accumulators(self) -> tuple[Format, ...]:
        """Of every sum."""
        return tuple(node.accumulator for node in self.nodes)

    @property
    def coefficient_formats(self) -> tuple[Format, ...]:
        """Of all coefficients but ones, and one halves."""
        return tuple(
            term.format
            for node in self.nodes
            for term in node.terms
            if term.format != ONE and (abs(term.coefficient) > 1 or term.format.bits > 2)
        )

    def title(self, index: int, node: Node) -> str:
        """A node's name for people, the stage being number ``index``."""
        return f"{node.name} of stage {index + 1}"


def check_rate(stage: Network, where: str) -> None:
    """Raise ``FormatError`` where a network can't be computed at the lower of its rates."""
    factor = max(stage.up, stage.down)
    if stage.phase is not None:
        _check_phase(stage, where)
        return
    if factor == 1:
        return
    if min(stage.up, stage.down) < 1 or factor > MOST_FACTOR or (stage.up > 1 and stage.down > 1):
        what = f"a network goes up or down, here by {stage.up}/{stage.down}"
        raise FormatError(
            what, f"{where}.{'up' if stage.up != 1 else 'down'}", f"one of both is 1, the other 2 to {MOST_FACTOR}"
        )
    for index, node in enumerate(stage.nodes):
        for position, term in enumerate(node.terms):
            place = f"{where}.nodes[{index}].terms[{position}]"
            if stage.up > 1 and term.signal == stage.output:
                raise FormatError("the output of a network that goes up is for nothing else", place, "copy its sum")
            is_free = term.signal == INPUT if stage.down > 1 else node.name == stage.output
            if term.delay % factor and not is_free:
                raise FormatError(
                    f"a delay of {term.delay} is no multiple of {factor}",
                    place,
                    "what is computed at the lower rate has no others",
                )


def _check_phase(stage: Network, where: str) -> None:
    """Raise ``FormatError`` where a network can't be computed once for each output."""
    entry = stage.phase
    assert entry is not None
    if not (entry.signed and entry.bits == entry.fraction + 1 and 2 <= entry.bits <= MOST_PHASE_BITS):
        what = f"{entry} is no phase, which runs from -1 to 1"
        raise FormatError(what, f"{where}.phase", f"take s2f1 to s{MOST_PHASE_BITS}f{MOST_PHASE_BITS - 1}")
    if not (2 <= stage.up <= MOST_FACTOR and 1 <= stage.down <= MOST_FACTOR):
        what = f"a network with a phase goes up, here by {stage.up}/{stage.down}"
        raise FormatError(what, f"{where}.up", f"up takes 2 to {MOST_FACTOR}, down 1 to {MOST_FACTOR}")
    for index, node in enumerate(stage.nodes):
        for position, term in enumerate(node.terms):
            if term.is_turned and (term.coefficient, term.format) != (1, entry):
                what = f"{term.key} is multiplied by {term.coefficient} in {term.format}"
                place = f"{where}.nodes[{index}].terms[{position}]"
                raise FormatError(what, place, f"its coefficient is the phase: give 1 and {entry}")
            if term.is_rest or (term.delay and term.signal != INPUT):
                what = f"{term.key}, {term.delay} ago, belongs to an output at another phase"
                raise FormatError(what, f"{where}.nodes[{index}].terms[{position}]", "look back at the input alone")


def at_lower_rate(stage: Network) -> tuple[Network, tuple[str, ...]]:
    """What is computed once for each sample at the lower rate, and the nodes that are handed on then, in order.

    Delays of nodes count such turns. Those of the input count samples, of which going down so many come in each turn as the factor
    says. Going up, the output is a node for each phase, of the terms that meet something there: all others would add zeros.
    """
    if stage.phase is not None or stage.up == stage.down == 1:
        return stage, (stage.output,)
    factor = max(stage.up, stage.down)
    nodes: list[Node] = []
    outputs: tuple[str, ...] = (stage.output,)
    for node in stage.nodes:
        if stage.up > 1 and node.name == stage.output:
            continue
        terms = tuple(_slower(term, stage, factor) for term in node.terms)
        nodes.append(_with(node, node.name, terms))
    if stage.up > 1:
        known = {node.name for node in nodes}
        last = stage.node(stage.output)
        for phase in range(factor):
            name = _unused(f"{stage.output[:11]}p{phase}", known)
            known.add(name)
            terms = tuple(_slower(term, stage, factor) for term in last.terms if term.delay % factor == phase)
            nodes.append(_with(last, name, terms))
        outputs = tuple(node.name for node in nodes[-factor:])
    return Network(tuple(nodes), outputs[0], stage.form), outputs


def _slower(term: NamedTerm, stage: Network, factor: int) -> NamedTerm:
    delay = term.delay if stage.down > 1 and term.signal == INPUT else term.delay // factor
    return Term(term.signal, delay, term.coefficient, term.format, term.is_rest)


def _fixed(term: NamedTerm, phase: int) -> NamedTerm:
    """A term with the phase as its coefficient."""
    return Term(term.signal, term.delay, phase, term.format) if term.is_turned else term


def _with(node: Node, name: str, terms: tuple[NamedTerm, ...]) -> Node:
    return Node(name, terms, node.accumulator, node.result, node.rounding, node.overflow)


def _unused(name: str, known: set[str]) -> str:
    """The name, or that with letters behind it that make it another."""
    while name in known:
        name += "x"
    return name


def rest_limits(node: Node) -> tuple[int, int]:
    """The least and the largest rest a rounding can leave: the sum less the rounded value, in steps of the sum."""
    if node.shift <= 0:
        return 0, 0
    whole = 1 << node.shift
    if node.rounding.startswith("nearest"):
        return -whole // 2, whole // 2
    return (0, whole - 1) if node.rounding == "floor" else (1 - whole, whole - 1)


def signal_limits(nodes: dict[str, Node], name: str, source: Format) -> tuple[int, int, int]:
    """The least and the largest raw value of a signal, and its fraction bits."""
    name = name.removesuffix(TURNED)
    if name == INPUT:
        return source.least, source.most, source.fraction
    if name.endswith(REST):
        node = nodes[name.removesuffix(REST)]
        return *rest_limits(node), node.accumulator.fraction
    entry = nodes[name].result
    return entry.least, entry.most, entry.fraction


def node_span(node: Node, nodes: dict[str, Node], source: Format) -> tuple[int, int]:
    """The least and the largest sum of a node whatever its signals hold; partial sums lie between them too."""
    low = high = 0
    for term in node.terms:
        least, most, fraction = signal_limits(nodes, term.key, source)
        factor = term.coefficient << max(node.accumulator.fraction - fraction - term.format.fraction, 0)
        if term.is_turned:
            # The phase lies between -1 and 1.
            reach = max(-least, most) * factor << term.format.fraction
            low, high = low - reach, high + reach
            continue
        ends = factor * least, factor * most
        low, high = low + min(*ends, 0), high + max(*ends, 0)
    return low, high


def needed_node_accumulator(node: Node, nodes: dict[str, Node], source: Format) -> Format:
    """The narrowest signed accumulator that holds every sum."""
    return Format(True, narrowest_signed(*node_span(node, nodes, source)), node.accumulator.fraction)


def check_network(stage: Network, source: Format, where: str) -> None:
    """Raise ``FormatError`` where a network doesn't hold together."""
    nodes = {node.name: node for node in stage.nodes}
    if len(nodes) != len(stage.nodes):
        raise FormatError("two nodes have one name", f"{where}.nodes", "give each its own")
    if not 1 <= len(stage.nodes) <= MOST_NODES:
        raise FormatError(f"there are {len(stage.nodes)} nodes", f"{where}.nodes", f"1 to {MOST_NODES} are taken")
    if sum(len(node.terms) for node in stage.nodes) > MOST_TERMS:
        raise FormatError("there are too many terms", f"{where}.nodes", f"at most {MOST_TERMS} are taken")
    check_rate(stage, where)
    if stage.output not in nodes:
        raise FormatError(f'"{stage.output}" is no node', f"{where}.output", f"known are {', '.join(list(nodes)[:8])}")
    known = {INPUT}
    for index, node in enumerate(stage.nodes):
        _check_node(node, nodes, known, source, f"{where}.nodes[{index}]", stage.phase is not None)
        known |= {node.name, node.name + REST, node.name + TURNED}


def _check_node(
    node: Node, nodes: dict[str, Node], known: set[str], source: Format, where: str, has_phase: bool
) -> None:
    if not re.fullmatch(r"[a-z][a-z0-9]{0,15}", node.name) or node.name == INPUT:
        raise FormatError(f'"{node.name}" is no name', f"{where}.name", "small letters and digits, not input")
    if not node.terms:
        raise FormatError("there are no terms", f"{where}.terms", "at least one is needed")
    for position, term in enumerate(node.terms):
        _check_term(term, node, nodes, known, source, f"{where}.terms[{position}]", has_phase)
    least, most = node_span(node, nodes, source)
    if not (node.accumulator.holds(least) and node.accumulator.holds(most)):
        enough = needed_node_accumulator(node, nodes, source)
        what = f"{node.accumulator} can't hold every sum, which run from {least} to {most}"
        raise FormatError(what, f"{where}.accumulator", f"{enough} is enough")
    for key, word, all_words in (("rounding", node.rounding, ROUNDINGS), ("overflow", node.overflow, OVERFLOWS)):
        if word not in all_words:
            raise FormatError(f'"{word}" is not known here', f"{where}.{key}", f"known are {', '.join(all_words)}")


def _check_term(
    term: NamedTerm, node: Node, nodes: dict[str, Node], known: set[str], source: Format, where: str, has_phase: bool
) -> None:
    if term.signal not in nodes and (term.signal != INPUT or term.is_rest):
        raise FormatError(f'"{term.key}" is no signal', where, "it must be input, a node, or a node with .rest")
    if term.is_turned and not has_phase:
        raise FormatError(f"{term.key} stands in a network without a phase", where, 'give the network its "phase"')
    if term.is_rest and nodes[term.signal].result.fraction > nodes[term.signal].accumulator.fraction:
        what = f"{term.key} is no signal: {term.signal} is finer than its sum, so that nothing is cut off"
        raise FormatError(what, where, "give the node at most the fraction bits of its accumulator")
    if not 0 <= term.delay <= LONGEST_DELAY:
        raise FormatError(f"a delay of {term.delay} is out of reach", where, f"0 to {LONGEST_DELAY} are taken")
    if term.delay == 0 and term.key not in known:
        raise FormatError(f"{term.key} isn't computed yet here", where, "delay it, or put its node first")
    if not term.format.holds(term.coefficient):
        limits = f"it holds {term.format.least} to {term.format.most}"
        raise FormatError(f"{term.coefficient} doesn't fit {term.format}", where, limits)
    fraction = signal_limits(nodes, term.key, source)[2] + term.format.fraction
    if fraction > node.accumulator.fraction:
        what = f"{node.accumulator} has fewer fraction bits than this product"
        raise FormatError(what, where, f"{fraction} fraction bits are needed")
