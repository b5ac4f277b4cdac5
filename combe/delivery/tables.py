"""The coefficients of a realization or a design as a list that recipes make text of."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from combe.delivery.c.types import c_type
from combe.delivery.recipes import Coefficient, Recipe, table_text
from combe.designing.designed import Design
from combe.errors import FileError
from combe.filters import Cascade, Filter, Fir, Roots, rational_of, sections_of
from combe.realization.cic import Cic
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import CHANGING, Realization, Stage, TapSum
from combe.rounding.polynomials import branch_formats, integer_branches


class CoefficientSet(Struct, frozen=True):
    """Coefficients that belong together, in order; their formats in words, the C type that holds them all, and what the name of
    the whole gets behind it where there are several sets."""

    coefficients: tuple[Coefficient, ...]
    described: str
    kind: str
    suffix: str = ""


def integer_sets(made: Realization) -> list[CoefficientSet]:
    """All in one set; of stages that change the rate each stage of taps its own, numbered by its place in the row.

    Raises
    ------
    FileError
        If there are none.
    """
    stages = [stage for stage in made.stages if isinstance(stage, CHANGING)]
    if made.changes_rate and sum(not isinstance(stage, Cic) for stage in stages) > 1:
        return [_integers([stage], f"_{place}") for place, stage in enumerate(stages, 1) if not isinstance(stage, Cic)]
    return [_integers(made.stages)]


def _integers(stages: Sequence[Stage], suffix: str = "") -> CoefficientSet:
    found: list[Coefficient] = []
    formats = []
    for stage in stages:
        if isinstance(stage, TapSum):
            formats.append(stage.coefficient)
            found += [Coefficient(v, v * stage.coefficient.step, stage.coefficient.bits) for v in stage.coefficients]
        elif isinstance(stage, Section):
            formats += [stage.numerator, stage.denominator]
            found += [Coefficient(v, v * stage.numerator.step, stage.numerator.bits) for v in stage.b]
            found += [Coefficient(v, v * stage.denominator.step, stage.denominator.bits, True) for v in stage.a]
        elif isinstance(stage, Network) and (branches := integer_branches(stage)):
            for row, own in zip(branches, branch_formats(stage)):
                formats.append(own)
                found += [Coefficient(value, value * own.step, own.bits) for value in row]
        elif isinstance(stage, Network):
            for term in (term for node in stage.nodes for term in node.terms):
                if abs(term.coefficient) > 1:
                    formats.append(term.format)
                    found.append(Coefficient(term.coefficient, term.coefficient * term.format.step, term.format.bits))
    if not found:
        raise FileError("there are no coefficients in it", "stages")
    widest = max(formats, key=lambda entry: entry.bits)
    return CoefficientSet(tuple(found), ", ".join(dict.fromkeys(map(str, formats))), c_type(widest), suffix)


def real_sets(design: Design) -> list[CoefficientSet]:
    """The same of a design, in real numbers."""
    taps = [(f"_{place}", stage.coefficients) for place, stage in enumerate(design.stages, 1) if stage.kind != "cic"]
    if len(taps) > 1 or any(stage.kind in ("allpass", "farrow") for stage in design.stages):
        return [CoefficientSet(tuple(real_table(Fir(own))), "real numbers", "double", suffix) for suffix, own in taps]
    return [CoefficientSet(tuple(real_table(design.filter)), "real numbers", "double")]


def sets_text(sets: Sequence[CoefficientSet], recipe: Recipe, name: str) -> str:
    """The texts a recipe makes of them, one after another.

    Raises
    ------
    FileError
        If a half is asked of a set that isn't symmetric, or an integer's digits of a real number.
    """
    return "\n".join(
        table_text(list(each.coefficients), recipe, name + each.suffix, each.described, each.kind) for each in sets
    )


def real_table(source: Filter) -> list[Coefficient]:
    """Taps, or sections with the gain in the first one."""
    if isinstance(source, Fir):
        return [Coefficient(tap, tap, None) for tap in source.taps]
    cascade = sections_of(rational_of(source)) if isinstance(source, Roots) else source
    assert isinstance(cascade, Cascade)
    found: list[Coefficient] = []
    for index, (b0, b1, b2, a1, a2) in enumerate(cascade.sections):
        gain = cascade.gain if index == 0 else 1.0
        found += [Coefficient(value * gain, value * gain, None) for value in (b0, b1, b2)]
        found += [Coefficient(value, value, None, True) for value in (a1, a2)]
    return found
