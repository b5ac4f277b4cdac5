"""All architectures of one realization side by side: what each takes, how fast it is, whether it keeps a device's limits."""

from __future__ import annotations

from msgspec import Struct

from combe.delivery.hdl.build import Built, build_circuit
from combe.delivery.hdl.choices import ARCHITECTURES, USUAL_CLOCK_HZ, HardwareChoices
from combe.errors import CombeError
from combe.realization.stages import Realization
from combe.requirement import Requirement
from combe.values import replace


class Compared(Struct, frozen=True):
    """An architecture with its figures, or the sentence why it can't be had. ``rate_hz`` is the highest sample rate."""

    architecture: str
    built: Built | None
    rate_hz: float = 0.0
    sentence: str = ""

    @property
    def is_possible(self) -> bool:
        """Whether it can be had at the clock."""
        return self.built is not None


def compared(
    realization: Realization, choices: HardwareChoices, requirement: Requirement | None = None
) -> list[Compared]:
    """Every architecture at the clock in hand, judged by the sample rate and by the multipliers a brief allows."""
    clock = choices.clock_hz or (requirement.clock_hz if requirement and requirement.clock_hz else USUAL_CLOCK_HZ)
    found = []
    for architecture in ARCHITECTURES:
        own = replace(choices, architecture=architecture, clock_hz=clock)
        if architecture != "semi-parallel":
            own = replace(own, multipliers=0)
        try:
            built = build_circuit(realization, "filter_compared", own)
        except CombeError as error:
            found.append(Compared(architecture, None, sentence=error.sentence().removeprefix("architecture: ")))
            continue
        most = requirement.max_multipliers if requirement else None
        sentence = ""
        if most is not None and built.count.multipliers > most:
            sentence = f"takes {built.count.multipliers} multipliers, {most} are allowed"
        found.append(Compared(architecture, built, clock / built.clocks, sentence))
    return found
