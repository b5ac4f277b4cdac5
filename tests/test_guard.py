"""Faults of Combe's own: written down once, with what was done last, told, and the work kept aside."""

from __future__ import annotations

import json
import sys
import tempfile
import threading
from pathlib import Path
from unittest import mock

from PyQt6.QtCore import QTimer

from combe import log
from combe.app.guard import Guard
from combe.app.jobs import Lane
from combe.app.recovery import Recovery
from combe.project import edits
from tests.window_case import QApplication, WindowCase


class Guarded(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.log = Path(place.name) / "combe.log"
        for patched in (mock.patch("combe.log.log_path", return_value=self.log),):
            patched.start()
            self.addCleanup(patched.stop)
        log.forget_faults()
        self.addCleanup(log.forget_faults)
        self.unsaved = Path(place.name) / "unsaved"
        self.recovery = Recovery(self.session, self.unsaved)
        self.guard = Guard(self.window, self.recovery)
        self.guard.stand()
        self.addCleanup(self.guard.leave)

    def fault(self) -> None:
        raise ZeroDivisionError("a slot gone wrong")

    def happen(self, times: int = 1) -> None:
        for _ in range(times):
            QTimer.singleShot(0, self.fault)
            QApplication.processEvents()
        QApplication.processEvents()

    def test_a_fault_in_a_slot_is_told_written_down_and_the_work_kept(self) -> None:
        self.session.edit(edits.coefficient_bits(13))
        self.happen()
        text = self.log.read_text()
        self.assertIn("a slot gone wrong", text)
        self.assertIn("calls was open, step ideal, page magnitude", text)
        self.assertIn("changed last: coefficient width", text)
        self.assertIn("your work is still here", self.window.statusBar().currentMessage())
        kept = json.loads(next(self.unsaved.glob("*.json")).read_text())
        self.assertEqual(kept["project"]["filters"][0]["arithmetic"]["coefficient_bits"], 13)
        # The window goes on.
        self.session.edit(edits.coefficient_bits(14))
        self.settle()
        self.assertEqual(self.session.results.rounded.realization.stages[0].coefficient.bits, 14)

    def test_the_same_fault_again_is_a_line_now_and_then(self) -> None:
        with mock.patch.object(self.window, "tell") as told:
            self.happen(40)
        self.assertEqual(told.call_count, 1)
        text = self.log.read_text()
        self.assertEqual(text.count("Traceback"), 1)
        self.assertEqual(text.count("th time"), 5)

    def test_a_fault_in_a_lane_is_guarded_like_one_in_a_slot(self) -> None:
        lane = Lane("test", self.window)
        done = threading.Event()
        lane.failed.connect(lambda _: done.set())

        def broken(_: object):  # type: ignore[no-untyped-def]
            yield 1
            raise KeyError("a lane gone wrong")

        with mock.patch.object(self.window, "tell") as told:
            lane.submit(broken)
            for _ in range(400):
                QApplication.processEvents()
                if done.wait(0.01):
                    break
            QApplication.processEvents()
        lane.close()
        self.assertIn("a lane gone wrong", self.log.read_text())
        self.assertEqual(told.call_count, 1)

    def test_what_happens_while_a_fault_is_told_does_not_hide_it(self) -> None:
        with mock.patch.object(self.guard, "done_last", side_effect=RuntimeError("no window")):
            log.context[-1] = self.guard.done_last
            self.happen()
            log.context.pop()
        self.assertIn("can't be told (no window)", self.log.read_text())
        self.assertIn("a slot gone wrong", self.log.read_text())

    def test_it_leaves_with_the_window(self) -> None:
        self.assertEqual(sys.excepthook, self.guard._hook)
        self.guard.leave()
        self.assertNotIn(self.guard.done_last, log.context)
        self.assertNotEqual(sys.excepthook, self.guard._hook)
