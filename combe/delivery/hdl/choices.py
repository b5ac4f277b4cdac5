"""What an engineer chooses about a circuit."""

from __future__ import annotations

from msgspec import Struct

from combe.errors import FormatError
from combe.requirement.quantities import frequency_text

ARCHITECTURES = ("parallel", "transposed", "folded", "serial", "semi-parallel", "multiplierless")
HARDWARE_KEYS = (
    "architecture", "clock_hz", "multipliers", "pipeline", "double_buffer", "axi_stream", "board", "described"
)  # fmt: skip
"""Choices of a circuit's own, as a project has them; it shares others with code for processors."""
USUAL_CLOCK_HZ = 48e6
"""The clock an architecture is suited to where none is given."""


class HardwareChoices(Struct, frozen=True):
    """``architecture`` empty takes the one that suits the realization and its rates. ``clock_hz`` 0 means not given.

    ``multipliers`` belong to ``semi-parallel`` (0: as few as clock and sample rate allow). ``pipeline`` is how many adders in a
    row stand between two registers (0: none in between). ``reloadable`` adds a port that writes coefficients, into a second bank
    with ``double_buffer``, to change places with the first between two samples. ``axi_stream``
    adds a wrapper with AXI4-Stream ports. ``board`` adds a top level with a self-test for a board that ships with Combe, or that
    a file describes. ``described`` adds descriptions of the core for other build systems (CAPI2) and tools (IP-XACT).
    """

    architecture: str = ""
    clock_hz: float = 0.0
    multipliers: int = 0
    pipeline: int = 1
    reloadable: bool = False
    double_buffer: bool = False
    axi_stream: bool = False
    converter_in: str = ""
    converter_out: str = ""
    board: str = ""
    described: bool = False


def check_hardware_choices(choices: HardwareChoices) -> None:
    """Raise ``FormatError`` at the first choice that isn't known."""
    if choices.architecture not in ("", *ARCHITECTURES):
        known = ", ".join(ARCHITECTURES)
        raise FormatError(f'"{choices.architecture}" is not an architecture', "architecture", f"known are {known}")
    if not 0 <= choices.pipeline <= 16:
        raise FormatError(f"{choices.pipeline} adders between registers", "pipeline", "0 (no registers) to 16")
    if not 0 <= choices.multipliers <= 4096:
        raise FormatError(f"{choices.multipliers} multipliers", "multipliers", "1 to 4096, or 0 by itself")
    if choices.clock_hz and not 1e-9 <= choices.clock_hz <= 1e12:
        raise FormatError(f"a clock of {frequency_text(choices.clock_hz)} is out of reach", "clock", "up to 1 THz")
    if bool(choices.converter_in) != bool(choices.converter_out):
        missing = "converter_out" if choices.converter_in else "converter_in"
        raise FormatError("a converter is needed on both sides", missing, "give both, such as 12@2048")
