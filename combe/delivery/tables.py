"""The coefficients of a realization or a design as a list that recipes make text of."""

from __future__ import annotations

from combe.delivery.c.types import c_type
from combe.delivery.recipes import Coefficient
from combe.errors import FileError
from combe.filters import Cascade, Filter, Fir, Roots, rational_of, sections_of
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Realization, TapSum


def integer_table(made: Realization) -> tuple[list[Coefficient], str, str, str]:
    """Coefficients in order, their formats in words, the C type that holds them all, and a name."""
    found: list[Coefficient] = []
    formats = []
    for stage in made.stages:
        if isinstance(stage, TapSum):
            formats.append(stage.coefficient)
            found += [Coefficient(v, v * stage.coefficient.step, stage.coefficient.bits) for v in stage.coefficients]
        elif isinstance(stage, Section):
            formats += [stage.numerator, stage.denominator]
            found += [Coefficient(v, v * stage.numerator.step, stage.numerator.bits) for v in stage.b]
            found += [Coefficient(v, v * stage.denominator.step, stage.denominator.bits, True) for v in stage.a]
        elif isinstance(stage, Network):
            for term in (term for node in stage.nodes for term in node.terms):
                if abs(term.coefficient) > 1:
                    formats.append(term.format)
                    found.append(Coefficient(term.coefficient, term.coefficient * term.format.step, term.format.bits))
    if not found:
        raise FileError("there are no coefficients in it", "stages")
    widest = max(formats, key=lambda entry: entry.bits)
    described = ", ".join(dict.fromkeys(str(entry) for entry in formats))
    return found, described, c_type(widest), made.name


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
