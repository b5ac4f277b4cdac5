"""Which sums feed back to one another."""

from __future__ import annotations

import numpy as np


def feedback_groups(uses: list[list[int]]) -> list[list[int]]:
    """Groups of steps (from 0) that feed back to one another; ``uses`` are the signals each step takes."""
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import connected_components

    count = len(uses)
    pairs = [(index, signal - 1) for index, signals in enumerate(uses) for signal in signals if signal]
    if not pairs:
        return []
    rows, columns = np.array(pairs).T
    graph = csr_array((np.ones(len(rows)), (rows, columns)), shape=(count, count))
    _, labels = connected_components(graph, directed=True, connection="strong")
    itself = {index for index, signals in enumerate(uses) if index + 1 in signals}
    groups: dict[int, list[int]] = {}
    for index, own in enumerate(labels.tolist()):
        groups.setdefault(own, []).append(index)
    return [group for group in groups.values() if len(group) > 1 or group[0] in itself]
