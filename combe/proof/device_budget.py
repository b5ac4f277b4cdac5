"""All circuits of a project on one device together: what each takes, each at its own rate, and what is left."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any

from msgspec import Struct

from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import USUAL_CLOCK_HZ, HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.errors import CombeError, FormatError
from combe.proof.synthesis import Synthesized, synthesized
from combe.realization.stages import Realization
from combe.values import replace

PARTS = ("luts", "registers", "multipliers", "memories")
CAPACITY = {
    "ice40-up5k": {"luts": 5280, "registers": 5280, "multipliers": 8, "memories": 30},
    "ice40-hx8k": {"luts": 7680, "registers": 7680, "multipliers": 0, "memories": 32},
    "ecp5": {"luts": 24_288, "registers": 24_288, "multipliers": 28, "memories": 56},
}
"""What the makers' data sheets give: of the ECP5 family the smallest member, LFE5U-25."""


class Circuit(Struct, frozen=True):
    """A filter to be built: its name, what it computes, and the choices about its circuit."""

    name: str
    realization: Realization
    choices: HardwareChoices


class CircuitShare(Struct, frozen=True):
    """What one filter's circuit takes; ``failure`` why it can't be had, or doesn't keep up with its samples."""

    name: str
    sample_rate_hz: float
    architecture: str = ""
    clocks: int = 0
    needed_hz: float = 0.0
    """The slowest clock that keeps up with the samples."""
    cells: Synthesized | None = None
    failure: str = ""

    def document(self) -> dict[str, Any]:
        """As ``--json`` prints it."""
        return {
            "name": self.name, "sample_rate_hz": self.sample_rate_hz, "architecture": self.architecture,
            "clocks_per_sample": self.clocks, "needed_clock_hz": self.needed_hz,
            "cells": self.cells.document() if self.cells is not None else None, "failure": self.failure,
        }  # fmt: skip


def check_device(device: str) -> None:
    """Raise ``FormatError`` where what the device holds isn't known."""
    if device not in CAPACITY:
        raise FormatError(f'what "{device}" holds is not known', "--device", f"known are {', '.join(CAPACITY)}")


def shared_device(
    circuits: Iterable[Circuit], device: str, clock_hz: float = 0.0, report: Callable[[str], None] = lambda _: None
) -> Iterator[CircuitShare]:
    """Each circuit synthesized for a device, as it is done.

    Raises
    ------
    FormatError
        If what the device holds isn't known.
    """
    check_device(device)
    for circuit in circuits:
        made, clock = circuit.realization, clock_hz or circuit.choices.clock_hz or USUAL_CLOCK_HZ
        own = replace(circuit.choices, clock_hz=clock, board="", axi_stream=False, described=False)
        try:
            built = build_circuit(made, circuit.name, own)
            package = hdl_package(made, "verilog", circuit.name, choices=own)
        except CombeError as error:
            yield CircuitShare(circuit.name, made.sample_rate_hz, failure=error.sentence())
            continue
        needed = made.sample_rate_hz * built.clocks
        cells = synthesized(package, device, report)
        failure = cells.failure
        fastest = min(clock, cells.clock_hz) if cells.clock_hz else clock
        if not failure and needed > fastest:
            failure = f"needs {needed / 1e6:.4g} MHz for its samples, and runs at {fastest / 1e6:.4g} MHz"
        yield CircuitShare(circuit.name, made.sample_rate_hz, built.architecture, built.clocks, needed, cells, failure)


def taken(shares: Iterable[CircuitShare]) -> dict[str, int]:
    """Cells of all circuits by kind."""
    cells = [share.cells for share in shares if share.cells is not None]
    return {part: sum(getattr(each, part) for each in cells) for part in PARTS}


def fits(shares: Iterable[CircuitShare], device: str) -> bool:
    """Whether all of them are there, keep up with their samples and find room."""
    every = list(shares)
    total = taken(every)
    return not any(share.failure for share in every) and all(total[p] <= CAPACITY[device][p] for p in PARTS)
