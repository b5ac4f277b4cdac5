"""The sentence of a change of rate, and what is typed into it."""

from __future__ import annotations

import re
from fractions import Fraction

from combe.errors import RequirementError
from combe.requirement.bands import Requirement
from combe.requirement.quantities import frequency_text, parse_sample_rate
from combe.requirement.rates import MOST_RATIO, RateChange
from combe.values import replace

USUAL_DB = -60.0
EXACT = 1e-9
RATIO = re.compile(r"\s*(?:[×x*]\s*(?P<up>\d+))?\s*(?:[÷/]\s*(?P<down>\d+))?\s*")
PAIR = re.compile(r"\s*(?P<up>\d+)\s*/\s*(?P<down>\d+)\s*")


def ratio_from(text: str, input_hz: float) -> tuple[int, int]:
    """Up and down of what was typed: ``÷8``, ``×4``, ``×3 ÷2``, ``3/2``, or the output's rate (``31.25 kHz``).

    Raises
    ------
    RequirementError
        If it's none of these, or a rate that no ratio within reach makes.
    """
    found = PAIR.fullmatch(text) or RATIO.fullmatch(text)
    if found is not None and text.strip():
        return int(found["up"] or 1), int(found["down"] or 1)
    share = Fraction(parse_sample_rate(text) / input_hz).limit_denominator(MOST_RATIO)
    if share == 0 or abs(float(share) * input_hz / parse_sample_rate(text) - 1) > EXACT:
        what = f"{text.strip()} is no ratio of whole numbers of {frequency_text(input_hz)}"
        raise RequirementError(what, "rate", "type a ratio such as ÷8 or ×3 ÷2")
    return share.numerator, share.denominator


def with_ratio(requirement: Requirement, up: int, down: int) -> Requirement:
    """Another ratio at the same input rate; levels that a direction needs are there from the start."""
    before = requirement.rate or RateChange()
    rate = replace(
        before, up=up, down=down,
        alias_db=(before.alias_db if before.alias_db is not None else USUAL_DB) if down > 1 else before.alias_db,
        image_db=(before.image_db if before.image_db is not None else USUAL_DB) if up > 1 else before.image_db,
    )  # fmt: skip
    return replace(requirement, sample_rate_hz=requirement.input_rate_hz * up, rate=rate)


def with_ratio_text(requirement: Requirement, text: str) -> Requirement:
    """What was typed as the output's rate."""
    return with_ratio(requirement, *ratio_from(text, requirement.input_rate_hz))


def with_new_rate(requirement: Requirement) -> Requirement:
    """The first change of rate that fits the bands: down as far as all of them lie below half of the output's rate, else up.

    Raises
    ------
    RequirementError
        If the brief changes the rate already.
    """
    if requirement.rate is not None:
        raise RequirementError("the rate is changed already", "rate", "type another ratio")
    kept = max(band.stop_hz for band in requirement.passbands)
    for down in (8, 4, 2):
        if kept < 0.45 * requirement.sample_rate_hz / down:
            return with_ratio(requirement, 1, down)
    return with_ratio(requirement, 2, 1)


def without_rate(requirement: Requirement) -> Requirement:
    """At one rate again: what lies above half of the input's falls away.

    Raises
    ------
    RequirementError
        If no band would be left.
    """
    rate = requirement.input_rate_hz
    bands = [
        band if band.stop_hz <= rate / 2 else band.with_edges(band.start_hz, rate / 2)
        for band in requirement.bands
        if band.start_hz < rate / 2
    ]
    return replace(requirement, sample_rate_hz=rate, bands=tuple(bands), rate=None)


FREE = "free"
"""For a level that isn't asked."""


def with_rate_level(requirement: Requirement, key: str, db: float | None) -> Requirement:
    """Another level of ``alias_db`` or ``image_db``, None where it is free."""
    assert requirement.rate is not None
    return replace(requirement, rate=replace(requirement.rate, **{key: None if db is None else -abs(db)}))


def with_other_protection(requirement: Requirement) -> Requirement:
    """Everything where only passbands were kept clear, and the other way round."""
    assert requirement.rate is not None
    other = "everything" if requirement.rate.protect == "passbands" else "passbands"
    return replace(requirement, rate=replace(requirement.rate, protect=other))
