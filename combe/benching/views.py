"""What a signal looks like besides its samples and its spectrum: power over time and frequency, and how often each value
comes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.signals.figures import density
from combe.signals.lines import lines

if TYPE_CHECKING:
    from combe.benching.nodes import NodeUse
    from combe.benching.run import Bench

Array = NDArray[np.float64]
Trace = tuple[str, Array, float, float]
"""Name, values, their full scale, and their rate."""
FLOOR_DB = -220.0
LINES = {"lines": "hann", "lines, flat top": "flat top", "lines, four terms": "four terms"}
"""Windows by the words of the choice."""
DENSITIES = {"density": 0, "density, 256 lines": 512, "density, 8192 lines": 16_384}
"""Lengths of the stretches that are averaged; 0 leaves it to the signal's length."""
MOST_COLUMNS, MOST_BINS = 480, 256
SHORTEST, LONGEST = 16, 2048


class Spectrogram(Struct, frozen=True, eq=False):
    """Levels in dB, a sine of peak 1 being 0: rows are frequencies from 0 to half the rate, columns stretches of the signal
    about the times in samples."""

    levels: Array
    times: Array
    size: int

    def shades(self, range_db: float) -> NDArray[np.uint8]:
        """Steps from 0, so far below the highest level or further, to 255, the highest: of each time all frequencies."""
        top = float(np.max(self.levels, initial=-range_db))
        steps = np.clip((self.levels.T - (top - range_db)) * (255 / range_db), 0, 255)
        return np.ascontiguousarray(np.rint(steps).astype(np.uint8))


def spectrogram(values: Array, size: int | None = None) -> Spectrogram:
    """Stretches of ``size`` samples through a Hann window, each overlapping the next by three quarters or more, fewer where
    the signal is long.

    Without a size the stretch is as long in time as it is fine in frequency, seen over the whole signal.
    """
    count = len(values)
    if size is None:
        size = 1 << int(np.clip(np.round(np.log2(max(2 * np.sqrt(count), 1))), 4, 11))
    size = int(np.clip(size, SHORTEST, LONGEST))
    padded = np.concatenate([values, np.zeros(max(size - count, 0))])
    step = max(size // 8, -(-(len(padded) - size) // (MOST_COLUMNS - 1)), 1)
    starts = np.arange(0, len(padded) - size + 1, step)
    window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(size) / size)
    pieces = padded[starts[:, None] + np.arange(size)[None, :]] * window
    size_of_lines = np.abs(np.fft.rfft(pieces, axis=1)).T * 2 / np.sum(window)
    levels = 20 * np.log10(np.maximum(size_of_lines, 10 ** (FLOOR_DB / 20)))
    return Spectrogram(np.asarray(levels, dtype=np.float64), np.asarray(starts + size / 2, dtype=np.float64), size)


class Histogram(Struct, frozen=True, eq=False):
    """How many samples lie in each bin; ``edges`` has one more."""

    edges: Array
    counts: NDArray[np.int64]


def histogram(values: Array, full: float, step: float) -> Histogram:
    """Samples in bins from minus to plus full scale, each as many steps of the format wide as makes at most 256 bins: no
    bin has more steps than another, or a comb would show that isn't there."""
    steps = max(round(2 * full / step), 1)
    wide = max(1 << max(int(np.ceil(np.log2(steps / MOST_BINS))), 0), 1)
    least = int(np.floor(min(float(np.min(values, initial=0.0)), -full) / step / wide)) * wide
    most = int(np.floor(max(float(np.max(values, initial=0.0)), full - step) / step / wide) + 1) * wide
    edges = (np.arange(least, most + 1, wide) - 0.5) * step
    counts, _ = np.histogram(values, edges)
    return Histogram(np.asarray(edges, dtype=np.float64), counts.astype(np.int64))


def spectra(
    everything: Sequence[Trace], kind: str, known: Mapping[str, tuple[Array, Array] | None]
) -> dict[str, tuple[Array, Array]]:
    """Frequencies and levels of each signal (its name, values, full scale and rate): lines through a window, or power per Hz
    against that of a sine of full scale; ``known`` densities are those of long signals, of which only a part is kept."""
    found = {}
    for name, values, full, rate in everything:
        if kind in DENSITIES:
            whole = known.get(name) if not DENSITIES[kind] else None
            hz, power = whole if whole is not None else density(values, rate, DENSITIES[kind])
            power = power / full**2
            found[name] = hz, 10 * np.log10(np.maximum(2 * power, 10 ** (FLOOR_DB / 10)))
        else:
            found[name] = lines(values / full, rate, LINES.get(kind, "hann"))
    return found


def signals_of(bench: Bench) -> list[Trace]:
    """Input and outputs."""
    given, rate = bench.input, bench.sample_rate_hz
    through = [(h.name, h.values, h.full, h.sample_rate_hz or rate) for h in bench.through]
    return [("input", given.values, given.full, rate), *through]


def spectra_of(bench: Bench, kind: str) -> dict[str, tuple[Array, Array]]:
    """Of input and outputs, as :func:`spectra` tells them."""
    known = {"input": bench.input.spectrum} | {heard.name: heard.spectrum for heard in bench.through}
    return spectra(signals_of(bench), kind, known)


def histograms_of(bench: Bench) -> dict[str, tuple[Histogram, float]]:
    """Of input and outputs, each with its full scale."""
    steps = {"input": bench.input.step}
    return {
        name: (histogram(values, full, steps.get(name, bench.step)), full)
        for name, values, full, _ in signals_of(bench)
    }  # fmt: skip


def reach_of(node: NodeUse) -> float:
    """Full scale of a node in its own steps."""
    return float(max(-node.lowest, node.highest + 1))


def histogram_inside(bench: Bench, node: NodeUse) -> Histogram:
    """Of a node, in its own steps."""
    return histogram(bench.node(node.name).astype(np.float64), reach_of(node), 1.0)
