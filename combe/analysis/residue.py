"""What is left at the output of a whole program after its input has ended: limit cycles as a user sees them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from combe.analysis.limit_cycles import LimitCycles
from combe.analysis.transfer import stage_transfer
from combe.realization.network import Network
from combe.realization.stages import CHANGING, Realization
from combe.running.simulate import simulate
from combe.values import replace

BURSTS, BURST = 24, 160
LEAST_QUIET, MOST_QUIET = 400, 20_000
DIED_AWAY = 1e-9
"""Silence is long enough once a decaying answer is this small a share of its start."""


def residue(realization: Realization, cycles: dict[int, LimitCycles]) -> int:
    """The largest output, in its own steps, that was seen to stay for good without input.

    Seen in two ways: random signals of many levels that end, and the loudest ``cycles`` of each stage (by its index)
    handed to the stages after it. More may be possible where several stages swing at once.
    """
    quiet = _silence(realization)
    source = np.random.default_rng(5)
    parts: list[NDArray[np.int64]] = []
    for burst in range(BURSTS):
        level = 2.0 ** -(burst % 8)
        low, high = realization.input.least * level, realization.input.most * level
        parts.append(np.round(source.uniform(low, high, BURST)).astype(np.int64))
        parts.append(np.zeros(quiet, dtype=np.int64))
    heard = np.asarray(simulate(realization, np.concatenate(parts)))
    most = 0
    for end in range(BURST + quiet, BURSTS * (BURST + quiet) + 1, BURST + quiet):
        last = heard[realization.output_count(end - quiet // 4) : realization.output_count(end)]
        most = max(most, int(np.max(np.abs(last), initial=0)))
    for index, found in cycles.items():
        stage = realization.stages[index]
        # Going up, one phase of what it gives isn't what the next stage takes.
        if not (isinstance(stage, Network) and stage.up > 1):
            most = max(most, _handed_on(realization, index, found, quiet))
    return most


def _handed_on(realization: Realization, index: int, found: LimitCycles, quiet: int) -> int:
    """What the stages after one make of its cycle, once they have settled."""
    times = -(-2 * quiet // len(found.cycle))
    signal = np.tile(np.array(found.cycle, dtype=np.int64), times)
    rest = realization.stages[index + 1 :]
    if not rest:
        return int(np.max(np.abs(signal)))
    after = replace(realization, stages=rest, input=realization.stages[index].result)
    heard = np.asarray(simulate(after, signal))
    return int(np.max(np.abs(heard[-max(quiet // 2, len(found.cycle)) :])))


def _silence(realization: Realization) -> int:
    """Samples of the input after which what follows the slowest pole has died away."""
    radius, rate = 0.0, 1.0
    for stage, source in zip(realization.stages, realization.formats()):
        if isinstance(stage, CHANGING):
            rate *= stage.up
        if stage.is_recursive:
            for row in stage_transfer(stage, source).denominators:
                roots = np.roots([float(value) for value in row])
                radius = max(radius, float(np.max(np.abs(roots), initial=0.0)) ** rate)
        if isinstance(stage, CHANGING):
            rate /= stage.down
    length = np.log(DIED_AWAY) / np.log(min(max(radius, 0.5), 1 - 1e-9))
    return int(min(max(LEAST_QUIET, 2 * length), MOST_QUIET))
