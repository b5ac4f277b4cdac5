"""The real window, off screen, driven by mouse and keys."""

from __future__ import annotations

from unittest import mock

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from combe.app.plots.magnitude import snapped
from combe.app.states import states
from combe.app.theme.palette import THEME
from combe.app.widgets.action_palette import matches
from combe.project.demo import demo_project
from combe.project.document import STEPS, DesignChoice
from combe.requirement.presets import SHAPES
from combe.values import replace
from tests.support import fewer_vectors, some
from tests.window_case import WindowCase, drag, type_over

setUpModule = fewer_vectors


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
