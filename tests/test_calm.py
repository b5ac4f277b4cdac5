"""What is only looked at waits for its page to be painted, and no longer."""

from __future__ import annotations

import threading
import time
import unittest
from unittest import mock

from PyQt6.QtWidgets import QApplication

from combe.app import calm
from combe.app.calm import CALM, LONGEST_S, REST_S, Calm
from combe.app.jobs import Errand, Lane
from combe.app.plots.frame import FRAME
from combe.app.working import LANES, PATIENT, Working


class Clock:
    """Time that passes only where somebody sleeps; what happens meanwhile is told in advance."""

    def __init__(self, acts: dict[float, object]) -> None:
        self.now = 100.0
        self.acts = sorted((100.0 + at, act) for at, act in acts.items())

    def monotonic(self) -> float:
        return self.now

    def sleep(self, seconds: float) -> None:
        self.now += seconds
        while self.acts and self.acts[0][0] <= self.now:
            self.acts.pop(0)[1]()  # type: ignore[operator]


class Waits(unittest.TestCase):
    def setUp(self) -> None:
        self.calm = Calm()

    def waited(self, acts: dict[float, object], is_stopped: object = lambda: False) -> float:
        clock = Clock(acts)
        with mock.patch.object(calm, "time", clock):
            self.calm.wait(is_stopped)  # type: ignore[arg-type]
        return clock.now - 100.0

    def test_nothing_is_waited_for_where_nothing_stirs(self) -> None:
        self.assertEqual(self.waited({}), 0.0)

    def test_until_the_last_frame_has_been_there_for_a_moment(self) -> None:
        self.calm.begin()
        found = self.waited({0.02: self.calm.end, 0.025: self.calm.begin, 0.05: self.calm.end})
        self.assertGreaterEqual(found, 0.05 + REST_S - 1e-9)
        self.assertLessEqual(found, 0.05 + 2 * REST_S + 1e-9)

    def test_a_frame_that_is_being_painted_is_never_disturbed(self) -> None:
        self.calm.begin()
        self.assertGreaterEqual(self.waited({0.09: self.calm.end}), 0.09 + REST_S - 1e-9)

    def test_never_longer_than_told(self) -> None:
        self.calm.begin()
        self.assertAlmostEqual(self.waited({}), LONGEST_S, delta=1e-6)

    def test_no_longer_than_the_answer_is_wanted(self) -> None:
        self.calm.begin()
        wanted = iter([False, False, True])
        self.assertLessEqual(self.waited({}, lambda: next(wanted)), 2 * REST_S + 1e-9)


class Patience(unittest.TestCase):
    def setUp(self) -> None:
        self.app = QApplication.instance() or QApplication([])
        self.began: list[str] = []
        self.addCleanup(CALM.end)

    def until(self, count: int) -> None:
        end = time.monotonic() + 10
        while len(self.began) < count and time.monotonic() < end:
            self.app.processEvents()

    def test_of_two_errands_and_two_lanes_the_patient_wait_for_the_frame(self) -> None:
        held = threading.Event()

        def wait(_: object = None) -> None:
            held.wait(10)

        with mock.patch.object(CALM, "wait", wait):
            errands = {name: Errand(name == "patient") for name in ("patient", "hasty")}
            lanes = {name: Lane(name, None, name == "patient") for name in ("patient", "hasty")}
            for name, lane in lanes.items():
                lane.submit(lambda _, name=name: iter([self.began.append(f"lane {name}")]))  # type: ignore[misc]
            errands["hasty"].send(lambda: self.began.append("errand hasty"))
            self.until(2)
            errands["patient"].send(lambda: self.began.append("errand patient"))
            for _ in range(5):
                self.app.processEvents()
                time.sleep(0.01)
            self.assertEqual(set(self.began), {"lane hasty", "errand hasty"})
            held.set()
            self.until(4)
            self.assertEqual(set(self.began[2:]), {"lane patient", "errand patient"})
            for lane in lanes.values():
                lane.close()

    def test_a_question_stirs_until_what_asked_it_is_done(self) -> None:
        CALM.ask()
        self.assertTrue(CALM._is_stirring)
        self.app.processEvents()
        self.assertFalse(CALM._is_stirring)
        with FRAME.open():
            self.assertTrue(CALM._is_stirring)
        self.assertFalse(CALM._is_stirring)

    def test_only_what_is_looked_at_is_patient(self) -> None:
        working = Working()
        self.addCleanup(lambda: [lane.close() for lane in working.lanes.values()])
        self.assertEqual({name for name in LANES if working.lanes[name]._is_patient}, set(PATIENT))
        self.assertEqual(PATIENT, ("look",), "a hand never waits")


if __name__ == "__main__":
    unittest.main()
