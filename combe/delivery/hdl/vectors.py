"""Test samples of a circuit: set pieces, noise, two tones, resets in between; as rows of binary digits."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.delivery.c.codes import codes_through
from combe.delivery.code_choices import CodeChoices, converter_from
from combe.delivery.hdl.build import Built
from combe.delivery.hdl.choices import HardwareChoices
from combe.realization.formats import Format
from combe.realization.stages import Realization
from combe.running.random_integers import random_integers
from combe.running.simulate import simulate
from combe.signals.stimuli import tone, vectors

Integers = NDArray[np.int64]
MOST_CLOCKS = {"verilog": 60_000, "vhdl": 40_000}
"""Clocks of both passes that take a simulator seconds."""
MOST_WORK, MULTIPLIER = {"verilog": 60_000_000, "vhdl": 3_500_000}, 100
"""Register bits times samples that do where every clock has many operations, a multiplier counting as so many bits."""
LEAST_SAMPLES, MOST_SAMPLES = 160, 2400
TONES = (0.3, 1.1)
"""Radians a sample of the two-tone signal."""


class Vectors(Struct, frozen=True, eq=False):
    """Raw samples, where a reset comes before one, and raw outputs."""

    samples: Integers
    resets: NDArray[np.bool_]
    outputs: Integers
    due: Integers | None = None
    """Where the rate changes: how many outputs there are once so many samples have gone in, from none to all."""

    def rows(self, in_bits: int, out_bits: int) -> tuple[str, str]:
        """Two texts of binary digits: a reset's flag and a sample; an output."""
        first = [f"{int(r)}{_digits(int(x), in_bits)}" for r, x in zip(self.resets, self.samples)]
        return "\n".join(first) + "\n", "\n".join(_digits(int(y), out_bits) for y in self.outputs) + "\n"


def hdl_vectors(
    realization: Realization, choices: HardwareChoices, built: Built, language: str, seed: int = 1
) -> Vectors:
    """As many as a simulator takes in seconds: fewer where a sample takes many clocks, or a clock many operations."""
    up, down = realization.ratio
    clocks, work = built.clocks, built.count.registers + MULTIPLIER * built.count.multipliers
    wanted = max(
        LEAST_SAMPLES,
        min(
            MOST_SAMPLES * max(1, min(down // up, 4)),
            MOST_CLOCKS[language] * min(down, 4) // (2 * clocks),
            MOST_WORK[language] // max(work * clocks, 1),
        ),
    )
    if choices.converter_in:
        entry = Format(False, converter_from(choices.converter_in, "converter_in").bits, 0)
        pieces = [
            _code_pieces(entry),
            random_integers(wanted // 2, entry, seed),
            random_integers(wanted // 2, entry, seed + 1),
        ]
        code = CodeChoices(converter_in=choices.converter_in, converter_out=choices.converter_out)
        answers = [codes_through(realization, code, piece) for piece in pieces]
    else:
        entry = realization.input
        pieces = [
            _cut(vectors(realization, wanted // 2, seed), wanted // 2), _two_tones(wanted // 6, entry),
            random_integers(wanted // 6, entry, seed + 1), random_integers(9, entry, seed + 2), random_integers(wanted // 6, entry, seed + 3),
        ]  # fmt: skip
        answers = [np.asarray(simulate(realization, piece), dtype=np.int64) for piece in pieces]
    resets = np.concatenate([_flags(len(piece)) for piece in pieces])
    due = due_outputs(realization, pieces) if realization.changes_rate else None
    return Vectors(np.concatenate(pieces), resets, np.concatenate(answers), due)


def due_outputs(realization: Realization, pieces: list[Integers]) -> Integers:
    """How many outputs are due after 0, 1, 2, … samples of pieces between which everything is forgotten."""
    found, before = [0], 0
    for piece in pieces:
        found += [before + realization.output_count(k + 1) for k in range(len(piece))]
        before += realization.output_count(len(piece))
    return np.array(found, dtype=np.int64)


def _cut(piece: Integers, most: int) -> Integers:
    """The start and the end of a long piece: every input is a fair one."""
    return piece if len(piece) <= most else np.concatenate([piece[: most // 2], piece[-(most // 2) :]])


def _flags(length: int) -> NDArray[np.bool_]:
    flags = np.zeros(length, dtype=bool)
    flags[:1] = True
    return flags


def _two_tones(count: int, entry: Format) -> Integers:
    first, second = (tone(count, entry, omega, 0.48) for omega in TONES)
    middle = int((entry.least + entry.most + 1) // 2)
    return np.asarray(np.clip(first + second - middle, entry.least, entry.most), dtype=np.int64)


def _code_pieces(entry: Format) -> Integers:
    ends = [entry.most, 0, 0, entry.most, entry.most // 2, entry.most // 2 + 1]
    return np.array(ends * 8, dtype=np.int64)


def _digits(value: int, bits: int) -> str:
    return f"{value & ((1 << bits) - 1):0{bits}b}"
