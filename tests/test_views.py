"""Views under the hand: roots dragged, variants pinned, cursors, a second view, tables copied, figures saved."""

from __future__ import annotations

import cmath
import tempfile
import threading
import time
import unittest
import unittest.mock
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QImage, QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton

from combe.app.jobs import Errand
from combe.app.pages.magnitude import MagnitudePage
from combe.app.pages.register import PLOTS, placed
from combe.app.plots import others
from combe.app.plots.roots import RootsPlot, gain_at
from combe.filters import Fir, Roots
from combe.filters.by_hand import marks_of
from combe.project.demo import wake_up_project
from combe.project.document import DesignChoice
from combe.values import replace
from tests.support import in_campaign
from tests.window_case import WindowCase


def drag(widget: RootsPlot, start: complex, stop: complex) -> None:
    """Press, move in three steps, let go."""
    first, last = widget.to_pixel(start), widget.to_pixel(stop)
    QTest.mousePress(widget, Qt.MouseButton.LeftButton, pos=first.toPoint())
    for share in (0.3, 0.7, 1.0):
        QTest.mouseMove(widget, (first + (last - first) * share).toPoint())
    QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=last.toPoint())


class Plane(unittest.TestCase):
    def setUp(self) -> None:
        self.plane = RootsPlot()
        self.plane.resize(500, 500)
        self.plane.show()
        self.edits: list[tuple[Roots, str, str]] = []
        self.said: list[str] = []
        self.plane.edited.connect(self._take)
        self.plane.told.connect(self.said.append)
        self.show_roots(Roots((1j, -1j), (0.5 + 0.5j, 0.5 - 0.5j), 1.0))

    def show_roots(self, roots: Roots, unlocked: bool = True) -> None:
        self.plane.show_roots(roots, unlocked, 48_000.0, "hz")

    def _take(self, roots: Roots, what: str, gesture: str) -> None:
        self.edits.append((roots, what, gesture))
        if self.plane.held is None:
            self.show_roots(roots)

    def test_a_pole_is_dragged_with_its_conjugate_and_its_figures_are_told(self) -> None:
        drag(self.plane, 0.5 + 0.5j, 0.2 + 0.7j)
        roots, what, _ = self.edits[-1]
        self.assertEqual(what, "move a pole")
        self.assertAlmostEqual(abs(max(roots.poles, key=lambda p: p.imag) - (0.2 + 0.7j)), 0, delta=0.01)
        self.assertAlmostEqual(abs(roots.poles[0] - roots.poles[1].conjugate()), 0)
        self.assertRegex(next(text for text in reversed(self.said) if text), r"pole: radius .*, angle .*kHz, Q ")

    def test_a_pole_cannot_leave_the_circle_unsaid(self) -> None:
        drag(self.plane, 0.5 + 0.5j, 0.9 + 0.9j)
        self.assertLess(max(abs(p) for p in self.edits[-1][0].poles), 1)
        self.assertTrue(any("held just inside" in text for text in self.said))

    def test_zeros_snap_to_the_circle(self) -> None:
        drag(self.plane, 1j, 0.99 * cmath.exp(1j))
        self.assertAlmostEqual(abs(self.edits[-1][0].zeros[0]), 1, places=12)

    def test_tools_add_and_keys_move_and_remove(self) -> None:
        self.plane.tool = "zero"
        QTest.mouseClick(self.plane, Qt.MouseButton.LeftButton, pos=self.plane.to_pixel(-0.5 + 0.5j).toPoint())
        self.assertEqual(len(self.edits[-1][0].zeros), 4)
        self.plane.tool = "move"
        QTest.keyClick(self.plane, Qt.Key.Key_Space)
        chosen = self.plane.chosen
        assert chosen is not None
        QTest.keyClick(self.plane, Qt.Key.Key_Left)
        self.assertGreater(cmath.phase(self.plane.chosen.place), cmath.phase(chosen.place))  # type: ignore[union-attr]
        QTest.keyClick(self.plane, Qt.Key.Key_Delete)
        self.assertEqual(len(self.edits[-1][0].zeros), 2)

    def test_the_menu_doubles_and_removes(self) -> None:
        mark = next(m for m in marks_of(self.plane.roots) if m.kind == "pole" and m.place.imag > 0)
        menu = self.plane.menu_of(mark)
        actions = {action.text(): action for action in menu.actions()}
        actions["Double this pole"].trigger()
        self.assertEqual(len(self.edits[-1][0].poles), 4)

    def test_nothing_moves_before_it_is_unlocked(self) -> None:
        self.show_roots(self.plane.roots, False)
        wanted: list[bool] = []
        self.plane.unlock_wanted.connect(lambda: wanted.append(True))
        drag(self.plane, 0.5 + 0.5j, 0.2 + 0.7j)
        self.assertEqual((self.edits, len(wanted)), ([], 1))

    def test_zoom_keeps_the_place_under_the_pointer(self) -> None:
        place = self.plane.to_place(QPointF(300, 200))
        from PyQt6.QtGui import QWheelEvent

        event = QWheelEvent(
            QPointF(300, 200), QPointF(300, 200), QPoint(), QPoint(0, 240), Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        self.plane.wheelEvent(event)
        self.assertAlmostEqual(abs(self.plane.to_place(QPointF(300, 200)) - place), 0, places=9)
        self.plane.go_home()
        self.assertFalse(self.plane.grab().isNull())

    def test_the_distances_drawn_make_the_gain(self) -> None:
        self.assertAlmostEqual(gain_at(Roots((-1 + 0j,), (0j,), 0.5), 0.0, 2.0), 1.0)


class Views(WindowCase):
    def test_roots_are_unlocked_moved_undone_and_taken_down_the_chain(self) -> None:
        self.session.replace_with(wake_up_project(), None)
        self.settle()
        self.window.plots.open_tab("roots")
        page = self.window.plots.page("roots")
        QTest.mouseClick(page.unlock, Qt.MouseButton.LeftButton)
        self.settle()
        self.assertEqual(self.session.project.design.method, "given")
        before = self.session.project.design.given
        assert isinstance(before, Roots)
        pole = max(before.poles, key=lambda p: p.imag)
        drag(page.plane, pole, pole * 0.9)
        self.settle()
        after = self.session.project.design.given
        assert isinstance(after, Roots)
        self.assertNotEqual(after, before)
        self.assertIsNotNone(self.session.results.rounded)
        self.window.actions_table.undo.trigger()
        self.assertEqual(self.session.project.design.given, before, "a whole drag is one step of undo")

    def test_a_notch_is_two_clicks_on_an_empty_plane(self) -> None:
        self.window.plots.open_tab("roots")
        page = self.window.plots.page("roots")
        page.empty.click()
        self.settle()
        for tool, place in (("zero", cmath.exp(0.8j)), ("pole", 0.9 * cmath.exp(0.8j))):
            page.tools[tool].click()
            QTest.mouseClick(page.plane, Qt.MouseButton.LeftButton, pos=page.plane.to_pixel(place).toPoint())
            self.settle()
        roots = self.session.project.design.given
        assert isinstance(roots, Roots)
        self.assertEqual((len(roots.zeros), len(roots.poles)), (2, 2))
        self.assertAlmostEqual(abs(roots.zeros[0]), 1, places=12)

    def test_pinned_variants_are_drawn_named_and_toggled_with_a_key(self) -> None:
        self.window.actions_table.named("Pin this filter").trigger()
        self.window.contenders.picked.emit(DesignChoice("least-squares"))
        self.settle()
        names = [curve.name for curve in self.window.plots.scene.curves]
        self.assertIn("equiripple, 113 taps", names)
        self.assertTrue(next(c for c in self.window.plots.scene.curves if c.is_pin).dashed)
        self.window.plots.open_tab("level")
        self.window.plots.mode.setCurrentText("difference to pin")
        self.window.plots.mode.activated.emit(2)
        self.assertEqual(len(self.window.plots.page("level").side._drawn()), 2)
        self.window.actions_table.named("Show or hide pin 1").trigger()
        self.settle()
        self.assertNotIn("equiripple, 113 taps", [curve.name for curve in self.window.plots.scene.curves])
        self.window.actions_table.named("Unpin all").trigger()
        self.assertEqual(self.session.project.pins, ())

    def test_two_cursors_tell_their_difference_and_jump(self) -> None:
        plot = self.window.plots.magnitude
        for kind in ("half power", "second", "extreme"):
            plot.jump(kind)
        self.assertEqual(set(plot.cursors), {"first", "second"})
        self.assertIn("between them", plot.cursor_words.text())
        place = QPoint(plot.main.width() // 2, plot.main.height() // 2)
        QTest.mousePress(plot.main.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier, place)
        self.assertAlmostEqual(plot.cursors["first"] / 62_500, 1, delta=0.2)
        plot.jump("clear")
        self.assertFalse(plot.cursor_words.isVisible())

    def test_a_second_view_shares_the_frequency_axis(self) -> None:
        panel = self.window.plots
        panel.show_below("delay below")
        second = panel.page("magnitude").second["delay"]
        self.assertTrue(second.isVisible())
        panel.magnitude.main.show_around(30_000, 10_000)
        QApplication.processEvents()
        (left, right), _ = second.view.viewRange()
        self.assertAlmostEqual((left + right) / 2, 30_000, delta=300)
        panel.show_below("loupe alone")
        self.assertFalse(second.isVisible())
        self.assertTrue(panel.magnitude.loupe.isVisible())

    def test_what_a_second_view_draws_is_worked_out_off_the_interface_thread(self) -> None:
        threads: list[int] = []
        really = others.view_points

        def watched(*what: object) -> object:
            threads.append(threading.get_ident())
            return really(*what)  # type: ignore[arg-type]

        self.settle()
        with unittest.mock.patch.object(others, "view_points", watched):
            self.window.plots.open_tab("delay")
            self.settle()
        side = self.window.plots.page("delay").side
        self.assertEqual(len(threads), len(self.window.plots.scene.curves))
        self.assertNotIn(threading.get_ident(), threads)
        for stroke in side._items:
            np.testing.assert_allclose(stroke.y, 56.0, atol=1e-6, err_msg="113 symmetric taps")
        with unittest.mock.patch.object(others, "view_points", watched):
            side.show_all(self.session.project.requirement, self.window.plots.scene.curves)
        self.assertEqual(len(threads), len(self.window.plots.scene.curves), "what is known is not worked out again")

    def test_of_errands_that_wait_only_the_newest_is_done(self) -> None:
        errand, gate = Errand(), threading.Event()
        arrived: list[object] = []
        errand.arrived.connect(arrived.append)
        errand.send(lambda: gate.wait(10))
        for number in range(5):
            errand.send(lambda number=number: number)  # type: ignore[misc]
        gate.set()
        end = time.monotonic() + 10
        while len(arrived) < 2 and time.monotonic() < end:
            QApplication.processEvents()
        self.assertEqual(arrived, [True, 4])
        with unittest.mock.patch("combe.app.jobs.log_failure") as told:
            errand.send(lambda: 1 // 0)
            errand.send(lambda: 7)
            while len(arrived) < 3 and time.monotonic() < end:
                QApplication.processEvents()
        told.assert_called_once()
        self.assertEqual(arrived[2:], [7])

    def test_a_logarithmic_axis_keeps_edges_under_the_hand(self) -> None:
        log = self.window.actions_table.named("Logarithmic frequency axis")
        log.trigger()
        plot = self.window.plots.magnitude
        handle = next(h for h in plot._handles if h.band == 0 and h.kind == "stop")
        self.assertAlmostEqual(10 ** handle.pos().x(), 12_000, places=3)
        plot._on_moved(handle, 4.0, -60.0)
        self.settle()
        self.assertAlmostEqual(self.session.project.requirement.bands[0].stop_hz, 10_000, delta=50)
        strings = plot.axis.tickStrings([4.0, 5.0], 1, 1)
        self.assertEqual(strings, ["10", "100"])
        self.assertTrue(plot.axis.tickValues(3.0, 5.0, 500)[0][1])
        for tab in ("phase", "delay", "level", "magnitude"):
            self.window.plots.open_tab(tab)
            self.assertFalse(self.window.plots.grab().isNull())
            self.assertTrue(self.window.plots.current_plot.frequency_axis.is_log, tab)
        log.trigger()
        self.window.plots.open_tab("phase")
        self.assertFalse(self.window.plots.current_plot.frequency_axis.is_log, "what wasn't seen follows when it is")
        log.trigger()
        self.window.plots.open_tab("magnitude")
        self.assertTrue(plot.axis.is_log)
        plot.jump("half power")
        log.trigger()
        handle = next(h for h in plot._handles if h.band == 0 and h.kind == "stop")
        self.assertAlmostEqual(handle.pos().x(), self.session.project.requirement.bands[0].stop_hz)

    def test_a_second_view_stays_where_the_main_plot_was_zoomed_to(self) -> None:
        main = self.window.plots.magnitude.main
        main.show_around(30_000, 8000)
        for words in ("delay below", "phase below", "loupe alone"):
            self.window.plots.show_below(words)
            self.settle()
            (left, right), _ = main.view.viewRange()
            self.assertEqual((round(left), round(right)), (26_000, 34_000), words)
        self.window.plots.show_below("delay below")
        page = self.window.plots.page("magnitude")
        assert isinstance(page, MagnitudePage)
        page.second["delay"].set_home(0, 125_000, -1, 40)
        (left, right), _ = main.view.viewRange()
        self.assertEqual((round(left), round(right)), (26_000, 34_000))

    def test_a_whole_band_is_moved_and_figures_are_typed_from_the_plot(self) -> None:
        plot = self.window.plots.magnitude
        handle = next(h for h in plot._handles if h.band == 1 and h.kind == "start")
        handle.is_whole = True
        plot._on_moved(handle, 20_000, 0.0)
        self.window.session.end_gesture()
        self.settle()
        band = self.session.project.requirement.bands[1]
        self.assertEqual((band.start_hz, band.stop_hz), (20_000, 112_000))
        plot._on_moved(handle, 60_000, 0.0)
        band = self.session.project.requirement.bands[1]
        self.assertLessEqual(band.stop_hz, 118_000, "it stops at its neighbor")
        self.window.session.end_gesture()
        self.settle()
        self.window.activateWindow()
        handle.typing_wanted.emit()
        figure = self.window.brief.rows[1].figures["start"]
        self.assertEqual(figure.selectedText(), figure.text())

    def test_every_view_draws_and_tables_copy(self) -> None:
        clipboard = QApplication.clipboard()
        assert clipboard is not None
        for tab in (entry.name for entry in placed(PLOTS)):
            self.window.plots.open_tab(tab)
            self.assertFalse(self.window.grab().isNull(), tab)
        self.window.plots.open_tab("measures")
        for _ in range(1000):
            QApplication.processEvents()
            if not self.window.plots.current_page.is_working:
                break
            time.sleep(0.01)
        self.window.plots.mode.activated.emit(3)
        self.assertIn("| --- | --- | --- |", clipboard.text())
        self.assertIn("| noise bandwidth |", clipboard.text())
        self.window.plots.open_tab("numbers")
        self.window.plots.mode.activated.emit(2)
        rows = clipboard.text().splitlines()
        self.assertIn('"hexadecimal"', rows[0])
        self.assertEqual(len(rows), 114)
        self.window.plots.open_tab("formula")
        self.assertIn("z⁻¹¹²", self.window.plots.page("formula").text.toPlainText())

    def test_figures_for_papers(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for ending, head in ((".svg", b"<?xml"), (".pdf", b"%PDF"), (".png", b"\x89PNG")):
                path = Path(folder) / f"figure{ending}"
                self.assertTrue(self.window.dialogs.figure_to(path))
                self.assertTrue(path.read_bytes().startswith(head))
                self.assertGreater(path.stat().st_size, 3000)
            self.assertFalse(QImage(str(Path(folder) / "figure.png")).isNull())
            with unittest.mock.patch("combe.app.dialogs.QMessageBox.warning") as warned:
                self.assertFalse(self.window.dialogs.figure_to(Path(folder) / "figure.doc"))
            self.assertIn(".svg", warned.call_args[0][2])

    def test_pins_are_saved_with_the_project(self) -> None:
        self.window.pin()
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "p.combe"
            self.session.save(path)
            self.session.open(path)
        self.assertEqual(len(self.session.project.pins), 1)
        self.assertIsInstance(self.session.project.pins[0].filter, Fir)


class Arithmetic(WindowCase):
    """Noise, widths and remedies, on an IIR."""

    def setUp(self) -> None:
        super().setUp()
        project = wake_up_project()
        choices = replace(
            project.arithmetic, structure="transposed-2", state_bits=14, overflow="wrap", scaling="peak", input="s16f15"
        )
        self.window.replace_project(replace(project, arithmetic=choices), None)
        self.settle()

    def test_noise_as_predicted_and_measured_margins_proved_widths_typed(self) -> None:
        plots = self.window.plots
        plots.open_tab("noise")
        self.settle()
        heard = plots.page("noise").heard
        assert heard is not None
        self.assertLess(abs(10 * np.log10(heard.measured.power / heard.predicted.power)), 0.5)
        self.assertIn("Signal to noise", plots.page("noise").words.text())
        plots.mode.activated.emit(3)
        self.settle()
        assert plots.page("noise").heard is not None
        self.assertEqual(plots.page("noise").heard.signal, "night recording")
        self.window.dress("dark")
        self.window.dress("light")
        self.check_the_ledger()
        self.check_typing()

    def test_a_cell_of_the_map_is_taken_by_a_click_and_by_the_keyboard(self) -> None:
        plots = self.window.plots
        plots.open_tab("trade")
        self.settle()
        page = plots.page("trade")
        key = (page.map.orders[-1], 12)
        spot, no = page.map.box(*key).center(), Qt.MouseButton.NoButton
        # Sent to the map itself: where the pointer of the machine was left by other tests doesn't matter.
        moved = QMouseEvent(QEvent.Type.MouseMove, spot, spot, no, no, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(page.map, moved)
        self.assertIn("12 bits", page.under.text())
        QTest.mouseClick(page.map, Qt.MouseButton.LeftButton, pos=page.map.box(*key).center().toPoint())
        self.settle()
        project = self.session.project
        self.assertEqual((project.design.order, project.arithmetic.coefficient_bits), key)
        self.assertEqual(page.map.chosen, key)
        page.map.setFocus()
        for stroke in (Qt.Key.Key_Left, Qt.Key.Key_Up, Qt.Key.Key_Return):
            QTest.keyClick(page.map, stroke)
        self.settle()
        self.assertEqual(self.session.project.arithmetic.coefficient_bits, 13)
        self.assertIn("clipboard", page.copy())
        self.session.undo()
        self.session.undo()

    @in_campaign
    def test_a_point_of_the_chart_is_taken_by_a_click(self) -> None:
        plots = self.window.plots
        plots.open_tab("widths")
        self.settle()
        page = plots.page("widths")
        self.assertIn("lattice", page.structures)
        wanted = next(p for p in page.margin.points if p[:2] == ("coupled", 14))
        box = page.margin.view
        pixel = page.margin.mapFromScene(box.mapViewToScene(QPointF(float(wanted[1]), wanted[2])))
        QTest.mouseMove(page.margin.viewport(), pixel)
        QTest.mouseClick(page.margin.viewport(), Qt.MouseButton.LeftButton, pos=pixel)
        self.settle()
        choices = self.session.project.arithmetic
        self.assertEqual(choices.coefficient_bits, 14)
        self.assertTrue(self.session.results.rounded is not None)
        page.take("lattice", 20, True)
        self.settle()
        self.assertEqual(self.session.project.arithmetic.state_bits, 20)
        assert self.session.results.rounded is not None
        self.assertEqual(self.session.results.rounded.realization.structure, "lattice")
        self.session.undo()
        self.assertNotEqual(self.session.project.arithmetic.state_bits, 20)

    def test_dangers_are_mended_by_their_buttons(self) -> None:
        facts = self.window.arithmetic.facts
        self.window.open_step("arithmetic")
        self.assertEqual(facts.shown[0].severity, "danger")
        button = facts.findChildren(QPushButton)[0]
        button.click()
        self.settle()
        self.assertEqual(self.session.project.arithmetic.scaling, "l1")
        self.assertFalse(any("can wrap around" in fact.sentence for fact in facts.shown))
        self.assertTrue(any("moves most" in fact.sentence for fact in self.window.rounded.dangers.shown))

    def check_the_ledger(self) -> None:
        ledger = self.window.ledger.ledger
        line = ledger.line(0, 3)
        assert line is not None
        self.assertIsNotNone(line.within_db)
        self.assertIn("proved", str(ledger.data(ledger.index(0, 3), Qt.ItemDataRole.ToolTipRole)))
        self.assertIsNone(ledger.line(0, 4).within_db)  # type: ignore[union-attr]

    def check_typing(self) -> None:
        panel = self.window.arithmetic
        field = panel.fields["state_bits"]
        field.setText("wide")
        field.setModified(True)
        field.textEdited.emit("wide")
        field.editingFinished.emit()
        self.assertIn("no width", panel.complaint.text())
        self.assertEqual(self.session.project.arithmetic.state_bits, 14)
        field.setText("22")
        field.setModified(True)
        field.textEdited.emit("22")
        field.editingFinished.emit()
        self.assertEqual(self.session.project.arithmetic.state_bits, 22)
        panel.feedback.click()
        self.settle()
        self.assertTrue(self.session.project.arithmetic.error_feedback)

    def test_a_pole_that_moves_out_is_told_with_its_remedy(self) -> None:
        asked = self.session.project
        sharp = replace(asked, arithmetic=replace(asked.arithmetic, coefficient_bits=4))
        self.session.change(sharp, "few bits")
        self.settle()
        told = self.window.arithmetic.facts.shown
        self.assertIn("pole", told[0].sentence)
        self.assertIsNotNone(told[0].remedy)
        self.window.open_step("rounded")
        self.window.rounded.dangers.findChildren(QPushButton)[0].click()
        self.settle()
        self.assertIsNotNone(self.session.results.rounded)
