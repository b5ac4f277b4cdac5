"""What a circuit on a board heard of itself: the first outputs of its self-test, kept on the chip and sent over the serial line, or
taken from a simulation of the whole top level; against the model's."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.delivery.hdl.board import board_named
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.selftest import CAPTURED, self_test
from combe.delivery.hdl.writer import hdl_package
from combe.errors import FormatError, ToolError
from combe.filters import Fir
from combe.proof.tools import find, run
from combe.realization.formats import Format
from combe.realization.stages import Realization
from combe.requirement.quantities import frequency_text

Integers = NDArray[np.int64]
SECONDS = 300
NAMED = 4
"""Places that are told where words differ."""


class Capture(Struct, frozen=True, eq=False):
    """Raw outputs heard and wanted, one by one; ``source`` says where the first come from. ``first`` is the step of the self-test's
    impulse that they answer, as a real value."""

    heard: Integers
    wanted: Integers
    output: Format
    first: float
    changes_rate: bool
    source: str

    @property
    def differing(self) -> list[int]:
        """Places of words that aren't the model's."""
        return [int(place) for place in np.flatnonzero(self.heard != self.wanted)]

    @property
    def holds(self) -> bool:
        """Whether every word is the model's."""
        return not self.differing

    def sentence(self) -> str:
        """The result in words."""
        if self.holds:
            return f"{self.source}: all {len(self.heard)} words are the model's"
        places = self.differing
        told = ", ".join(f"{self.heard[k]} instead of {self.wanted[k]} at {k}" for k in places[:NAMED])
        more = f" and {len(places) - NAMED} more" if len(places) > NAMED else ""
        return f"{self.source}: {len(places)} of {len(self.heard)} words differ: {told}{more}"

    def answer(self) -> Fir | None:
        """The captured impulse response as a filter, rounded as outputs are; None where the rate changes, or nothing was heard."""
        if self.changes_rate or not self.first or not np.any(self.heard):
            return None
        return Fir(tuple(float(value) for value in self.heard * self.output.step / self.first))

    def document(self) -> dict[str, Any]:
        """For a script."""
        return {
            "source": self.source, "holds": self.holds, "differing": self.differing, "output": str(self.output),
            "heard": self.heard.tolist(), "expected": self.wanted.tolist(), "sentence": self.sentence(),
        }  # fmt: skip


def capture_of(realization: Realization, heard: Integers, source: str) -> Capture:
    """Words that were heard, beside those of the model."""
    test = self_test(realization)
    wanted = test.outputs[: len(heard)]
    first = realization.input.most * realization.input.step
    return Capture(heard, wanted, realization.output, first, realization.changes_rate, source)


def capture_from(realization: Realization, data: bytes, source: str) -> Capture:
    """What came over the serial line: each word's highest byte first, as many as the self-test keeps.

    Raises
    ------
    FormatError
        If there are more bytes or fewer.
    """
    bits, count = realization.output.bits, min(CAPTURED, len(self_test(realization).outputs))
    width = -(-bits // 8)
    if len(data) != width * count:
        what = f"{source} has {len(data):,} bytes, and a board sends {count} words of {width}: {width * count:,}"
        raise FormatError(what, "--heard", "keep what comes from the moment its self-test has ended")
    words = [int.from_bytes(data[k : k + width], "big") & ((1 << bits) - 1) for k in range(0, len(data), width)]
    return capture_of(realization, _numbers(words, realization.output), source)


def simulated_capture(realization: Realization, choices: HardwareChoices) -> Capture:
    """The whole top level of a board, simulated until its self-test has ended. It is written in Verilog, whatever language the circuit is
    delivered in: both are of one circuit.

    Raises
    ------
    FormatError
        If the circuit can't be had, or no board is named.
    ToolError
        If the simulator is missing or fails.
    """
    if not choices.board:
        raise FormatError("no board is named", "--board", "name one that ships, or a board's file")
    board = board_named(choices.board)
    name = "capture"
    package = hdl_package(realization, "verilog", name, choices=choices)
    with tempfile.TemporaryDirectory(prefix="combe-capture-") as place:
        folder = Path(place)
        package.write(folder, is_lasting=False)
        sources = [f"{name}.v", f"{name}_top.v", f"{name}_top_tb.v"]
        run([find("iverilog"), "-g2001", "-o", "board", *sources], folder, seconds=SECONDS)
        said = run([find("vvp"), "-n", "board", "+capture=heard.txt"], folder, seconds=SECONDS).decode(
            "utf-8", "replace"
        )
        words = (folder / "heard.txt").read_text(encoding="utf-8").split()
    unknown = next((place for place, word in enumerate(words) if set(word) - {"0", "1"}), None)
    if unknown is not None:
        raise ToolError(f"word {unknown} of the capture was never written", "proof")
    clocks = re.search(r"after (\d+) clocks", said)
    took = f", {int(clocks[1]):,} clocks at {frequency_text(board.clock_hz)}" if clocks else ", its self-test failed"
    heard = _numbers([int(word, 2) for word in words], realization.output)
    return capture_of(realization, heard, f"{board.name} simulated{took}")


def _numbers(words: list[int], entry: Format) -> Integers:
    """Bit patterns as the numbers they stand for."""
    top = 1 << (entry.bits - 1)
    return np.array([word - 2 * top if entry.signed and word & top else word for word in words], dtype=np.int64)
