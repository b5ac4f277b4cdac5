"""The real window, off screen, driven by mouse and keys."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
import weakref
from pathlib import Path
from unittest import mock

from combe.values import replace
from tests import memory
from tests.support import IS_CAMPAIGN, fewer_vectors, in_campaign, some

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
try:
    __import__("PyQt6.QtWidgets")
except ImportError as error:
    raise unittest.SkipTest(f"Qt can't be loaded: {error}") from None

from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QMessageBox, QWidget

from combe.app.picture import settle
from combe.app.plots.axes import Plot
from combe.app.plots.handle import Handle
from combe.app.plots.magnitude import snapped
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.states import states
from combe.app.theme.palette import THEME
from combe.app.widgets.action_palette import matches
from combe.app.widgets.figure import Figure
from combe.app.window import MainWindow
from combe.delivery import languages
from combe.errors import CombeError, Stopped
from combe.project import edits
from combe.project.demo import demo_project
from combe.project.document import STEPS, DesignChoice
from combe.project.file import read_project
from combe.project.unsaved import left_behind
from combe.requirement.presets import SHAPES
from tests.test_delivery import HAS_GCC

setUpModule = fewer_vectors

application = QApplication.instance() or QApplication(["combe"])
assert isinstance(application, QApplication)
application.setStyle("Fusion")
THEME.use("light", application)


def type_over(figure: Figure, text: str, enter: bool = True) -> None:
    """Click a figure, type, press Enter."""
    QTest.mouseClick(figure, Qt.MouseButton.LeftButton)
    figure.setFocus()
    figure.selectAll()
    QTest.keyClicks(figure, text)
    if enter:
        QTest.keyClick(figure, Qt.Key.Key_Return)


def drag(plot: Plot, handle: Handle, dx: int, dy: int, steps: int = 6) -> None:
    """Take a handle with the left button and move it by pixels."""
    view = plot.viewport()
    start = plot.mapFromScene(handle.scenePos())

    def send(kind: QEvent.Type, place: QPoint, button: Qt.MouseButton, buttons: Qt.MouseButton) -> None:
        spot = QPointF(place)
        event = QMouseEvent(
            kind, spot, QPointF(view.mapToGlobal(place)), button, buttons, Qt.KeyboardModifier.NoModifier
        )
        QApplication.sendEvent(view, event)
        QApplication.processEvents()

    none, left = Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton
    send(QEvent.Type.MouseMove, start, none, none)
    send(QEvent.Type.MouseButtonPress, start, left, left)
    for step in range(1, steps + 1):
        send(QEvent.Type.MouseMove, start + QPoint(dx * step // steps, dy * step // steps), none, left)
        time.sleep(0.02)
    send(QEvent.Type.MouseButtonRelease, start + QPoint(dx, dy), left, none)


class WindowCase(unittest.TestCase):
    """A window on the demo project, everything worked out."""

    follows: tuple[str, ...] = ()
    """What every brief gets, beside the demo's, of ``memory.BESIDE``: it takes seconds, and few tests look at it."""

    def setUp(self) -> None:
        memory.remember_all(self, demo_project().requirement, self.follows)
        self.session = Session(demo_project())
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.window = MainWindow(self.session, Settings(path=self.folder / "settings.json"))
        self.window.resize(1280, 800)
        self.window.show()
        self.session.start()
        self.settle()

    def tearDown(self) -> None:
        self.session.saved = self.session.project
        self.window.close()
        self.window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)

    def settle(self) -> None:
        settle(self.session)

    @property
    def bands(self) -> tuple[object, ...]:
        return self.session.project.requirement.bands

    def handle(self, band: int, kind: str) -> Handle:
        return next(h for h in self.window.plots.magnitude._handles if (h.band, h.kind) == (band, kind))


