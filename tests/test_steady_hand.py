"""A hand that doesn't rest between its moves: it sees filters all the way, and the last move counts."""

from __future__ import annotations

import threading
import time
import unittest
from unittest import mock

from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from combe.app.looked_at import work
from combe.app.plots import pace
from combe.app.plots.handle import Handle
from combe.errors import DesignError
from combe.project import chain, edits
from combe.project.document import DesignChoice
from tests.window_case import WindowCase

DEADLINE_S = 20.0
NONE, LEFT = Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton


class Drafts(WindowCase):
    """Each takes longer than the hand takes from move to move."""

    def setUp(self) -> None:
        super().setUp()
        self.begun: list[float] = []
        self.takes = 0.05
        self.trouble: DesignError | None = None
        really = work().chain

        def slowly(project, start, with_rest, known, is_stopped):  # type: ignore[no-untyped-def]
            if not with_rest:
                self.begun.append(project.requirement.bands[0].stop_hz)
                time.sleep(self.takes)
                if self.trouble is not None:
                    raise self.trouble
            yield from really(project, start, with_rest, known, is_stopped)

        in_a_lane = mock.patch("combe.app.jobs.QUICK_S", -1.0)
        for patch in (in_a_lane, mock.patch.object(work(), "chain", slowly)):
            patch.start()
            self.addCleanup(patch.stop)

    def go_on_until(self, is_enough) -> float:  # type: ignore[no-untyped-def]
        """Move every few milliseconds, and once more while the last draft is still being made; where the edge is then."""
        hz, end = 12_000.0, time.monotonic() + DEADLINE_S
        is_last = False
        while not is_last and time.monotonic() < end:
            is_last = is_enough()
            hz -= 1
            self.window.drag(lambda project, hz=hz: edits.move_edge(project, 0, "stop", hz))
            QTest.qWait(4)
        return hz

    def test_a_hand_that_goes_on_moving_sees_filters(self) -> None:
        seen: list[object] = []
        self.session.stepped.connect(lambda name: name == "rounded" and seen.append(self.session.results.rounded))
        self.go_on_until(lambda: len(seen) >= 3)
        self.assertGreaterEqual(len(seen), 3)
        self.session.end_gesture()
        self.settle()

    def test_it_rests_on_the_filter_of_the_last_move(self) -> None:
        hz = self.go_on_until(lambda: len(self.begun) >= 3)
        end = time.monotonic() + DEADLINE_S
        while self.session.is_busy and time.monotonic() < end:
            QTest.qWait(5)
        assert self.session.results.ideal is not None
        self.assertTrue(self.session.results.ideal.is_draft)
        self.assertEqual(self.session.results.ideal.asked.bands[0].stop_hz, hz)
        self.assertEqual(self.begun[-1], hz)
        self.session.end_gesture()
        self.settle()

    def test_drafts_skip_what_the_hand_has_left(self) -> None:
        self.takes, moves = 0.25, [0]
        with mock.patch.object(self.window, "drag", side_effect=self.window.drag) as counted:
            self.go_on_until(lambda: len(self.begun) >= 4)
            moves[0] = counted.call_count
        self.assertGreater(moves[0], 2 * len(self.begun))
        self.session.end_gesture()
        self.settle()

    def test_letting_go_stops_the_draft(self) -> None:
        hz = self.go_on_until(lambda: len(self.begun) >= 2)
        count = len(self.begun)
        self.assertNotIn("package", self.session.results.pending)
        self.session.end_gesture()
        self.assertIn("package", self.session.results.pending)
        self.settle()
        assert self.session.results.ideal is not None
        self.assertFalse(self.session.results.ideal.is_draft)
        self.assertEqual(self.session.results.ideal.asked.bands[0].stop_hz, hz)
        self.assertEqual(len(self.begun), count)

    def test_a_draft_that_fails_is_followed_by_the_next(self) -> None:
        self.trouble = DesignError("no such filter")
        self.go_on_until(lambda: len(self.begun) >= 3)
        self.assertGreaterEqual(len(self.begun), 3)
        self.trouble = None
        self.session.end_gesture()
        self.settle()
        self.assertFalse(self.session.results.troubles)

    def test_undo_in_the_middle_goes_back_to_what_was(self) -> None:
        before = self.session.project
        self.go_on_until(lambda: len(self.begun) >= 2)
        self.session.undo()
        self.settle()
        assert self.session.results.ideal is not None
        self.assertEqual(self.session.project.requirement, before.requirement)
        self.assertEqual(self.session.results.ideal.asked, before.requirement)
        self.assertFalse(self.session.results.ideal.is_draft)


