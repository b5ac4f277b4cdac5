"""How long a linear-phase FIR will have to be: a start for the search, never the answer."""

from __future__ import annotations

from itertools import pairwise
from math import ceil, inf, log10

from combe.requirement import Band, Requirement

DB_PER_TAP = 14.6
"""Kaiser's slope: attenuation in dB gained per tap and unit of transition (in cycles per sample)."""


def kaiser_equiripple_taps(ripple: float, attenuation: float, transition: float) -> float:
    """Taps an equiripple lowpass needs.

    Parameters
    ----------
    ripple, attenuation
        Linear deviations allowed in the passband and the stopband.
    transition
        Its width in cycles per sample.

    Source: Kaiser (1974), "Nonrecursive digital filter design using the I0-sinh window function".
    """
    if transition <= 0:
        return inf
    return max((-10 * log10(ripple * attenuation) - 13) / (DB_PER_TAP * transition) + 1, 1.0)


def estimated_taps(requirement: Requirement) -> tuple[float, tuple[Band, Band] | None]:
    """Taps a requirement will need, and the two bands between which it's hardest."""
    most, hardest = 1.0, None
    for left, right in pairwise(requirement.bands):
        jump = _jump(left, right)
        if jump <= 0:
            continue
        near, far = (min(_room(band) / jump, 1.0) for band in (left, right))
        width = (right.start_hz - left.stop_hz) / requirement.sample_rate_hz
        taps = kaiser_equiripple_taps(near, far, width)
        if taps > most:
            most, hardest = taps, (left, right)
    return most, hardest


def rooms_between(left: Band, right: Band) -> tuple[float, float]:
    """The linear tolerances of two neighbors, as shares of the step between them."""
    jump = _jump(left, right)
    return _room(left) / jump, _room(right) / jump


def reachable_attenuation_db(ripple: float, taps: int, transition: float) -> float:
    """The same formula solved for the attenuation in dB."""
    return max(DB_PER_TAP * transition * (taps - 1) + 13 + 10 * log10(ripple), 0.0) * 2


def needed_transition(ripple: float, attenuation: float, taps: int) -> float:
    """The same formula solved for the transition in cycles per sample."""
    return (-10 * log10(ripple * attenuation) - 13) / (DB_PER_TAP * (taps - 1))


def rounded_up(taps: float) -> int:
    """A tap count as a whole number."""
    return max(1, ceil(taps))


def _level(band: Band) -> float:
    """The linear gain in the middle of a band's limits."""
    if band.lower is None:
        return 0.0
    return float(10 ** (band.upper.first_db / 20) + 10 ** (band.lower.first_db / 20)) / 2


def _room(band: Band) -> float:
    """The tightest linear tolerance of a band."""
    uppers = [10 ** (db / 20) for _, db in band.upper.points]
    if band.lower is None:
        return float(min(uppers))
    lowers = [10 ** (db / 20) for _, db in band.lower.points]
    return max(float(min(u - low for u, low in zip(uppers, lowers)) / 2), 1e-12)


def _jump(left: Band, right: Band) -> float:
    """The change of gain between two bands beyond what their tolerances span; zero if none is needed."""
    jump = abs(_level(left) - _level(right))
    return jump if jump > _room(left) + _room(right) else 0.0
