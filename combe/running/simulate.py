"""The bit-true run: exactly what the generated code computes, sample by sample."""

from __future__ import annotations

import numpy as np

from combe.filters import Filter
from combe.realization.stages import Realization
from combe.running.flow import Array, BitTrueFlow, ExactFlow, Integers, check_samples
from combe.running.requantized import requantized

__all__ = ["check_samples", "ideal_run", "requantized", "simulate"]


def simulate(realization: Realization, samples: Integers) -> Integers:
    """Raw output integers for raw input integers, all state zero before the first.

    Parameters
    ----------
    samples
        One-dimensional; ``int64``, or Python integers for formats wider than 63 bits.

    Raises
    ------
    FormatError
        At the first sample outside the input format.
    """
    return BitTrueFlow(realization).take(samples)


def ideal_run(source: Filter, realization: Realization, samples: Integers) -> Array:
    """The unrounded filter on the same samples, in steps of the output format; a prototype where the rate changes."""
    signal = check_samples(samples, realization.input)
    scale = 2.0 ** (realization.output.fraction - realization.input.fraction)
    return ExactFlow(source, realization.ratio).take(signal.astype(np.float64)) * scale
