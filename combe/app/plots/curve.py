"""A filter as it is drawn."""

from __future__ import annotations

from msgspec import Struct

from combe.filters import Filter, Fir

NOTHING = Fir((1.0,))
"""For a name in a legend that is no filter."""


class Curve(Struct, frozen=True):
    """A filter to be drawn."""

    name: str
    filter: Filter
    role: str
    width: float = 1.8
    dashed: bool = False
    is_pin: bool = False
    is_smooth: bool = True