class Start(WindowCase):
    def test_the_first_picture_is_alive(self) -> None:
        assert self.session.results.ideal is not None
        self.assertEqual(self.session.results.ideal.design.order, 112)
        self.assertEqual([curve.name for curve in self.window.plots.scene.curves], ["rounded", "ideal"])
        self.assertEqual(self.window.ledger.ledger.rowCount(), 5)
        self.assertGreaterEqual(len(self.window.contenders.rows), 5)
        shown = states(self.session)
        self.assertEqual(
            [shown[name].verdict for name in STEPS], ["kept", "kept", "kept", "kept", "unknown", "unknown"]
        )

    def test_nothing_is_clipped_at_the_smallest_size(self) -> None:
        self.assertLessEqual(self.window.minimumSizeHint().width(), 1280)
        self.assertLessEqual(self.window.minimumSizeHint().height(), 800)
        for row in self.window.brief.rows:
            for figure in row.figures.values():
                self.assertGreaterEqual(figure.width(), figure.fontMetrics().horizontalAdvance(figure.text()))
                self.assertTrue(row.rect().contains(figure.mapTo(row, figure.rect().bottomRight())))

    def test_the_ledger_names_every_limit_at_every_step(self) -> None:
        table = self.window.ledger.ledger
        self.assertEqual(table.words(0, 0)[0], "wind not above")
        for column in (2, 3, 4):
            self.assertTrue(all(table.words(row, column)[0] for row in range(5)))
        self.assertEqual(table.words(0, 5)[0], "")


class Brief(WindowCase):
    def test_a_figure_typed_changes_the_filter(self) -> None:
        self.window.contenders.bar.least.click()
        self.settle()
        before = self.session.results.ideal
        type_over(self.window.brief.rows[0].figures["stop"], "10k")
        self.settle()
        self.assertEqual(self.session.project.requirement.bands[0].stop_hz, 10_000)
        assert self.session.results.ideal is not None and before is not None
        self.assertLess(self.session.results.ideal.design.order, before.design.order)
        self.assertIsNone(self.session.project.design.order)
        self.assertFalse(self.window.plots.magnitude.main.is_zoomed)

    def test_levels_and_rate_are_typed_with_units(self) -> None:
        type_over(self.window.brief.rows[1].figures["ripple"], "-0.3 to 0.1 dB")
        type_over(self.window.brief.rows[2].figures["attenuation"], "0.05 %")
        type_over(self.window.brief.rate, "256 kHz")
        type_over(self.window.brief.whole["max_delay_s"][1], "90 samples")
        asked = self.session.project.requirement
        self.assertEqual(asked.bands[1].lower.first_db, -0.3)  # type: ignore[union-attr]
        self.assertAlmostEqual(asked.bands[2].upper.first_db, -66.02, places=2)
        self.assertEqual(asked.sample_rate_hz, 256_000)
        self.assertEqual(asked.max_delay_s, 90 / 256_000)

    def test_a_mistake_is_told_at_its_place_while_typing_and_changes_nothing(self) -> None:
        row = self.window.brief.rows[0]
        for text, words in (("20k", "overlap"), ("zwoelf", "not a frequency"), ("130k", "above half")):
            type_over(row.figures["stop"], text, enter=False)
            self.assertIn(words, row.story.text())
            self.assertTrue(row.figures["stop"].property("wrong"))
            QTest.keyClick(row.figures["stop"], Qt.Key.Key_Return)
            self.assertEqual(self.session.project.requirement.bands[0].stop_hz, 12_000)
        QTest.keyClick(row.figures["stop"], Qt.Key.Key_Escape)
        self.assertEqual(row.figures["stop"].text(), "12 kHz")
        self.assertIn("wind", row.story.text())

    def test_bands_are_added_turned_and_removed(self) -> None:
        self.window.actions_table.named("Add a band").trigger()
        self.assertEqual(len(self.bands), 4)
        self.window.brief.turn(2)
        self.window.brief.remove(2)
        self.assertEqual(len(self.bands), 3)
        for _ in range(3):
            self.session.undo()
        self.assertEqual(self.session.project, demo_project())

    def test_every_shape_to_start_from_gets_a_filter(self) -> None:
        for name in some(tuple(SHAPES), 2):
            self.window.start_panel.buttons[name].click()
            self.settle()
            self.assertNotIn("ideal", self.session.results.troubles)
            assert self.session.results.ideal is not None
            self.assertTrue(all(line.margin >= 0 for line in self.session.results.ideal.lines))

    def test_what_the_cap_on_transitions_costs_is_told(self) -> None:
        for index, (start_hz, stop_hz) in enumerate(((0, 6000), (12_000, 25_000), (90_000, 125_000))):
            for figure, hz in (("start", start_hz), ("stop", stop_hz)):
                if self.session.project.requirement.bands[index].start_hz != hz or figure == "stop":
                    type_over(self.window.brief.rows[index].figures[figure], str(hz))
        self.settle()
        self.window.contenders.bar.least.click()
        self.settle()
        self.assertIn("is held below 0.60 dB, which costs", self.window.contenders.notes.text())
        self.session.undo()

    def test_an_impossible_brief_keeps_the_last_good_state(self) -> None:
        self.window.contenders.bar.least.click()
        self.settle()
        before = self.session.results.ideal
        type_over(self.window.brief.rows[0].figures["stop"], "17.99k")
        type_over(self.window.brief.rows[0].figures["attenuation"], "200")
        self.settle()
        self.assertIn("ideal", self.session.results.troubles)
        self.assertIn("would do", self.window.contenders.summary.text())
        self.assertEqual(states(self.session)["brief"].verdict, "missed")
        self.assertIsNotNone(before)
        self.assertTrue(self.window.plots.scene.curves)
        self.session.undo()
        self.settle()
        self.session.undo()
        self.settle()
        self.assertEqual(dict(self.session.results.troubles), {})
        self.assertIn(states(self.session)["ideal"].verdict, ("kept", "close"))

    def test_an_order_chosen_by_hand_stays_and_says_what_it_misses(self) -> None:
        type_over(self.window.brief.rows[0].figures["stop"], "14k")
        self.settle()
        assert self.session.results.ideal is not None
        self.assertEqual(self.session.results.ideal.design.order, 112)
        missed = [line for line in self.session.results.ideal.lines if line.margin < 0]
        self.assertTrue(missed)
        self.assertTrue(states(self.session)["ideal"].margin.startswith("missed by "))
        bar = self.window.contenders.bar
        self.assertTrue(bar.least.isVisibleTo(bar))
        bar.least.click()
        self.settle()
        self.assertGreater(self.session.results.ideal.design.order, 112)
        self.assertIn(states(self.session)["ideal"].verdict, ("kept", "close"))
        self.assertFalse(bar.least.isVisibleTo(bar))