class RecursiveDrafts(WindowCase):
    """What the ledger says of them takes longer than the window may be held."""

    def setUp(self) -> None:
        super().setUp()
        self.session.edit(edits.choose_design(DesignChoice("elliptic")))
        self.settle()

    def test_their_lines_are_worked_out_beside_the_window_and_then_shown(self) -> None:
        known: set[object] = set()
        held_up: list[object] = []
        really = chain.lines_of_design

        def lines_of(design, requirement):  # type: ignore[no-untyped-def]
            if threading.current_thread() is threading.main_thread() and design.filter not in known:
                held_up.append(design.filter)
            lines = really(design, requirement)
            time.sleep(0.03)
            known.add(design.filter)
            return lines

        shown: list[object] = []
        with (
            mock.patch.object(chain, "lines_of_design", lines_of),
            mock.patch.object(self.window.ledger, "show_lines", lambda *words: shown.append(words[1].get("ideal"))),
        ):
            hz, end = 12_000.0, time.monotonic() + DEADLINE_S
            while len(set(map(id, shown))) < 3 and time.monotonic() < end:
                hz -= 20
                self.window.drag(lambda project, hz=hz: edits.move_edge(project, 0, "stop", hz))
                QTest.qWait(4)
            drafts = len(known)
            self.session.end_gesture()
            self.settle()
        self.assertGreaterEqual(len(set(map(id, shown))), 3)
        self.assertGreaterEqual(drafts, 3)
        self.assertFalse(held_up)

    def test_they_are_never_made_at_once(self) -> None:
        self.session._pace.seconds = 0.001
        with mock.patch.object(self.session._pace, "at_once", side_effect=AssertionError("on the window's thread")):
            self.window.drag(lambda project: edits.move_edge(project, 0, "stop", 11_000.0))
            self.assertTrue(self.session.lanes["chain"].is_busy)
        self.session.end_gesture()
        self.settle()


class Moves(WindowCase):
    """Mouse events, some within the same millisecond."""

    def send(self, kind: QEvent.Type, place: QPointF, held: Qt.MouseButton = LEFT) -> None:
        view = self.window.plots.magnitude.main.viewport()
        button = NONE if kind == QEvent.Type.MouseMove else LEFT
        screen = QPointF(view.mapToGlobal(place.toPoint()))
        QApplication.sendEvent(view, QMouseEvent(kind, place, screen, button, held, Qt.KeyboardModifier.NoModifier))

    def place(self, handle: Handle) -> QPointF:
        return QPointF(self.window.plots.magnitude.main.mapFromScene(handle.scenePos()))

    def taken(self) -> tuple[Handle, QPointF]:
        """An edge in the hand, moved a little."""
        handle = self.handle(0, "stop")
        start = self.place(handle)
        self.send(QEvent.Type.MouseMove, start, NONE)
        self.send(QEvent.Type.MouseButtonPress, start)
        self.send(QEvent.Type.MouseMove, start + QPointF(-10, 0))
        QTest.qWait(100)
        return handle, start

    def test_the_last_of_quick_moves_counts(self) -> None:
        handle, start = self.taken()
        with mock.patch.object(self.session, "edit"):  # quick: nothing is to be made of it
            self.send(QEvent.Type.MouseMove, start + QPointF(-40, 0))
        self.send(QEvent.Type.MouseMove, start + QPointF(-50, 0))
        end = time.monotonic() + DEADLINE_S
        while abs(self.place(handle).x() - start.x() + 50) > 1.5 and time.monotonic() < end:
            QTest.qWait(5)
        self.assertAlmostEqual(self.place(handle).x(), start.x() - 50, delta=1.5)
        self.send(QEvent.Type.MouseButtonRelease, start + QPointF(-50, 0), NONE)
        self.settle()

    def test_quick_moves_are_taken_together(self) -> None:
        _, start = self.taken()
        with mock.patch.object(pace, "PACE_MS", 60_000):
            self.send(QEvent.Type.MouseMove, start + QPointF(-11, 0))
        with mock.patch.object(self.session, "edit", side_effect=self.session.edit) as edit:
            for step in range(40):
                self.send(QEvent.Type.MouseMove, start + QPointF(-12 - step, 0))
            self.assertEqual(edit.call_count, 0)
            self.send(QEvent.Type.MouseButtonRelease, start + QPointF(-30, 0), NONE)
            self.assertEqual(edit.call_count, 1)
        self.settle()
        self.assertAlmostEqual(self.place(self.handle(0, "stop")).x(), start.x() - 30, delta=1.5)

    def test_what_waits_when_the_hand_lets_go_is_forgotten(self) -> None:
        _, start = self.taken()
        with mock.patch.object(pace, "PACE_MS", 50):
            self.send(QEvent.Type.MouseMove, start + QPointF(-11, 0))
        self.send(QEvent.Type.MouseMove, start + QPointF(-90, 0))
        self.send(QEvent.Type.MouseButtonRelease, start + QPointF(-20, 0), NONE)
        before = self.session.project.requirement
        QTest.qWait(120)
        self.settle()
        self.assertEqual(self.session.project.requirement, before)
        self.assertAlmostEqual(self.place(self.handle(0, "stop")).x(), start.x() - 20, delta=1.5)

    def test_a_grip_is_lit_however_quickly_it_is_reached(self) -> None:
        handle = self.handle(0, "stop")
        there = self.place(handle)
        away = there + QPointF(0, 120)
        self.send(QEvent.Type.MouseMove, away, NONE)
        self.send(QEvent.Type.MouseMove, there, NONE)
        self.assertTrue(handle._hovered)
        self.send(QEvent.Type.MouseMove, away, NONE)
        self.assertFalse(handle._hovered)


if __name__ == "__main__":
    unittest.main()
