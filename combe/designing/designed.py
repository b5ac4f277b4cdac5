"""A finished design: the exact filter, what it was made for, and how."""

from __future__ import annotations

from dataclasses import dataclass, field

from combe.designing.rates.stages import RateStage
from combe.filters import Filter, Fir
from combe.requirement import Requirement


@dataclass(frozen=True, slots=True, repr=False)
class Design:
    """One filter and its story.

    ``notes`` are sentences for the user: what the search found, what the cap on transitions cost. ``alternation``
    holds the angular frequencies at which a minimax error alternates, ``capped`` which transitions were held
    down on the way and ``cap_level_db`` at what level; a search nearby may start from them. ``parts`` are filters in a row whose product ``filter``
    is, where running them so is cheaper; ``is_shortest`` says that no shorter filter of its kind can keep the limits,
    which is proved; ``singular_values`` the Hankel values a reduction chose by; ``holds_with_bits`` the width at which
    its rounded coefficients are known to keep every limit; ``levels`` are the bands that follow from levels and cut-offs
    alone, where those were given. ``stages`` change the rate, in signal order; ``filter`` is their prototype then, all of
    them as one at the highest rate, which is what ``sample_rate_hz`` tells.
    """

    method: str
    filter: Filter
    sample_rate_hz: float
    requirement: Requirement | None = None
    notes: tuple[str, ...] = ()
    seconds: float = field(default=0.0, compare=False)
    alternation: tuple[float, ...] = field(default=(), compare=False)
    parts: tuple[Fir, ...] = ()
    singular_values: tuple[float, ...] = field(default=(), compare=False)
    is_shortest: bool = False
    capped: tuple[int, ...] = field(default=(), compare=False)
    cap_level_db: float | None = field(default=None, compare=False)
    holds_with_bits: int | None = None
    levels: Requirement | None = field(default=None, compare=False)
    stages: tuple[RateStage, ...] = ()

    def __repr__(self) -> str:
        """In a line: method, size, rate and what for."""
        size = self.size_words
        asked = f", for {self.requirement.name!r}" if self.requirement is not None else ""
        return f"Design({self.method}, {size}, {self.sample_rate_hz:g} Hz{asked})"

    @property
    def kind(self) -> str:
        """``fir`` or ``iir``."""
        return "fir" if isinstance(self.filter, Fir) and not self.feeds_back else "iir"

    @property
    def feeds_back(self) -> bool:
        """Whether stages that change the rate do, of which the prototype is what is left of their impulse response."""
        return any(stage.kind == "allpass" for stage in self.stages)

    @property
    def order(self) -> int:
        """The filter's order; of stages that feed back the sum of theirs, each at its own rate."""
        if self.feeds_back:
            return sum(stage.own_order for stage in self.stages)
        return self.filter.order

    @property
    def input_rate_hz(self) -> float:
        """The input's sample rate."""
        up = 1
        for stage in self.stages:
            up *= stage.up
        return self.sample_rate_hz / up

    @property
    def _is_row(self) -> bool:
        """Whether its stages tell more than how many taps there are."""
        return len(self.stages) > 1 or any(stage.kind != "taps" for stage in self.stages)

    @property
    def size_words(self) -> str:
        """How large it is: taps, order, or the stages of a change of rate."""
        if self._is_row:
            return "x".join(stage.words for stage in self.stages)
        return f"{self.order + 1} taps" if self.kind == "fir" else f"order {self.order}"

    def summary(self) -> str:
        """Method and order in words."""
        if self._is_row:
            return f"{self.method}, stages {self.size_words}"
        return f"{self.method}, order {self.order}"