class Dragging(WindowCase):
    def test_an_edge_follows_the_hand_and_the_filter_follows_the_edge(self) -> None:
        drag(self.window.plots.magnitude.main, self.handle(0, "stop"), -16, 0)
        self.settle()
        moved = self.session.project.requirement.bands[0].stop_hz
        self.assertTrue(8000 < moved < 11_000, moved)
        assert self.session.results.ideal is not None
        self.assertEqual(self.session.results.ideal.design.requirement, self.session.project.requirement)
        self.assertTrue(all(line.margin >= 0 for line in self.session.results.ideal.lines))

    def test_a_whole_drag_is_one_step_of_undo(self) -> None:
        drag(self.window.plots.magnitude.main, self.handle(1, "start"), 12, 0)
        self.assertNotEqual(self.session.project.requirement, demo_project().requirement)
        self.assertEqual(self.window.actions_table.undo.text(), "Undo: drag the edge of calls")
        self.window.actions_table.undo.trigger()
        self.assertEqual(self.session.project, demo_project())
        self.window.actions_table.redo.trigger()
        self.assertNotEqual(self.session.project, demo_project())

    def test_the_drawn_result_is_the_same_as_a_fresh_design(self) -> None:
        from combe.project.chain import ideal_of

        drag(self.window.plots.magnitude.main, self.handle(0, "stop"), -9, 0)
        self.settle()
        assert self.session.results.ideal is not None
        self.assertEqual(self.session.results.ideal.design.filter, ideal_of(self.session.project).design.filter)

    def test_levels_go_up_and_down(self) -> None:
        drag(self.window.plots.magnitude.main, self.handle(2, "upper"), 0, 20)
        self.assertLess(self.session.project.requirement.bands[2].upper.first_db, -61)
        drag(self.window.plots.magnitude.loupe, self.handle(1, "upper"), 0, -12)
        band = self.session.project.requirement.bands[1]
        assert band.lower is not None
        self.assertGreater(band.upper.first_db, 0.1)
        self.assertEqual(band.lower.first_db, -band.upper.first_db)

    def test_an_edge_stops_at_its_neighbor(self) -> None:
        drag(self.window.plots.magnitude.main, self.handle(0, "stop"), 300, 0)
        self.settle()
        self.assertLessEqual(self.session.project.requirement.bands[0].stop_hz, 18_000)

    def test_dragging_snaps_to_round_figures(self) -> None:
        self.assertEqual(snapped(12_037.2, 190), 12_000)
        self.assertEqual(snapped(12_037.2, 1.9), 12_038)
        self.assertEqual(snapped(-59.87, 0.3), -60)


