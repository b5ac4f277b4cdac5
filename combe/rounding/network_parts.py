"""Sums of a network in the narrowest accumulators, and how large any input makes them."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from combe.realization.formats import Format
from combe.realization.network import NamedTerm, Network, Node, needed_node_accumulator
from combe.realization.stages import Stage
from combe.realization.term import INPUT
from combe.values import replace


def summed(
    name: str, terms: tuple[NamedTerm, ...], nodes: dict[str, Node], source: Format, result: Format | None, rounding: str, overflow: str,
    fraction: int | None = None,
) -> Node:  # fmt: skip
    """A sum in the narrowest accumulator, with so many fraction bits where that is told; without a result handed on as it is."""
    points = [
        (source if term.signal == INPUT else nodes[term.signal].result).fraction + term.format.fraction for term in terms
    ]  # fmt: skip
    entry = Format(True, 2, max(points) if fraction is None else fraction)
    draft = Node(name, terms, entry, entry, rounding, overflow)
    enough = needed_node_accumulator(draft, nodes, source)
    return replace(draft, accumulator=enough, result=result or enough)


def largest(draft: Network, names: Collection[str], before: Sequence[Stage], entry: Format) -> float:
    """The largest value of any of these sums that an input causes, behind stages that are integers already."""
    from combe.analysis.network_paths import stages_to_sums
    from combe.analysis.rates import rate_stages, spread_of

    ways, gain = rate_stages(before)
    middle, half = (entry.most + entry.least) / 2 * entry.step, (entry.most - entry.least) / 2 * entry.step
    found = 2.0**-200
    for node, to_sum in zip(draft.nodes, stages_to_sums(draft)):
        if node.name in names:
            center, reach = spread_of([*ways, to_sum], gain, middle, half)
            found = max(found, max(map(abs, center)) + reach)
    return found
