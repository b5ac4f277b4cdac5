"""Boards a circuit is put on: an open description of device, clock and pins, in a file or shipped with Combe."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct

from combe.checking import Fields
from combe.errors import CombeError, FormatError
from combe.files import read_json
from combe.schema import read

PINS = ("clk", "passed", "failed", "tx")
SLOWEST, FASTEST = 1e4, 1e9
DEVICES = {
    "ice40-up5k": {"synth": "synth_ice40 -dsp", "place": "--up5k", "cells": "ice40"},
    "ice40-hx8k": {"synth": "synth_ice40", "place": "--hx8k", "cells": "ice40"},
    "ice40-hx1k": {"synth": "synth_ice40", "place": "--hx1k", "cells": "ice40"},
    "ice40-lp8k": {"synth": "synth_ice40", "place": "--lp8k", "cells": "ice40"},
}  # fmt: skip
"""What the open tools of each device are told."""

Text = Annotated[str, Meta(min_length=1, max_length=64, description="a text")]
Pin = Annotated[str, Meta(pattern=r"^[A-Za-z0-9_]{1,16}$", description="a pin such as 35 or A4")]


class PinsShape(Struct, forbid_unknown_fields=True):
    """Where each port of the top level goes; ``reset`` is a button that pulls to ground."""

    clk: Pin
    passed: Pin
    failed: Pin
    tx: Pin
    reset: Pin | None = None


class Board(Struct, frozen=True):
    """A device in a package with its clock, and the pins of the self-test."""

    name: str
    device: str
    package: str
    clock_hz: float
    baud: int
    pins: tuple[tuple[str, str], ...]

    @property
    def has_reset(self) -> bool:
        """Whether there is a button."""
        return any(name == "reset" for name, _ in self.pins)

    @property
    def divider(self) -> int:
        """Clocks a bit of the serial line."""
        return max(2, round(self.clock_hz / self.baud))

    @property
    def tools(self) -> dict[str, str]:
        """What the device's tools are told."""
        return DEVICES[self.device]


class BoardShape(Struct, forbid_unknown_fields=True):
    """The file."""

    device: Annotated[
        Literal["ice40-up5k", "ice40-hx8k", "ice40-hx1k", "ice40-lp8k"],
        Meta(description=f"one of {', '.join(DEVICES)}"),
    ]
    package: Annotated[str, Meta(pattern=r"^[a-z0-9]{2,16}$", description="a package such as sg48")]
    clock_hz: Annotated[float, Meta(ge=SLOWEST, le=FASTEST, description="10 kHz to 1 GHz")]
    pins: PinsShape
    format: Any = None
    version: Any = None
    name: Text = "board"
    note: str = ""
    baud: Annotated[int, Meta(ge=300, le=4_000_000, description="a whole number from 300 to 4000000")] = 115_200


def board_from(document: Any) -> Board:
    """The board in a JSON document.

    Raises
    ------
    CombeError
        Naming the key and what was expected.
    """
    Fields(document, "").header("combe-board", 1)
    found = read(document, BoardShape)
    pins = [(name, str(getattr(found.pins, name))) for name in PINS]
    if found.pins.reset is not None:
        pins.append(("reset", found.pins.reset))
    used = [pin for _, pin in pins]
    twice = next((pin for pin in used if used.count(pin) > 1), None)
    if twice is not None:
        raise FormatError(f"pin {twice} is used twice", "pins", "give every port a pin of its own")
    if found.clock_hz / found.baud < 4:
        raise FormatError(
            f"{found.baud} baud are too fast for the clock", "baud", "take a quarter of the clock at most"
        )
    return Board(found.name, found.device, found.package, found.clock_hz, found.baud, tuple(pins))


def shipped() -> list[str]:
    """The boards that ship with Combe, by name."""
    return sorted(
        entry.name.removesuffix(".json")
        for entry in files("combe.delivery.hdl").joinpath("boards").iterdir()
        if entry.name.endswith(".json")
    )


def board_named(text: str) -> Board:
    """A board that ships with Combe, or one in a file.

    Raises
    ------
    CombeError
        If it's neither, or the file is none.
    """
    path: Path = Path(text)
    if text in shipped():
        path = Path(str(files("combe.delivery.hdl").joinpath("boards", f"{text}.json")))
    elif not path.exists():
        known = ", ".join(shipped())
        raise FormatError(f'"{text}" is no board and no file', "board", f"a board's file, or one of {known}")
    try:
        return board_from(read_json(path))
    except CombeError as error:
        raise (error if error.where.startswith(str(path)) else error.at(str(path))) from None
