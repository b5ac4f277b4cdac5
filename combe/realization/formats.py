"""Number formats: how many bits, and where the binary point stands."""

from __future__ import annotations

import re

from msgspec import Struct

from combe.errors import FormatError

WIDEST = 64
WIDEST_ACCUMULATOR = 160
ROUNDINGS = ("nearest-even", "nearest-up", "floor", "toward-zero")
OVERFLOWS = ("saturate", "wrap")


class Format(Struct, frozen=True):
    """A raw integer k of ``bits`` bits stands for k·2^(−fraction)."""

    signed: bool
    bits: int
    fraction: int

    def __str__(self) -> str:
        return f"{'s' if self.signed else 'u'}{self.bits}f{self.fraction}"

    @property
    def least(self) -> int:
        """The smallest raw integer."""
        return -(1 << (self.bits - 1)) if self.signed else 0

    @property
    def most(self) -> int:
        """The largest raw integer."""
        return (1 << (self.bits - 1)) - 1 if self.signed else (1 << self.bits) - 1

    @property
    def step(self) -> float:
        """The value of one raw unit."""
        return float(2.0**-self.fraction)

    def holds(self, raw: int) -> bool:
        """Whether a raw integer fits."""
        return self.least <= raw <= self.most


def parse_format(text: object, where: str = "", widest: int = WIDEST) -> Format:
    """A format from its name, such as ``s16f15``.

    Raises
    ------
    FormatError
        Naming the place and what is expected.
    """
    match = re.fullmatch(r"([su])(\d{1,4})f(-?\d{1,4})", text) if isinstance(text, str) else None
    if match is None:
        raise FormatError(
            f"{text!r} is not a number format", where, "write one like s16f15: signed, 16 bits, 15 of them fraction"
        )
    found = Format(match[1] == "s", int(match[2]), int(match[3]))
    if not 1 <= found.bits <= widest or (found.signed and found.bits < 2):
        raise FormatError(f"{text} has a width out of reach", where, f"widths run from 2 to {widest} bits")
    if abs(found.fraction) > 400:
        raise FormatError(f"{text} has its binary point out of reach", where, "fraction bits run from -400 to 400")
    return found


def narrowest_signed(least: int, most: int) -> int:
    """Bits of the narrowest signed format that holds both integers."""
    return max(2, max(most.bit_length(), (~least).bit_length() if least < 0 else 0) + 1)