class Figures(WindowCase):
    def test_under_the_hand_they_are_painted_in_a_turn_of_their_own(self) -> None:
        """A move that comes before paints the picture and no figures; then they are painted, for good."""
        parts = (self.window.ledger, self.window.chain)
        with mock.patch.object(self.session, "_dragging", True):
            self.window._show_figures()
            self.assertFalse(any(part.updatesEnabled() for part in parts))
            self.window.plots.paint_now()
            self.assertFalse(any(part.updatesEnabled() for part in parts))
            QTest.qWait(20)
            self.assertTrue(all(part.updatesEnabled() for part in parts))
        self.window._show_figures()
        self.assertTrue(all(part.updatesEnabled() for part in parts))


class Choosing(WindowCase):
    def test_a_contender_is_one_click(self) -> None:
        contender, row = next((c, r) for c, r in self.window.contenders.rows if c.method == "least-squares")
        QTest.mouseClick(row, Qt.MouseButton.LeftButton)
        self.settle()
        self.assertEqual(self.session.project.design, DesignChoice("least-squares"))
        assert self.session.results.ideal is not None
        self.assertEqual(self.session.results.ideal.design.order, contender.order)
        chosen = [c.method for c, r in self.window.contenders.rows if r.is_chosen]
        self.assertEqual(chosen, ["least-squares"])

    def test_the_keyboard_picks_too(self) -> None:
        shortest, row = next((c, r) for c, r in self.window.contenders.rows if c.is_shortest and c.symmetry == 1)
        row.setFocus()
        QTest.keyClick(row, Qt.Key.Key_Return)
        self.assertIsNone(self.session.project.design.order)
        self.settle()
        assert self.session.results.ideal is not None
        self.assertEqual(self.session.results.ideal.design.order, shortest.order)

    def test_coefficient_widths(self) -> None:
        self.window.open_step("rounded")
        self.window.rounded.bits.setValue(10)
        self.settle()
        self.assertEqual(states(self.session)["rounded"].verdict, "missed")
        self.assertTrue(self.window.plots.magnitude._marks)
        self.window.rounded.fewest.click()
        self.settle()
        self.assertEqual(self.session.project.arithmetic.coefficient_bits, 15)
        self.assertEqual(states(self.session)["rounded"].verdict, "kept")
        chart = self.window.rounded.chart
        QTest.mouseClick(chart, Qt.MouseButton.LeftButton, pos=QPoint(40, 22 * 11 + 5))
        self.assertEqual(self.session.project.arithmetic.coefficient_bits, chart.rows[11][0])

    def test_formats_are_typed_and_checked(self) -> None:
        self.window.open_step("arithmetic")
        field = self.window.arithmetic.fields["input"]
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, "s16")
        self.assertIn("number format", self.window.arithmetic.complaint.text())
        QTest.keyClicks(field, "f15")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.session.project.arithmetic.input, "s16f15")
        self.window.arithmetic.boxes["structure"].setCurrentText("direct")
        self.window.arithmetic.boxes["structure"].activated.emit(1)
        self.settle()
        assert self.session.results.rounded is not None
        self.assertEqual(self.session.results.rounded.realization.structure, "direct")

    def test_a_choice_that_cannot_be_kept_is_told(self) -> None:
        project = self.session.project
        self.session.change(
            replace(project, arithmetic=replace(project.arithmetic, accumulator_bits=20)), "accumulator"
        )
        self.settle()
        self.assertIn("20 bits can overflow", self.window.arithmetic.facts.shown[0].sentence)
        self.assertEqual(states(self.session)["rounded"].verdict, "missed")
        self.session.undo()
        self.settle()
        self.assertEqual(states(self.session)["rounded"].verdict, "kept")


