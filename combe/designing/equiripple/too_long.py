"""Why no length within reach keeps a requirement, and what would help."""

from __future__ import annotations

from math import isfinite

from combe.designing.estimates import estimated_taps, needed_transition, reachable_attenuation_db, rooms_between
from combe.errors import DesignError
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text


def too_long(requirement: Requirement, guess: float, most: int) -> DesignError:
    """Which single limit to relax, and how far, so that ``most`` taps do; ``guess`` is how many it would take, if known."""
    _, hardest = estimated_taps(requirement)
    count = f"about {guess:,.0f} taps" if isfinite(guess) else f"more than {most} taps"
    if hardest is None:
        return DesignError(f"this needs {count}, and {most} is the most", instead="relax the tightest limit")
    left, right = hardest
    rate = requirement.sample_rate_hz
    width = (right.start_hz - left.stop_hz) / rate
    if width <= 0:
        what = f"bands {left.name!r} and {right.name!r} touch at {frequency_text(left.stop_hz)} with different gains"
        return DesignError(what, instead="leave a transition between them")
    rooms = rooms_between(left, right)
    wide = needed_transition(rooms[0], rooms[1], most) * rate
    stop = next((band for band in hardest if not band.is_passband), None)
    instead = f"a transition of {wide:.4g} Hz would do"
    if stop is not None:
        down = reachable_attenuation_db(max(rooms), most, width)
        if down > 0.5:
            instead += f", or {down:.0f} dB of attenuation in {stop.name!r} with this one"
    gap = f"{frequency_text(left.stop_hz)} and {frequency_text(right.start_hz)}"
    what = f"the transition between {gap} would take {count}, and {most} is the most"
    return DesignError(what, instead=instead)
