"""A self-test that a circuit carries along: signals made on the chip go through it, what comes out is kept and folded into a
signature that the model knows beforehand."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.delivery.hdl.board import Board
from combe.delivery.hdl.build import Built
from combe.realization.formats import Format
from combe.realization.stages import Realization
from combe.running.simulate import simulate
from combe.signals.stimuli import tone

Integers = NDArray[np.int64]
STRETCH = 512
"""Samples of each of the three signals."""
CAPTURED = 256
SEED, TAPS = 0xACE1_2468, (31, 21, 1, 0)
TONES = (0.21, 1.3)
PATIENCE = 1 << 24


class SelfTest(Struct, frozen=True, eq=False):
    """What the chip plays, what comes out by the model, and the signature of it."""

    samples: Integers
    tones: Integers
    outputs: Integers
    signature: int


def self_test(realization: Realization) -> SelfTest:
    """An impulse, two tones and noise, one after another."""
    entry = realization.input
    impulse = np.zeros(STRETCH, dtype=np.int64)
    impulse[0] = entry.most
    tones = _two_tones(entry)
    samples = np.concatenate([impulse, tones, noise(STRETCH, entry)])
    outputs = np.asarray(simulate(realization, samples), dtype=np.int64)
    return SelfTest(samples, tones, outputs, signature(outputs, realization.output.bits))


def _two_tones(entry: Format) -> Integers:
    first, second = (tone(STRETCH, entry, omega, 0.48) for omega in TONES)
    middle = int((entry.least + entry.most + 1) // 2)
    return np.asarray(np.clip(first + second - middle, entry.least, entry.most), dtype=np.int64)


def noise(count: int, entry: Format) -> Integers:
    """The low bits of a shift register of 32 that feeds back four of its own (twice over for wider words)."""
    state, found = SEED, []
    for _ in range(count):
        word = (state | state << 32) & ((1 << entry.bits) - 1)
        found.append(word - (1 << entry.bits) if entry.signed and word >> (entry.bits - 1) else word)
        bit = 0
        for place in TAPS:
            bit ^= state >> place
        state = (state << 1 | bit & 1) & 0xFFFF_FFFF
    return np.array(found, dtype=np.int64)


def signature(outputs: Integers, bits: int) -> int:
    """All outputs folded into 32 bits: turned by one, the output's words added without carry."""
    folded = 0
    for value in outputs.tolist():
        word = value & ((1 << bits) - 1)
        folded = (folded << 1 | folded >> 31) & 0xFFFF_FFFF
        while True:
            folded ^= word & 0xFFFF_FFFF
            word >>= 32
            if not word:
                break
    return folded


def board_values(realization: Realization, built: Built, board: Board) -> dict[str, Any]:
    """What the templates of the top level print."""
    test = self_test(realization)
    in_bits, out_bits = built.input_bits, built.output_bits
    count, outputs = len(test.samples), len(test.outputs)
    captured = min(CAPTURED, outputs)
    return {
        "board": board, "in_bits": in_bits, "out_bits": out_bits, "count": count, "stretch": STRETCH, "outputs": outputs,
        "captured": captured, "signature": test.signature, "divider": board.divider, "seed": SEED, "taps": TAPS,
        "impulse": int(test.samples[0]) & ((1 << in_bits) - 1),
        "tones": [f"{int(value) & ((1 << in_bits) - 1):0{in_bits}b}" for value in test.tones],
        "out_bytes": -(-out_bits // 8), "sent_bits": count.bit_length(), "heard_bits": outputs.bit_length(),
        "place_bits": max((captured - 1).bit_length(), 1), "divider_bits": board.divider.bit_length(),
        "noise_words": -(-in_bits // 32), "fold_words": -(-out_bits // 32), "patience": PATIENCE,
    }  # fmt: skip
