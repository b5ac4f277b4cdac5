"""Taps that follow polynomials in integers: a sum of samples for each power, then one product with the place after the other.

From the highest power down what there is so far is multiplied by the place between two samples, and the sum of the next power added
(Farrow 1988, by Horner's rule): w[k] = s[k] + x·w[k + 1], the output w[0]. Samples on both sides of the middle are added, and taken from
each other, before they share a product.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import ceil, log2

from combe.designing.rates.stages import RateStage
from combe.filters import Fir
from combe.realization.formats import Format, parse_format
from combe.realization.network import NamedTerm, Network, Node
from combe.realization.phases import MOST_PHASE_BITS
from combe.realization.stages import Stage
from combe.realization.term import INPUT, ONE, Term
from combe.rounding.choices import Choices
from combe.rounding.network_parts import largest, summed
from combe.rounding.realize import rounded_coefficients

FORM = "farrow"
HEADROOM, GUARD = 2, 6
FEWEST_PHASE_BITS = 8
ERRORS = 8
"""Steps that roundings may add up to, beside the largest value any input makes."""


def polynomial_stage(
    stage: RateStage, before: Sequence[Stage], entry: Format, source: Format, target: Format, choices: Choices
) -> Network:  # fmt: skip
    """The network of a stage whose taps follow polynomials; ``source`` arrives, ``target`` is handed on.

    Coefficients of every power have ``coefficient_bits``, their point where the largest of that power fits; so many bits has the place,
    too. What goes from power to power has ``state_bits``, else eight bits more than the wider of what goes in and comes out.

    Raises
    ------
    FormatError
        If a coefficient or a choice can't be kept.
    """
    output = parse_format(choices.output, "output").bits if choices.output else 0
    bits = choices.state_bits or max(entry.bits, output) + HEADROOM + GUARD
    state = Format(True, bits, source.fraction + GUARD)
    draft = _network(stage, source, state, target, choices)
    names = [node.name for node in draft.nodes if node.name[0] == "w"]
    if names:
        reach = largest(draft, names, before, entry)
        for _ in range(2):
            most = reach + ERRORS * state.step
            state = Format(True, bits, bits - 1 - ceil(log2(most) + 1e-9))
    return _network(stage, source, state, target, choices)


def integer_branches(stage: Network) -> list[list[int]]:
    """The integers of each power by sample, those on both sides of the middle written out; empty of networks of another form."""
    if stage.form != FORM:
        return []
    samples = 1 + max((term.delay for node in stage.nodes for term in node.terms), default=0)
    powers = {0 if node.name == "y" else int(node.name[1:]): node for node in stage.nodes if node.name[0] in "wy"}
    found = [[0] * samples for _ in range(max(powers) + 1)]
    for power, node in powers.items():
        for term in node.terms:
            if term.signal == INPUT:
                found[power][term.delay] = term.coefficient
            elif term.signal[0] in "ad":
                late = int(term.signal[1:])
                found[power][late] = term.coefficient
                found[power][samples - 1 - late] = term.coefficient * (1 if term.signal[0] == "a" else -1)
    return found


def branch_formats(stage: Network) -> list[Format]:
    """The format of each power's coefficients."""
    found = []
    for power in range(len(integer_branches(stage))):
        terms = stage.node("y" if power == 0 else f"w{power}").terms
        found.append(next((term.format for term in terms if not term.is_turned), ONE))
    return found


def _network(stage: RateStage, source: Format, state: Format, target: Format, choices: Choices) -> Network:
    samples, powers = len(stage.branches[0]), len(stage.branches)
    place_bits = min(max(choices.coefficient_bits, FEWEST_PHASE_BITS), MOST_PHASE_BITS)
    place = Format(True, place_bits, place_bits - 1)
    nodes: dict[str, Node] = {}
    sums = [_power(stage.branches[power], power, samples, nodes, source, choices) for power in range(powers)]
    # One point for all sums: what goes from one to the next is shifted alike.
    fraction = max(
        [_fraction(term, nodes, source) for own in sums for term in own]
        + [state.fraction + place.fraction] * (powers > 1)
    )
    for power in range(powers - 1, -1, -1):
        terms = sums[power]
        if power < powers - 1:
            terms = (*terms, Term(f"w{power + 1}", 0, 1, place, is_turned=True))
        name, result = (f"w{power}", state) if power else ("y", target)
        if not terms:
            terms = (Term(INPUT, 0, 0, ONE),)
        nodes[name] = summed(name, terms, nodes, source, result, choices.rounding, choices.overflow, fraction)
    return Network(tuple(nodes.values()), "y", FORM, stage.up, stage.down, place)


def _fraction(term: NamedTerm, nodes: dict[str, Node], source: Format) -> int:
    return (source if term.signal == INPUT else nodes[term.signal].result).fraction + term.format.fraction


def _power(
    branch: tuple[float, ...], power: int, samples: int, nodes: dict[str, Node], source: Format, choices: Choices
) -> tuple[NamedTerm, ...]:  # fmt: skip
    """The terms of one power, those of both sides of the middle as one where they are alike."""
    if not any(branch):
        return ()
    coefficient, integers = rounded_coefficients(Fir(branch), choices.coefficient_bits, choices.coefficient_fraction)
    sign = (-1) ** power
    if Fir(branch).symmetry != sign or samples == 1:
        return tuple(Term(INPUT, late, value, coefficient) for late, value in enumerate(integers) if value)
    terms: list[NamedTerm] = []
    for late in range((samples + 1) // 2):
        if not integers[late]:
            continue
        if late == samples - 1 - late:
            terms.append(Term(INPUT, late, integers[late], coefficient))
            continue
        name = f"{'a' if sign > 0 else 'd'}{late}"
        if name not in nodes:
            pair = (Term(INPUT, late, 1, ONE), Term(INPUT, samples - 1 - late, sign, ONE))
            nodes[name] = summed(name, pair, nodes, source, None, "floor", "wrap")
        terms.append(Term(name, 0, integers[late], coefficient))
    return tuple(terms)
