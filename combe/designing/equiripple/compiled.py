"""The barycentric sums of long filters in a compiled loop, the twin of ``interpolate`` in ``exchange``."""

from __future__ import annotations

from typing import Any

import numpy as np

from combe.jit import compiled


@compiled(nogil=True, error_model="numpy", fastmath={"reassoc", "contract"})
def barycentric(x: Any, nodes: Any, values: Any, weights: Any) -> Any:  # pragma: no cover - compiled
    """The polynomial through (nodes, values) at each x, by the second barycentric formula."""
    found = np.empty_like(x)
    scaled = weights * values
    count = len(nodes)
    for i in range(len(x)):
        here = x[i]
        top = 0.0
        bottom = 0.0
        for j in range(count):
            part = 1.0 / (here - nodes[j])
            top += scaled[j] * part
            bottom += weights[j] * part
        result = top / bottom
        if not np.isfinite(result):
            for j in range(count):
                if here == nodes[j]:
                    result = values[j]
        found[i] = result
    return found


@compiled(nogil=True, error_model="numpy", fastmath={"reassoc", "contract"})
def node_weights(x: Any) -> Any:  # pragma: no cover - compiled
    """1/Π 2(x_i − x_j), scaled to a largest magnitude of 1: factors are multiplied up as long as none gets too small or large."""
    count = len(x)
    logs, signs = np.empty(count), np.ones(count)
    for i in range(count):
        product, total = 1.0, 0.0
        for j in range(count):
            if j != i:
                gap = 2.0 * (x[i] - x[j])
                if gap < 0.0:
                    signs[i] = -signs[i]
                    gap = -gap
                product *= max(gap, 1e-300)
                if product < 1e-200 or product > 1e200:
                    total -= np.log(product)
                    product = 1.0
        logs[i] = total - np.log(product)
    return signs * np.exp(logs - np.max(logs))
