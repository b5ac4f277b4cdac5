"""A linear program run in double precision, compiled."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.analysis.linear import LinearProgram
from combe.jit import compiled


def run_linear(program: LinearProgram, signal: NDArray[np.float64]) -> NDArray[np.float64]:
    """A whole signal through a linear program in double precision, nothing rounded on purpose."""
    links = [(link.signal, link.delay, link.coefficient) for step in program.steps for link in step if not link.is_rest]
    start = np.cumsum([0] + [sum(not link.is_rest for link in step) for step in program.steps]).astype(np.int64)
    terms = np.array([(signal_, delay) for signal_, delay, _ in links], dtype=np.int64).reshape(-1, 2)
    gains = np.array([gain for _, _, gain in links], dtype=np.float64)
    size = 1 << max((delay for _, delay, _ in links), default=0).bit_length()
    found: NDArray[np.float64] = _loop(signal, start, terms, gains, program.output, size)
    return found


@compiled()
def _loop(
    signal: Any, start: Any, terms: Any, gains: Any, output: int, size: int
) -> Any:  # pragma: no cover - compiled
    count = len(start) - 1
    history = np.zeros((count + 1, size), dtype=np.float64)
    mask = size - 1
    found = np.empty(len(signal), dtype=np.float64)
    for n in range(len(signal)):
        history[0, n & mask] = signal[n]
        for k in range(count):
            total = 0.0
            for t in range(start[k], start[k + 1]):
                total += gains[t] * history[terms[t, 0], (n - terms[t, 1]) & mask]
            history[k + 1, n & mask] = total
        found[n] = history[output, n & mask]
    return found