class Looking(WindowCase):
    def test_every_plot_in_every_mode_has_curves(self) -> None:
        for name in ("phase", "delay", "time", "magnitude"):
            self.window.plots.buttons[name].click()
            for index in range(self.window.plots.mode.count()):
                self.window.plots.mode.setCurrentIndex(index)
                self.window.plots.mode.activated.emit(index)
                self.assertFalse(self.window.plots.current_plot.grab().isNull())
                needed = self.window.plots.mode.fontMetrics().horizontalAdvance(self.window.plots.mode.currentText())
                self.assertGreater(self.window.plots.mode.width(), needed + 20)

    def test_a_ledger_cell_takes_the_plot_there(self) -> None:
        table = self.window.ledger
        cell = table.visualRect(table.ledger.index(0, 3)).center()
        QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=cell)
        self.assertEqual(self.window.step, "rounded")
        assert self.session.results.rounded is not None
        (left, right), _ = self.window.plots.magnitude.main.view.viewRange()
        self.assertTrue(left < self.session.results.rounded.lines[0].at_hz < right)
        self.assertLess(right - left, 20_000)
        self.window.actions_table.named("Show the whole plot").trigger()
        (left, right), _ = self.window.plots.magnitude.main.view.viewRange()
        self.assertGreater(right - left, 120_000)

    def test_themes_and_shares_of_the_sample_rate(self) -> None:
        for _ in range(2):
            self.window.actions_table.dark.trigger()
            self.assertFalse(self.window.grab().isNull())
        self.assertEqual(THEME.name, "light")
        for text in ("0.048 fs", "0.096 fn"):
            self.window.actions_table.named("Count frequencies the next way").trigger()
            self.assertEqual(self.window.brief.rows[0].figures["stop"].text(), text)
        self.window.actions_table.named("Frequencies in Hz").trigger()
        self.assertEqual(self.window.brief.rows[0].figures["stop"].text(), "12 kHz")

    def test_the_chain_opens_by_mouse_and_keys(self) -> None:
        for name in STEPS:
            QTest.mouseClick(self.window.chain.steps[name], Qt.MouseButton.LeftButton)
            self.assertEqual(self.window.step, name)
        QTest.keyClick(self.window.chain.steps["brief"], Qt.Key.Key_Space)
        self.assertEqual(self.window.step, "brief")
        self.window.activateWindow()
        QTest.keyClick(self.window, Qt.Key.Key_3, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.window.step, "rounded")

    def test_every_action_is_found_by_typing_and_runs(self) -> None:
        palette = self.window.actions_table.open_palette()
        QTest.keyClicks(palette.field, "arithmetic")
        self.assertEqual(palette.list.count(), 1)
        QTest.keyClick(palette.field, Qt.Key.Key_Return)
        self.assertEqual(self.window.step, "arithmetic")
        self.assertTrue(matches("show plot", "Show the whole plot"))

    def test_shortcuts_are_not_given_twice(self) -> None:
        keys = [
            action.shortcut().toString() for action in self.window.actions_table.all if action.shortcut().toString()
        ]
        self.assertEqual(len(keys), len(set(keys)))

    def test_copies_land_on_the_clipboard(self) -> None:
        clipboard = QApplication.clipboard()
        assert clipboard is not None
        self.window.ledger.copy_text()
        self.assertEqual(len(clipboard.text().splitlines()), 6)
        self.window.open_step("rounded")
        self.window.actions_table.named("Copy coefficients").trigger()
        self.assertEqual(len(clipboard.text().split()), 113)


class Collecting(unittest.TestCase):
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


