"""Behind the window: what is collected, heaps, and work aside."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import threading
import time
import unittest
import weakref
from pathlib import Path
from unittest import mock

from PyQt6.QtCore import QEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from combe.app.picture import settle
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.window import MainWindow
from combe.errors import CombeError, DesignError, Stopped
from combe.project import edits
from combe.project.demo import demo_project
from combe.project.results import News
from tests import memory
from tests.support import fewer_vectors, some
from tests.window_case import application

setUpModule = fewer_vectors


class Collecting(unittest.TestCase):
    application = application

    def test_windows_come_and_go_while_garbage_is_collected(self) -> None:
        import gc

        memory.remember_all(self, demo_project().requirement)
        for _ in some(range(4), 2):
            session = Session(demo_project())
            window = MainWindow(session, Settings(path=Path("/nonexistent/settings.json")))
            window.resize(1280, 800)
            window.show()
            session.start()
            settle(session)
            self.assertFalse(window.grab().isNull())
            window.collector.collect()
            self.assertFalse(gc.isenabled(), "only the interface thread collects")
            self.assertGreater(gc.get_freeze_count(), 10_000, "what stays is gone through no more")
            ring: list[object] = []
            ring.append(ring)
            holder = Session(demo_project())
            seen = weakref.ref(holder)
            holder.close()
            holder.ring = [holder]  # type: ignore[attr-defined]
            del holder, ring
            gc.collect()
            self.assertIsNone(seen(), "what comes later is collected")
            window.close()
            window.deleteLater()
            QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
            del window, session
            gc.collect()


HEAPS = """
import ctypes, sys, threading
if sys.argv[1] == "small":
    from combe.app.collector import keep_heaps_small
    keep_heaps_small()
import numpy as np
gate = threading.Barrier(6)
def work():
    gate.wait()
    held = [np.ones(9000) for _ in range(50)]
    gate.wait()
threads = [threading.Thread(target=work) for _ in range(6)]
[each.start() for each in threads], [each.join() for each in threads]
libc = ctypes.CDLL(None)
libc.fopen.restype = ctypes.c_void_p
file = ctypes.c_void_p(libc.fopen(sys.argv[2].encode(), b"w"))
libc.malloc_info(0, file)
libc.fclose(file)
"""


class Heaps(unittest.TestCase):
    def test_threads_share_two_heaps(self) -> None:
        """By the C library's own account; without the call each thread that comes while others work has its own."""
        counted = {}
        with tempfile.TemporaryDirectory() as place:
            for way in ("small", "as they come"):
                account = Path(place) / "heaps.xml"
                subprocess.run([sys.executable, "-c", HEAPS, way, str(account)], check=True)
                counted[way] = account.read_text().count("<heap nr=")
        self.assertEqual(counted["small"], 2)
        self.assertGreater(counted["as they come"], 2)


