"""A half-band of two allpasses in integers: one multiply for each pole pair, computed at the lower of both rates.

Whatever the integers, each branch stays an allpass, so that the passband can't rise and falls by no more than what the stopband
lets through (Vaidyanathan, Mitra and Neuvo 1986).
"""

from __future__ import annotations

from collections.abc import Sequence
from math import ceil, log2

from combe.analysis.network_paths import FORM
from combe.designing.rates.stages import RateStage
from combe.errors import PoleError
from combe.filters import Fir
from combe.realization.formats import Format, parse_format
from combe.realization.network import NamedTerm, Network, Node
from combe.realization.stages import Stage
from combe.realization.term import INPUT, ONE, Term
from combe.rounding.choices import Choices
from combe.rounding.network_parts import largest, summed
from combe.rounding.realize import rounded_coefficients
from combe.values import replace

HALF = Format(True, 2, 1)
HEADROOM, GUARD = 2, 6
"""Bits on top of and below what goes in: in all eight more, as sections have, so that what they do without input can't be heard."""
ERRORS = 64
"""Steps that roundings may add up to, beside the largest value any input makes."""


def half_band(
    stage: RateStage, before: Sequence[Stage], entry: Format, source: Format, target: Format, choices: Choices
) -> Network:  # fmt: skip
    """The network of a stage of two allpasses, behind stages that are integers already; ``source`` arrives, ``target`` is handed on.

    States have ``state_bits``, else eight bits more than the wider of what goes in and what is handed on; their point stands so that no input makes
    them overflow.

    Raises
    ------
    FormatError
        ``PoleError`` if a coefficient is rounded to one.
    """
    bits = (
        choices.state_bits
        or max(entry.bits, parse_format(choices.output, "output").bits if choices.output else 0) + HEADROOM + GUARD
    )
    fraction = source.fraction + GUARD
    draft = _network(stage, source, Format(True, bits, fraction), target, choices)
    reach = largest(draft, [node.name for node in draft.nodes if node.name[0] in "eo"], before, entry)
    # Twice: the step of the states is part of what they may reach.
    for _ in range(2):
        most = reach + ERRORS * 2.0**-fraction
        fraction = bits - 1 - ceil(log2(most) + 1e-9)
    return _network(stage, source, Format(True, bits, fraction), target, choices)


def _network(stage: RateStage, source: Format, state: Format, target: Format, choices: Choices) -> Network:
    alphas = (*stage.even, *stage.odd)
    fixed = choices.coefficient_fraction
    coefficient, integers = rounded_coefficients(Fir(alphas or (0.5,)), choices.coefficient_bits, fixed)
    for alpha, value in zip(alphas, integers):
        if abs(value * coefficient.step) >= 1:
            what = f"at {choices.coefficient_bits} bits the allpass coefficient {alpha:.6g} is rounded to 1"
            raise PoleError(what, "coefficient_bits", "take more coefficient bits")
    nodes: dict[str, Node] = {}
    ways = {"e": (integers[: len(stage.even)], 0), "o": (integers[len(stage.even) : len(alphas)], int(stage.down > 1))}
    ends = {mark: Term(INPUT, late, 1, HALF if stage.down > 1 else ONE) for mark, (_, late) in ways.items()}
    # One of each in turn: what is rounded on one way leaves the other time.
    for place in range(max(len(own) for own, _ in ways.values())):
        for mark, (own, _) in ways.items():
            if place < len(own):
                name, arriving = f"{mark}{place}", ends[mark]
                product = Term(f"d{name}", 0, own[place], coefficient)
                _add(nodes, source, name, arriving.signal, arriving.delay, product, state, choices)
                ends[mark] = replace(arriving, signal=name, delay=0)
    if stage.up > 1:
        ends["o"] = replace(ends["o"], delay=1)
    nodes["y"] = summed("y", tuple(ends.values()), nodes, source, target, choices.rounding, choices.overflow)
    return Network(tuple(nodes.values()), "y", FORM, stage.up, stage.down)


def _add(
    nodes: dict[str, Node], source: Format, name: str, arriving: str, late: int, product: NamedTerm, state: Format, choices: Choices
) -> None:  # fmt: skip
    """y = α·(x − y[2]) + x[2]: the difference is taken whole before it is multiplied."""
    difference = (Term(arriving, late, 1, ONE), Term(name, 2, -1, ONE))
    own = product.signal
    # What the difference takes away is known by its format alone.
    known = nodes | {name: Node(name, (), state, state, "floor", "wrap")}
    whole = summed(own, difference, known, source, None, "floor", "wrap")
    nodes[own] = whole
    terms = (product, Term(arriving, late + 2, 1, ONE))
    nodes[name] = summed(name, terms, nodes, source, state, choices.rounding, choices.overflow)
