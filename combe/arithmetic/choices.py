"""What an engineer chooses about the arithmetic."""

from __future__ import annotations

from dataclasses import dataclass

FEWEST_BITS, MOST_BITS = 2, 48


@dataclass(frozen=True, slots=True)
class Choices:
    """What an engineer chooses about the arithmetic; formats by their names.

    ``structure`` "" takes folded where the taps allow it, ``output`` "" the input's format, ``accumulator_bits``
    None the fewest that no input can overflow, ``state_bits`` (what sections hand on and feed back) None eight more
    than the wider of input and output. ``better`` searches for integers that keep more of the margin than rounding
    each tap to its nearest.
    """

    coefficient_bits: int = 16
    structure: str = ""
    input: str = "s16f15"
    output: str = ""
    accumulator_bits: int | None = None
    rounding: str = "nearest-even"
    overflow: str = "saturate"
    state_bits: int | None = None
    better: bool = False