class Background(unittest.TestCase):
    def settled(self) -> Session:
        """The demo without a window, everything worked out."""
        memory.remember_all(self, demo_project().requirement)
        session = Session(demo_project())
        self.addCleanup(session.close)
        session.start()
        settle(session)
        return session

    def test_only_work_that_was_quick_is_done_at_once(self) -> None:
        from combe.app.jobs import Pace

        clock = iter((0.0, 0.001, 5.0, 5.002, 9.0, 9.0, 10.0, 10.02, 11.0, 11.0))
        pace = Pace()
        self.assertFalse(pace.is_quick)
        job = pace.timed(lambda _: iter((1, 2)))
        with mock.patch("combe.app.jobs.time.thread_time", lambda: next(clock)):
            self.assertEqual(list(job(lambda: False)), [1, 2])
            self.assertTrue(pace.is_quick)
            self.assertAlmostEqual(pace.seconds, 0.003)
            list(pace.timed(lambda _: iter((1,)))(lambda: False))
        self.assertFalse(pace.is_quick)

    def test_work_that_took_long_once_is_trusted_when_it_was_quick_a_few_times(self) -> None:
        from combe.app.jobs import Pace

        for long, count in ((0.009, 1), (0.05, 6), (0.2, 10)):
            clock = iter((0.0, long, *(0.0,) * 100))
            pace, times = Pace(), 0
            with mock.patch("combe.app.jobs.time.thread_time", lambda clock=clock: next(clock)):
                list(pace.timed(lambda _: iter(()))(lambda: False))
                while not pace.is_quick:
                    list(pace.timed(lambda _: iter(()))(lambda: False))
                    times += 1
            self.assertEqual(times, count)

    def test_work_that_now_takes_long_is_left_to_a_lane(self) -> None:
        """Asked to stop it may raise, end early, or complain of what it hasn't found: none of that is an answer."""
        from combe.app.jobs import Pace

        def endless(is_stopped):  # type: ignore[no-untyped-def]
            yield 1
            for _ in range(2000):
                time.sleep(0.001)
                if is_stopped():
                    raise Stopped

        def ends_early(is_stopped):  # type: ignore[no-untyped-def]
            for _ in range(2000):
                time.sleep(0.001)
                if is_stopped():
                    break
            yield "less than it would have found"

        def complains(is_stopped):  # type: ignore[no-untyped-def]
            yield from ends_early(is_stopped)
            raise CombeError("nothing was found")

        def complains_at_once(_):  # type: ignore[no-untyped-def]
            yield 1
            raise CombeError("nothing was found")

        for job in (endless, ends_early, complains):
            pace = Pace()
            pace.seconds = 0.001
            self.assertIsNone(pace.at_once(job))
            self.assertFalse(pace.is_quick)
        pace = Pace()
        self.assertEqual(pace.at_once(lambda _: iter((1, 2))), [1, 2])
        self.assertTrue(pace.is_quick)
        with self.assertRaises(CombeError):
            pace.at_once(complains_at_once)

    def test_the_newest_request_wins_and_stale_answers_are_dropped(self) -> None:
        from combe.app.jobs import Lane

        lane = Lane("test")
        seen: list[object] = []
        lane.arrived.connect(seen.append)

        def job(number: int):  # type: ignore[no-untyped-def]
            def run(is_stopped):  # type: ignore[no-untyped-def]
                for step in range(20):
                    if is_stopped():
                        return
                    time.sleep(0.005)
                    yield (number, step)

            return run

        for number in range(5):
            lane.submit(job(number))
            time.sleep(0.01)
        end = time.monotonic() + 5
        while lane.is_busy and time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.005)
        self.assertEqual(seen, [(4, step) for step in range(20)])
        lane.close()

    def test_a_fault_in_a_job_is_told_not_thrown(self) -> None:
        from combe.app.jobs import Lane

        lane = Lane("test")
        seen: list[object] = []
        lane.failed.connect(seen.append)

        def broken(is_stopped):  # type: ignore[no-untyped-def]
            yield 1 / 0

        with mock.patch("combe.app.jobs.log_failure", return_value=Path("log")):
            lane.submit(broken)
            end = time.monotonic() + 5
            while lane.is_busy and time.monotonic() < end:
                QApplication.processEvents()
                time.sleep(0.005)
        self.assertIn("fault in Combe", str(seen[0]))
        lane.close()

    def test_what_was_worked_out_for_the_project_as_it_was_never_arrives(self) -> None:
        session = self.settled()
        old, go_on = object(), threading.Event()

        def slow(_):  # type: ignore[no-untyped-def]
            go_on.wait(20)
            yield News("proof", old)

        session._submit("proof", ("proof",), slow)
        self.assertIn("proof", session.results.pending)
        session.edit(edits.coefficient_bits(14))
        self.assertNotIn("proof", session.results.pending)
        go_on.set()
        settle(session)
        QTest.qWait(50)
        self.assertIsNot(session.results.proof, old)

    def test_why_a_draft_made_at_once_cannot_be_had_is_told(self) -> None:
        session = self.settled()
        session._pace.seconds = 0.001
        refusal = DesignError("no such filter")
        with mock.patch.object(session._pace, "at_once", side_effect=refusal):
            session.edit(edits.move_edge(session.project, 0, "stop", 11_000.0))
        self.assertTrue(session.is_dragging)
        self.assertIs(session.results.troubles["ideal"], refusal)
        self.assertNotIn("ideal", session.results.pending)
        session.end_gesture()
        settle(session)
        self.assertFalse(session.results.troubles)
