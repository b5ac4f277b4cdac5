"""A fingerprint of the integer program: the same whatever version of Combe, class or file it comes from."""

from __future__ import annotations

import hashlib

from combe.realization.cic import Cic
from combe.realization.formats import Format
from combe.realization.network import NamedTerm, Network, Node
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, Stage, TapSum


def realization_checksum(realization: Realization) -> str:
    """Sixteen hexadecimal digits, name aside: equal programs compute equal samples.

    The text that is hashed is fixed here, letter by letter, for checksums stand in code that was delivered long ago.
    """
    stages = _tuple([_stage(stage) for stage in realization.stages])
    text = f"({_format(realization.input)}, {_format(realization.output)}, {stages})"
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def _format(entry: Format) -> str:
    return f"Format(signed={entry.signed}, bits={entry.bits}, fraction={entry.fraction})"


def _stage(stage: Stage) -> str:
    if isinstance(stage, TapSum):
        return (
            f"TapSum(coefficients={stage.coefficients!r}, coefficient={_format(stage.coefficient)}, "
            f"accumulator={_format(stage.accumulator)}, form={stage.form!r}, branches={stage.branches}"
            + (f", up={stage.up}, down={stage.down})" if stage.up > 1 or stage.down > 1 else ")")
        )
    if isinstance(stage, Cic):
        return (
            f"Cic(order={stage.order}, up={stage.up}, down={stage.down}, delay={stage.delay}, "
            f"accumulator={_format(stage.accumulator)}"
            + (f", discarded={stage.discarded!r})" if stage.discarded else ")")
        )
    if isinstance(stage, Section):
        return (
            f"Section(b={stage.b!r}, a={stage.a!r}, numerator={_format(stage.numerator)}, "
            f"denominator={_format(stage.denominator)}, accumulator={_format(stage.accumulator)}, "
            f"result={_format(stage.result)}, rounding={stage.rounding!r}, overflow={stage.overflow!r}, form={stage.form!r})"
        )
    if isinstance(stage, Network):
        return (
            f"Network(nodes={_tuple([_node(node) for node in stage.nodes])}, output={stage.output!r}, form={stage.form!r}"
            + (f", up={stage.up}, down={stage.down}" if stage.up > 1 or stage.down > 1 else "")
            + (f", phase={_format(stage.phase)})" if stage.phase is not None else ")")
        )
    return _requantize(stage)


def _requantize(stage: Requantize) -> str:
    return (
        f"Requantize(source={_format(stage.source)}, target={_format(stage.target)}, rounding={stage.rounding!r}, "
        f"overflow={stage.overflow!r})"
    )


def _node(node: Node) -> str:
    return (
        f"Node(name={node.name!r}, terms={_tuple([_term(term) for term in node.terms])}, "
        f"accumulator={_format(node.accumulator)}, result={_format(node.result)}, rounding={node.rounding!r}, "
        f"overflow={node.overflow!r})"
    )


def _term(term: NamedTerm) -> str:
    return (
        f"Term(signal={term.key!r}, delay={term.delay}, coefficient={term.coefficient}, format={_format(term.format)})"
    )


def _tuple(items: list[str]) -> str:
    return f"({items[0]},)" if len(items) == 1 else f"({', '.join(items)})"
