"""What an engineer chooses about the arithmetic."""

from __future__ import annotations

from msgspec import Struct

from combe.values import replace

FEWEST_BITS, MOST_BITS = 2, 48


class Choices(Struct, frozen=True):
    """What an engineer chooses about the arithmetic; formats by their names.

    ``structure`` "" takes folded where the taps allow it, ``output`` "" the input's format, ``accumulator_bits``
    None the fewest that no input can overflow, ``state_bits`` (what sections hand on and feed back) None eight more
    than the wider of input and output. ``better`` searches for integers that keep more of the margin than rounding
    each tap to its nearest.

    ``coefficient_fraction`` fixes the binary point of all coefficients (None: the finest that fits, for each group of
    its own). ``product_bits`` rounds every product of a FIR to that many bits before it is added. ``guard_bits`` widen
    accumulators beyond what any input needs. ``scaling`` says what values of sections get room for: ``l1`` any input,
    ``l2`` signals of the input's energy, ``peak`` sines. ``ordering`` ``search`` looks for the pairing and order of
    sections with the least noise. ``branches`` belong to ``polyphase``. ``pruned``: registers of sums in a row leave out
    low bits, as long as the noise of that stays below what the rounding after them makes anyway.
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
    coefficient_fraction: int | None = None
    product_bits: int | None = None
    guard_bits: int = 0
    scaling: str = "l1"
    ordering: str = "given"
    error_feedback: bool = False
    branches: int = 2
    pruned: bool = False


def uncounted(choices: Choices) -> Choices:
    """The choices a chart of widths depends on."""
    return replace(choices, structure="", coefficient_bits=16, state_bits=None, better=False, product_bits=None)
