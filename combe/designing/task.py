"""What may be asked of a method: a requirement, an order, a cut-off, where spare room goes, and its own settings."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from msgspec import Struct

from combe.errors import DesignError
from combe.values import replace

if TYPE_CHECKING:
    from combe.designing.designed import Design
    from combe.filters import Filter
    from combe.requirement import Requirement

Stop = Callable[[], bool]
SPARE = ("shared", "stopband", "passband")
SHAPES = ("lowpass", "highpass", "bandpass", "bandstop")


ALLPASS_PLAN = "iir"
"""The plan that takes half-bands of two allpasses wherever it can."""
CHEAPEST_PLAN = "cheapest"
"""Any row of stages, whichever takes the fewest operations."""
POLYNOMIAL_PLAN = "farrow"
"""The cheapest plan whose stage at the highest rate has taps that follow polynomials."""


class DesignChoice(Struct, frozen=True):
    """How to design.

    ``order`` None takes the least that keeps every limit. ``cutoffs_hz`` are the edges to aim at instead of the
    limits: one for a lowpass or highpass, two for a bandpass or bandstop; ``shape`` says which where no requirement
    does. ``weights`` (one per band) trade by hand: a band weighs its limit times its weight. ``settings`` are a
    method's own parameters by name. ``given`` is the filter itself where coefficients are given by hand.
    ``plan`` says which stages change the rate, where it changes: one polyphase stage where it is empty, ``cheapest``, or
    factors such as ``2x2x2``. ``holds_with_bits`` asks for the least order that keeps the limits with coefficients of so many bits, too.
    """

    method: str = "equiripple"
    order: int | None = None
    symmetry: int = 1
    cutoffs_hz: tuple[float, ...] = ()
    shape: str = ""
    spare: str = "shared"
    weights: tuple[float, ...] = ()
    settings: tuple[tuple[str, float], ...] = ()
    given: Filter | None = None
    holds_with_bits: int | None = None
    plan: str = ""

    def setting(self, name: str) -> float | None:
        """One of the method's own parameters, None where it is left to the method."""
        return dict(self.settings).get(name)


class Setting(Struct, frozen=True):
    """A parameter of a method; ``default`` None means that the method works it out."""

    name: str
    unit: str
    summary: str
    least: float
    most: float
    default: float | None = None

    def checked(self, value: float | None) -> float | None:
        """The value, or the default; refused where it is out of range."""
        if value is None:
            return self.default
        if not self.least <= value <= self.most:
            unit = f" {self.unit}" if self.unit else ""
            raise DesignError(
                f"{value:g}{unit} is out of reach", self.name, f"it runs from {self.least:g} to {self.most:g}{unit}"
            )
        return value


class Task(Struct, frozen=True):
    """One call of a method: what is asked, and how it is to be worked out.

    ``near`` is a design of a requirement nearby: the search gets faster, its result is the same, or nearly so
    where a draft will do.
    """

    requirement: Requirement | None
    sample_rate_hz: float
    choice: DesignChoice
    is_stopped: Stop = lambda: False
    near: Design | None = None
    is_draft: bool = False

    @property
    def drafted_from(self) -> int | None:
        """How many taps did nearby, where a draft may begin from there."""
        from combe.filters import Fir

        near = self.near.filter if self.is_draft and self.near is not None else None
        return len(near.taps) if isinstance(near, Fir) else None

    @property
    def asked(self) -> Requirement:
        """The requirement, refused where there is none."""
        if self.requirement is None:
            raise DesignError(f"{self.choice.method} needs a requirement with limits", "requirement")
        return self.requirement

    @property
    def order(self) -> int:
        """The order, refused where there is none."""
        if self.choice.order is None:
            raise DesignError(f"{self.choice.method} needs an order here", "order", "give one, such as 8")
        return self.choice.order

    def with_order(self, order: int) -> Task:
        """The same at a given order."""
        return replace(self, choice=replace(self.choice, order=order))
