"""Compiled loops made ready while nobody waits: loaded from disk, or first compiled in a process of its own."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterator
from importlib import import_module

from combe.designing.workers import LOOK_S, WORKERS, WorkerGoneError

LONGEST_WAIT_S = 60.0

EXCHANGE, CURVES = "combe.designing.equiripple.exchange", "combe.responses.curves"
STROKES, SECTIONS = "combe.app.plots.seen", "combe.running.compiled"
LOOPS = {
    EXCHANGE: ("combe.designing.equiripple.compiled_exchange", ("exchanged", "tapped")),
    CURVES: ("combe.responses.compiled_curves", ("lobed",)),
    STROKES: ("combe.app.plots.compiled_seen", ("kept", "strokes")),
    SECTIONS: ("combe.running.compiled", ("_loop", "run_exact_sections")),
}
"""Modules that make themselves ready, each with where its loops are and how they are called."""


def make_ready(name: str) -> None:
    """Make a module ready. What was never compiled on this machine is compiled apart: beside a window it would take the
    interpreter from the hand for many seconds."""
    if not is_kept(name):
        _compile_apart(name)
    import_module(name).make_ready()


def _compile_apart(name: str) -> None:
    """In a process of the window's, as soon as one can be spared: nobody waits for this."""
    end = time.monotonic() + LONGEST_WAIT_S
    while WORKERS.serves_window and WORKERS.most and time.monotonic() < end:
        worker = WORKERS.take(WORKERS.spare)
        if worker is None:
            time.sleep(LOOK_S)
            continue
        with contextlib.suppress(WorkerGoneError):
            for _ in WORKERS.reports(worker, compiled, (name,), lambda: False):
                pass
        return


def is_kept(name: str) -> bool:
    """Whether every loop of a module is on disk, as its source is now; True where that can't be told or nothing can be kept."""
    module, loops = LOOPS[name]
    try:
        return all(getattr(import_module(module), loop)._cache._cache_file._load_index() for loop in loops)
    except (AttributeError, OSError):
        return True


def compiled(name: str, is_stopped: Callable[[], bool]) -> Iterator[str]:
    """What the other process does: what it compiles stays on disk."""
    import_module(name).make_ready()
    yield name
