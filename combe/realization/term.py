"""A coefficient on a delayed signal: the one thing every sum is made of."""

from __future__ import annotations

from typing import Generic, TypeVar

from msgspec import Struct

from combe.realization.formats import Format

Signal = TypeVar("Signal", str, int)
Number = TypeVar("Number", int, float)
ONE = Format(True, 2, 0)
"""The format of coefficients that only add or take away."""
INPUT = "input"
REST = ".rest"
TURNED = ".phase"


class Term(Struct, Generic[Signal, Number], frozen=True):
    """coefficient·signal[n − delay].

    In a network signals are names (``input``, or a node's) and the coefficient is an integer placed by ``format``. In the
    flat program signals are numbers and coefficients raw integers in steps of their sum; in its linear side coefficients
    are real, one unit of value for one unit of value. ``is_rest`` takes what the rounding of the signal's node cut off;
    ``is_turned`` stands for a coefficient that is the phase of the output that is computed; ``coefficient`` is 1 then.
    """

    signal: Signal
    delay: int
    coefficient: Number
    format: Format = ONE
    is_rest: bool = False
    is_turned: bool = False

    @property
    def value(self) -> float:
        """What the coefficient stands for."""
        return self.coefficient * self.format.step

    @property
    def key(self) -> str:
        """The signal by the name a file has for it."""
        return f"{self.signal}{REST if self.is_rest else TURNED if self.is_turned else ''}"
