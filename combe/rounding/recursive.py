"""Sections to integers: gain shared out, coefficients rounded, every value wide enough."""

from __future__ import annotations

from math import log2

from combe.errors import FormatError, StructureError
from combe.filters import Cascade, Roots, rational_of, sections_of
from combe.realization.formats import Format, parse_format
from combe.realization.stages import Realization, Requantize
from combe.responses import gain_peak
from combe.responses.allpass_pair import ALLPASS_STRUCTURES
from combe.rounding.allpass import allpass_draft
from combe.rounding.assemble import SCALINGS, assembled
from combe.rounding.choices import FEWEST_BITS, MOST_BITS, Choices
from combe.rounding.forms import BUILDERS, Draft, Rounder, Row, section_draft
from combe.rounding.ordering import best_order
from combe.values import replace

EXTRA_STATE_BITS, WIDEST_STATE = 8, 48
SECTION_STRUCTURES = (*BUILDERS, *ALLPASS_STRUCTURES)
ORDERINGS = ("given", "search")


def realize_sections(source: Cascade | Roots, sample_rate_hz: float, choices: Choices, name: str) -> Realization:
    """Sections in the form chosen, each value rounded once, then the output's own rounding.

    Raises
    ------
    FormatError
        If a choice can't be kept, or rounding moves a pole out of the unit circle.
    """
    entry = parse_format(choices.input, "input")
    output = parse_format(choices.output, "output") if choices.output else entry
    form = choices.structure or "direct-1"
    _check(choices, form)
    cascade = source if isinstance(source, Cascade) else sections_of(rational_of(source))
    if not rational_of(cascade).is_stable:
        raise FormatError("the design has a pole on or outside the unit circle", "design", "give a stable filter")
    bits = choices.state_bits or min(max(entry.bits, output.bits) + EXTRA_STATE_BITS, WIDEST_STATE)
    rounder = Rounder(choices.coefficient_bits, choices.coefficient_fraction)
    if form in ALLPASS_STRUCTURES:
        drafts = [allpass_draft(cascade, rounder, form)]
    else:
        if choices.ordering == "search":
            cascade = best_order(cascade)
        drafts = [section_draft(form, row, rounder) for row in shared_gain(cascade)]
    made = _realization(drafts, form, entry, output, choices, bits, sample_rate_hz, name)
    if choices.ordering == "search" and form not in ALLPASS_STRUCTURES:
        made = _quieter(made, source, sample_rate_hz, choices, name)
    return made


def _realization(
    drafts: list[Draft], form: str, entry: Format, output: Format, choices: Choices, bits: int, rate: float, name: str
) -> Realization:
    stages = assembled(drafts, form, entry, choices, bits)
    arriving = stages[-1].result
    if arriving != output:
        stages.append(Requantize(arriving, output, choices.rounding, choices.overflow))
    return Realization(name, rate, form, entry, output, tuple(stages))


def _quieter(made: Realization, source: Cascade | Roots, rate: float, choices: Choices, name: str) -> Realization:
    """The searched order, unless the given one turns out to be less noisy after all."""
    from combe.analysis.noise import noise_power

    plain = realize_sections(source, rate, replace(choices, ordering="given"), name)
    return made if noise_power(made) <= noise_power(plain) else plain


def _check(choices: Choices, form: str) -> None:
    for key, word, known in (
        ("structure", form, SECTION_STRUCTURES), ("scaling", choices.scaling, SCALINGS),
        ("ordering", choices.ordering, ORDERINGS),
    ):  # fmt: skip
        if word not in known:
            what = f"{word} is no structure of sections" if key == "structure" else f'"{word}" is not known here'
            kind = StructureError if key == "structure" else FormatError
            raise kind(what, key, f"known are {', '.join(known)}")
    bits = choices.coefficient_bits
    if not FEWEST_BITS <= bits <= MOST_BITS:
        raise FormatError(
            f"{bits} coefficient bits are out of reach", "coefficient_bits", f"take {FEWEST_BITS} to {MOST_BITS}"
        )
    if choices.state_bits is not None and not 2 <= choices.state_bits <= 64:
        raise FormatError(f"{choices.state_bits} state bits are out of reach", "state_bits", "take 2 to 64")
    if choices.product_bits is not None:
        raise StructureError("products of sections are kept whole", "product_bits", "leave it out, or round the states")
    if not 0 <= choices.guard_bits <= 32:
        raise FormatError(f"{choices.guard_bits} guard bits are out of reach", "guard_bits", "take 0 to 32")


def shared_gain(cascade: Cascade) -> list[Row]:
    """Sections with the gain put into their numerators, so that the peak after each is about that of the whole filter.

    All but the last are scaled by powers of two: numerators of zeros on the unit circle, 1, b1, 1, then have a single
    multiply, and rounding leaves their zeros on the circle. Where a value's binary point stands makes good the rest.
    """
    final = 10 ** (gain_peak(cascade)[1] / 20)
    found: list[Row] = []
    for index, (b0, b1, b2, a1, a2) in enumerate(cascade.sections):
        bare = Cascade((*found, (b0, b1, b2, a1, a2)))
        if index == len(cascade.sections) - 1:
            have = 10 ** (gain_peak(bare)[1] / 20)
            scale = final / have if have else 1.0
            scale = scale if cascade.gain >= 0 else -scale
        else:
            peak = 10 ** (gain_peak(bare)[1] / 20)
            scale = 2.0 ** round(log2(final / peak)) if peak and final else 1.0
        found.append((b0 * scale, b1 * scale, b2 * scale, a1, a2))
    return found
