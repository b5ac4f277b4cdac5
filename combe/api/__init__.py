"""The functions scripts, the command line and the window share: ``import combe`` gives exactly these.

A filter goes one way through them::

    >>> import combe
    >>> asked = combe.from_document({
    ...     "format": "combe-requirement", "version": 1, "name": "bat band", "sample_rate_hz": 250000,
    ...     "bands": [{"name": "wind", "start_hz": 0, "stop_hz": 12000, "max_db": -60},
    ...               {"name": "calls", "start_hz": 18000, "stop_hz": 125000, "min_db": -0.1, "max_db": 0.1}],
    ...     "phase": "linear"})
    >>> made = combe.design(asked, "equiripple")
    >>> made.kind, combe.meets(made)
    ('fir', True)
    >>> realized = combe.realize(made, coefficient_bits=20, input="s12f11", output="s16f15")
    >>> [int(y) for y in combe.simulate(realized, [0, 0, 0])]
    [0, 0, 0]
"""

from __future__ import annotations

from combe.api.benching import bench
from combe.api.boards import board, capture
from combe.api.designing import contenders, design, lines, meets, response, table, trade
from combe.api.files import document, from_document, load, save
from combe.api.projects import check
from combe.api.racing import race, write_race
from combe.api.realizing import Delivery, deliver, realize, simulate
from combe.errors import CombeError

__all__ = [
    "CombeError", "Delivery", "bench", "board", "capture", "check", "contenders", "deliver", "design", "document",
    "from_document", "lines", "load", "meets", "race", "realize",
    "response", "save", "simulate", "table", "trade", "write_race",
]  # fmt: skip
