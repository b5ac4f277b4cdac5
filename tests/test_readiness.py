"""Loops are compiled once, for one kind of values, and not beside a window."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import unittest
import unittest.mock
from importlib import import_module
from pathlib import Path

import numpy as np

from combe.designing.equiripple.exchange import drafted, drafted_taps, exchange
from combe.designing.equiripple.problem import Problem, pieces_of
from combe.designing.workers import IN_WORKER
from combe.filters import Fir
from combe.project import readiness
from combe.responses.curves import magnitude_curve
from tests.support import BAT, LOWPASS, asked

ROOT = Path(__file__).resolve().parent.parent

APART = """
import time
from combe.designing.workers import WORKERS
from combe.project import readiness
from combe.responses import curves, compiled_curves

print(readiness.is_kept(readiness.CURVES))
WORKERS.serve_window("combe.project.readiness")
readiness.make_ready(readiness.CURVES)
stats = compiled_curves.lobed.stats
print(readiness.is_kept(readiness.CURVES), len(stats.cache_hits), len(stats.cache_misses), curves._ready.is_set())
WORKERS.end()
"""


class OneKind(unittest.TestCase):
    def test_nothing_that_follows_a_hand_is_compiled_for_another_kind_of_values(self) -> None:
        """A second kind would be compiled while the hand waits: seconds, at the first move on a new machine."""
        for name in (readiness.EXCHANGE, readiness.CURVES, readiness.STROKES):
            readiness.make_ready(name)
        ripples = asked(2, (0, 0.2, -0.3, 0.1), (0.3, 0.5, -40), (0.6, 0.9, -0.2, 0.2))
        for requirement in (LOWPASS, BAT, ripples):
            for taps, symmetry in ((20, 1), (21, 1), (63, 1), *(((50, -1),) if requirement is BAT else ())):
                posed = Problem(pieces_of(requirement), taps, symmetry)
                draft = drafted(posed, exchange(posed).reference, 1e-3)
                assert draft is not None
                found = drafted_taps(draft)
                assert found is not None
                magnitude_curve(Fir(tuple(found)))
        seen = import_module(readiness.STROKES)
        omega, level = magnitude_curve(Fir((0.25, 0.5, 0.25)))
        for values in (level, level[::2], np.flip(level), level.astype(np.float32)):
            seen.strokes(omega[: len(values)], values, 100.0, -3.0, -90.0, 3.0)
        for name in (readiness.EXCHANGE, readiness.CURVES, readiness.STROKES):
            module, loops = readiness.LOOPS[name]
            for loop in loops:
                kinds = getattr(import_module(module), loop).signatures
                self.assertEqual(len(kinds), 1, (loop, kinds))


class Apart(unittest.TestCase):
    @unittest.skipUnless(len(os.sched_getaffinity(0)) > 1, "takes a second processor")
    def test_what_was_never_compiled_is_compiled_in_a_process_of_its_own(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            run = [sys.executable, "-c", APART]
            surroundings = os.environ | {"NUMBA_CACHE_DIR": folder, "PYTHONPATH": str(ROOT)}
            surroundings.pop(IN_WORKER, None)
            told = [
                subprocess.run(run, env=surroundings, cwd=ROOT, capture_output=True, text=True, timeout=120, check=True)
                for _ in range(2)
            ]
        self.assertEqual(told[0].stdout.split(), ["False", "True", "1", "0", "True"])
        self.assertEqual(told[1].stdout.split(), ["True", "True", "1", "0", "True"])

    def test_without_processes_it_is_done_here(self) -> None:
        with unittest.mock.patch.object(readiness, "is_kept", lambda _: False):
            readiness.make_ready(readiness.CURVES)
        self.assertTrue(import_module(readiness.CURVES)._ready.is_set())

    def test_every_loop_told_of_is_there_and_compiled(self) -> None:
        for name, (module, loops) in readiness.LOOPS.items():
            self.assertTrue(callable(import_module(name).make_ready))
            for loop in loops:
                self.assertTrue(hasattr(getattr(import_module(module), loop), "signatures"), loop)
