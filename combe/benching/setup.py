"""What stands on a project's bench: the signal as a sentence, and what it goes through."""

from __future__ import annotations

from msgspec import Struct

from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text

MODELS = ("ideal", "rounded", "bit-true")
TOOLS = ("code", "core", "circuit")
PINS = "pins"
"""All filters that are pinned and shown, each exact."""
LENGTH = 8192


class BenchSetup(Struct, frozen=True):
    """``signal`` "" is a tone in the first passband, one in the first stopband and a little noise; ``average`` 0 compares
    with no moving average; ``through`` may name ``PINS`` too."""

    signal: str = ""
    samples: int = LENGTH
    seed: int = 1
    through: tuple[str, ...] = ("ideal", "bit-true")
    average: int = 0
    asks: tuple[str, ...] = ()
    """Limits on figures of the bit-true run, as sentences."""


def signal_of(setup: BenchSetup, requirement: Requirement) -> str:
    """The sentence of the signal in force."""
    return setup.signal or usual_signal(requirement)


def usual_signal(requirement: Requirement) -> str:
    """A tone that is kept, one that is blocked, and a little noise."""
    parts = []
    for bands, level in ((requirement.passbands, -6), (requirement.stopbands, -12)):
        if bands:
            band = max(bands, key=lambda each: each.stop_hz - each.start_hz)
            hz = (band.start_hz + band.stop_hz) / 2
            parts.append(f"sine {frequency_text(float(f'{hz:.3g}'))} {level} dB")
    return " + ".join([*parts, "white -70 dB"])
