"""Raw integer test signals: repeatable everywhere, drawn to the edges of a format."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from combe.analysis.exact import exact_filter
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, TapSum
from combe.responses import impulse_response
from combe.running.random_integers import random_integers

Integers = NDArray[np.int64]
LONGEST_WORST = 2048


def tone(count: int, entry: Format, omega: float, level: float = 0.97) -> Integers:
    """A sine at ``omega`` radians per sample, at ``level`` of full scale, rounded to the format."""
    middle, reach = (entry.least + entry.most) / 2, (entry.most - entry.least) / 2
    wave = np.floor(middle + level * reach * np.cos(omega * np.arange(count) + 0.7) + 0.5)
    return np.asarray(np.clip(wave, entry.least, entry.most), dtype=np.int64)


def worst_case(realization: Realization) -> Integers:
    """The input that drives the first sum to its largest, then to its smallest value."""
    stage = realization.stages[0]
    if isinstance(stage, (Section, Network)):
        return _worst_of_sections(realization)
    if not isinstance(stage, TapSum):
        return np.zeros(0, dtype=np.int64)
    # Where zeros are stuffed in, an output meets one phase: the one with the largest sum.
    own = max(
        (stage.coefficients[phase :: stage.up] for phase in range(stage.up)), key=lambda row: sum(abs(c) for c in row)
    )
    backward = np.array([1 if c > 0 else -1 for c in own[::-1]])
    low, high = realization.input.least, realization.input.most
    return np.concatenate([np.where(backward > 0, high, low), np.where(backward > 0, low, high)]).astype(np.int64)


def _worst_of_sections(realization: Realization) -> Integers:
    """The signs of the impulse response backward, at full scale: what drives the output furthest, both ways."""
    source = exact_filter(realization)
    answer = impulse_response(source, LONGEST_WORST)
    backward = answer[::-1] > 0
    low, high = realization.input.least, realization.input.most
    return np.concatenate([np.where(backward, high, low), np.where(backward, low, high)]).astype(np.int64)


def vectors(realization: Realization, count: int, seed: int = 1) -> Integers:
    """Test vectors: impulse, full-scale steps, alternation, corners, the worst case, then random samples.

    At least ``count`` samples; more if the filter is so long that its set pieces need them.
    """
    entry = realization.input
    if entry.bits > 62:
        raise ValueError("inputs wider than 62 bits have no vectors")
    length = 2 + sum(
        len(s.coefficients) if isinstance(s, TapSum) else 0 if isinstance(s, Requantize) else 24
        for s in realization.stages
    )
    low, high = entry.least, entry.most
    quiet = np.zeros(length, dtype=np.int64)
    impulse = quiet.copy()
    impulse[0] = high
    alternating = np.where(np.arange(length) % 2, low, high)
    corners = np.array([low, high, low, low, high, high, 0, min(1, high), max(-1, low)], dtype=np.int64)
    pieces = [
        impulse, quiet, np.full(length, high), np.full(length, low), alternating, quiet,
        worst_case(realization), corners,
    ]  # fmt: skip
    fixed = np.concatenate(pieces).astype(np.int64)
    rest = max(256, count - len(fixed))
    return np.concatenate([fixed, random_integers(rest, entry, seed)])