class Keeping(WindowCase):
    def test_save_close_and_open_again(self) -> None:
        type_over(self.window.brief.rows[0].figures["stop"], "11k")
        self.settle()
        path = self.folder / "bats.combe"
        self.assertTrue(self.session.is_modified)
        self.assertTrue(self.window.dialogs.save_path(path))
        self.assertFalse(self.session.is_modified)
        saved = self.session.project
        self.window.actions_table.named("Open the demo").trigger()
        self.settle()
        self.assertNotEqual(self.session.project, saved)
        self.assertTrue(self.window.dialogs.open_path(path))
        self.settle()
        self.assertEqual(self.session.project, saved)
        self.assertEqual(read_project(path), saved)
        self.assertIn("bats.combe", self.window.windowTitle())

    def test_a_bad_file_leaves_everything_as_it_is(self) -> None:
        path = self.folder / "bad.combe"
        path.write_text('{"format": "combe-project"', encoding="utf-8")
        before = self.session.project
        with mock.patch.object(QMessageBox, "warning") as warning:
            self.assertFalse(self.window.dialogs.open_path(path))
        self.assertIn("line 1", warning.call_args.args[2])
        self.assertEqual(self.session.project, before)
        with mock.patch.object(QMessageBox, "warning") as warning:
            self.assertFalse(self.window.dialogs.save_path(self.folder / "none" / "x.combe"))
        warning.assert_called_once()

    def test_unsaved_work_is_kept_until_it_is_saved(self) -> None:
        from combe.app.recovery import Recovery

        recovery = Recovery(self.session, self.folder / "state")
        recovery.keep()
        self.assertFalse(recovery.keeper.path.exists())
        self.window.dialogs.rename_to("Bats at night")
        recovery.keep()
        self.assertEqual(left_behind(self.folder / "state"), [], "a living window's copy is nobody else's")
        recovery.keeper.path.with_suffix(".lock").rename(self.folder / "gone.lock")
        (left,) = left_behind(self.folder / "state")
        assert left.project is not None
        self.assertEqual((left.name, left.changes), ("Bats at night", ("rename",)))
        self.session.undo()
        self.session.take_up(left.project)
        self.assertTrue(self.session.is_modified)
        self.assertEqual(self.session.project, left.project)
        self.window.dialogs.save_path(self.folder / "p.combe")
        recovery.keep()
        self.assertFalse(recovery.keeper.path.exists())

    def test_a_copy_is_written_however_fast_changes_follow(self) -> None:
        from combe.app.recovery import Recovery

        recovery = Recovery(self.session, self.folder / "state")
        ends, count = time.monotonic() + 20, 0
        while not recovery.keeper.path.exists() and time.monotonic() < ends:
            count += 1
            self.session.edit(edits.rename(f"Bats {count}"))
            QTest.qWait(20)
        self.assertTrue(recovery.keeper.path.exists(), "20 changes a second put the copy off")
        kept = json.loads(recovery.keeper.path.read_text())
        self.assertLess(count - int(kept["project"]["name"].split()[1]), 100)
        recovery.forget()

    def test_a_file_changed_by_someone_else_is_asked_about_and_never_written_over_in_silence(self) -> None:
        dialogs, path = self.window.dialogs, self.folder / "shared.combe"
        self.assertTrue(dialogs.save_path(path))
        ours = path.read_text()
        theirs = ours.replace(json.loads(ours)["name"], "Theirs")
        path.write_text(theirs)
        self.assertEqual(self.window.watch.state, "changed")
        for _ in range(100):
            QTest.qWait(20)
            if self.window.file_bar.isVisible():
                break
        self.assertTrue(self.window.file_bar.isVisible())
        self.assertLessEqual(self.window.minimumSizeHint().width(), 1180)
        dialogs.rename_to("Mine")
        with mock.patch("combe.app.dialogs.QMessageBox.exec"):
            self.assertFalse(dialogs.save_path(path))
        self.assertEqual(path.read_text(), theirs)
        self.window.file_bar.answered.emit("mine")
        self.assertTrue(dialogs.save_path(path))
        self.assertEqual(read_project(path).name, "Mine")
        path.write_text(theirs)
        self.window.file_bar.answered.emit("theirs")
        self.assertEqual(self.session.project.name, "Theirs")
        path.unlink()
        self.assertEqual(self.window.watch.state, "deleted")
        self.window.watch.look()
        self.assertIn("no longer", self.window.file_bar.words.text())
        self.window.file_bar.answered.emit("mine")
        self.assertTrue(path.exists())

    def test_closing_with_unsaved_work_asks(self) -> None:
        type_over(self.window.brief.rows[0].figures["stop"], "11k")
        with mock.patch.object(QMessageBox, "question", return_value=QMessageBox.StandardButton.Cancel) as question:
            self.assertFalse(self.window.close())
        question.assert_called_once()

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_export_and_prove(self) -> None:
        self.window.open_step("code")
        self.assertIn("calls_run", self.window.code_view.text.toPlainText())
        self.assertTrue(self.window.dialogs.export_to(self.folder / "c"))
        self.assertTrue((self.folder / "c" / "calls.c").exists())
        QTest.mouseClick(self.window.code.prove, Qt.MouseButton.LeftButton)
        self.settle()
        self.assertEqual(states(self.session)["code"].margin, "identical")
        self.assertTrue(self.window.ledger.ledger.words(0, 5)[0])
        path = self.folder / "p.combe"
        self.window.dialogs.save_path(path)
        type_over(self.window.brief.rows[0].figures["stop"], "11k")
        self.settle()
        self.assertEqual(states(self.session)["code"].verdict, "unknown")
        self.session.saved = self.session.project
        self.window.dialogs.open_path(path)
        self.settle()
        self.assertEqual(states(self.session)["code"].margin, "identical")
        # A folder below the project's is told relative to it, wherever the project is saved.
        self.assertEqual(self.session.project.export_folder, "c")
        (self.folder / "sub").mkdir()
        self.window.dialogs.save_path(self.folder / "sub" / "q.combe")
        self.assertEqual(self.session.project.export_folder, str(self.folder / "c"))
        self.window.dialogs.save_path(path)
        self.assertEqual(read_project(path).export_folder, "c")

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_choices_of_code_change_its_text(self) -> None:
        window = self.window
        window.open_step("code")
        panel, view = window.code, window.code_view
        panel.boxes["history"].setCurrentText("double")
        panel.boxes["history"].activated.emit(1)
        self.settle()
        self.assertEqual(self.session.project.code.history, "double")
        self.assertIn("kept twice", view.text.toPlainText())
        for key, words in (("converter_in", "12"), ("converter_out", "12@2000")):
            panel.texts[key].setFocus()
            panel.texts[key].selectAll()
            QTest.keyClicks(panel.texts[key], words)
            QTest.keyClick(panel.texts[key], Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.session.project.code.converter_out, "12@2000")
        self.assertIn("calls_run_codes", view.text.toPlainText())
        panel.boxes["number"].setCurrentText("single")
        panel.boxes["number"].activated.emit(1)
        self.settle()
        self.assertEqual(self.session.project.code.converter_in, "")
        self.assertIn("as real values", view.text.toPlainText())
        window.dialogs.save_path(self.folder / "p.combe")
        self.assertEqual(read_project(self.folder / "p.combe").code, self.session.project.code)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_changes_since_the_last_export_are_shown(self) -> None:
        view = self.window.code_view
        self.window.open_step("code")
        self.window.dialogs.export_to(self.folder / "c")
        view.changes.setChecked(True)
        view.open_file(1)
        self.assertIn("Nothing has changed", view.text.toPlainText())
        self.session.change(replace(self.session.project, code_name="bats"), "name")
        self.settle()
        self.assertIn("isn't there", view.text.toPlainText())
        self.session.change(
            replace(self.session.project, code_name="calls", code=replace(self.session.project.code, unroll=4)),
            "unroll",
        )
        self.settle()
        self.assertIn("+    CALLS_UNROLL(2)", view.text.toPlainText())

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_the_measured_response_is_drawn_after_a_proof(self) -> None:
        page = self.window.code_view.page("measured")
        self.window.open_step("code")
        self.window.code_view.open_page("measured")
        self.assertIn("Prove the code", page.words.text())
        self.session.prove()
        self.settle()
        self.assertIsNotNone(page.heard)
        self.assertIn("1023 frequencies", page.words.text())
        self.assertTrue(all(item.isVisible() for item in page.found))

    def test_the_table_follows_its_recipe(self) -> None:
        page = self.window.code_view.page("table")
        self.window.open_step("code")
        self.window.code_view.open_page("table")
        self.settle()
        self.assertIn("static const int16_t calls[113]", page.text.toPlainText())
        page.half.click()
        self.settle()
        self.assertIn("calls[57]", page.text.toPlainText())
        QTest.keyClicks(page.texts["value"], "L")
        self.settle()
        self.assertIn("124L, -52L", page.text.toPlainText())
        page.save_path(str(self.folder / "own.json"))
        self.session.undo()
        self.settle()
        page.open_path(str(self.folder / "own.json"))
        self.settle()
        self.assertIn("124L, -52L", page.text.toPlainText())
        page.open_path(str(self.folder / "none.json"))
        self.assertIn("no recipe and no file", page.trouble.text())
        page.gallery.setCurrentIndex(4)
        page.gallery.activated.emit(4)
        self.settle()
        self.assertEqual(len(json.loads(page.text.toPlainText())), 113)
        self.window.dialogs.save_path(self.folder / "p.combe")
        self.assertEqual(read_project(self.folder / "p.combe").recipe, self.session.project.recipe)

    @unittest.skipUnless(shutil.which("qemu-system-arm") and shutil.which("arm-none-eabi-gcc"), "no emulator")
    @in_campaign
    def test_the_budget_counts_and_follows_the_clock(self) -> None:
        page = self.window.code_view.page("budget")
        self.window.open_step("code")
        self.window.code_view.open_page("budget")
        with mock.patch("combe.project.proving.BUDGET_TAPS", (16,)):
            page.measure.click()
            self.settle()
            shares = [row.share for row in page.rows if row.variant == "integer" and not row.taps]
            self.assertEqual(len(shares), 4)
            self.assertEqual({row.taps for row in page.rows}, {0, 16})
            page.clock.setText("160")
            page.clock.editingFinished.emit()
            self.settle()
        again = [row.share for row in page.rows if row.variant == "integer" and not row.taps]
        for before, after in zip(shares, again):
            self.assertAlmostEqual(after, before / 2)
        page.clock.setText("fast")
        page.clock.editingFinished.emit()
        self.assertIn("not a clock", page.words.text())

    @unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
    def test_a_circuit_is_chosen_drawn_and_proved(self) -> None:
        window, view, panel = self.window, self.window.code_view, self.window.code
        window.open_step("code")
        panel.boxes["language"].setCurrentText("verilog")
        panel.boxes["language"].activated.emit(2)
        self.settle()
        self.assertEqual(view.package.files[0].name if view.package else "", "calls.v")
        self.assertEqual(view.offered, ["table", "path", "cost", "capture", "together", "waves"])
        self.assertTrue(
            panel.form.isRowVisible(panel.architecture) and not panel.form.isRowVisible(panel.boxes["history"])
        )
        view.open_page("path")
        self.settle()
        self.assertIn("serial, chosen by itself", view.page("path").words.text())
        QTest.mouseClick(view.page("path").buttons["folded"], Qt.MouseButton.LeftButton)
        self.settle()
        self.assertEqual(self.session.project.hardware.architecture, "folded")
        self.assertIn("56 multipliers", view.page("path").words.text())
        self.assertFalse(view.page("path").grab().isNull())
        for architecture in ("multiplierless", "serial"):
            view.page("path").buttons[architecture].click()
            self.settle()
            self.assertTrue(view.page("path").view.diagram and view.page("path").view.diagram.shapes)
            self.assertFalse(view.page("path").grab().isNull())
        view.open_page("cost")
        self.assertEqual(next(row.architecture for row in view.page("cost").rows if row.is_possible), "parallel")
        self.assertFalse(view.page("cost").grab().isNull())
        panel.hardware_fields["clock_hz"].setFocus()
        QTest.keyClicks(panel.hardware_fields["clock_hz"], "10")
        QTest.keyClick(panel.hardware_fields["clock_hz"], Qt.Key.Key_Return)
        self.settle()
        view.open_file(0)
        self.assertIn("semi-parallel with", view.text.toPlainText())
        view.open_page("cost")
        view.page("cost").table.cellClicked.emit(1, 0)
        self.settle()
        self.assertEqual(self.session.project.hardware.architecture, "transposed")
        window.dialogs.save_path(self.folder / "p.combe")
        self.assertEqual(read_project(self.folder / "p.combe").hardware, self.session.project.hardware)
        if not IS_CAMPAIGN:
            return  # every language is proved in a window by test_sizes, every day
        with mock.patch.dict(
            languages.BY_NAME, {"verilog": replace(languages.BY_NAME["verilog"], tools=("iverilog",))}
        ):
            self.session.prove()
            self.settle()
        self.assertEqual(states(self.session)["code"].margin, "identical")
        view.open_page("waves")
        self.assertEqual([wave.name for wave in view.page("waves").waves][:2], ["clk", "rst"])
        self.assertFalse(view.page("waves").grab().isNull())

    def test_a_name_that_cannot_stand_in_code_is_told(self) -> None:
        self.window.open_step("code")
        field: QWidget = self.window.code.name
        field.setFocus()
        self.window.code.name.selectAll()
        QTest.keyClicks(field, "int")
        self.assertIn("means something else in C", self.window.code.complaint.text())
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual(self.session.project.code_name, "calls")
        self.window.code.name.selectAll()
        QTest.keyClicks(field, "bats")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual(self.session.project.code_name, "bats")


class Background(unittest.TestCase):
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
