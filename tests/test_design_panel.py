"""The design sentence, contenders, Hankel values, coefficients by hand and turned briefs, on the real widgets."""

from __future__ import annotations

import unittest

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from combe.app.widgets.brief_panel import price_words
from combe.app.widgets.design_bar import DesignBar
from combe.app.widgets.hand_dialog import HandDialog
from combe.app.widgets.hankel_chart import HankelChart
from combe.designing.moves import Figure
from combe.designing.prices import Price
from combe.filters import Fir
from combe.project import edits
from combe.project.demo import fresh_project
from combe.project.document import DesignChoice
from combe.values import replace
from tests.support import LOWPASS
from tests.window_case import WindowCase


class Bar(unittest.TestCase):
    def setUp(self) -> None:
        self.bar = DesignBar()
        self.bar.resize(250, 150)
        self.bar.show()
        self.chosen: list[DesignChoice] = []
        self.bar.chosen.connect(self.chosen.append)

    def show(self, choice: DesignChoice) -> None:
        self.bar.show_choice(choice, LOWPASS, 52, "hz")

    def type(self, figure: object, text: str) -> None:
        assert figure is not None
        figure.setFocus()  # type: ignore[attr-defined]
        figure.selectAll()  # type: ignore[attr-defined]
        QTest.keyClicks(figure, text)  # type: ignore[arg-type]
        QTest.keyClick(figure, Qt.Key.Key_Return)  # type: ignore[arg-type]

    def test_the_sentence_shows_the_choice(self) -> None:
        self.show(DesignChoice())
        self.assertEqual(self.bar.order.text(), "least order (52)")
        self.assertFalse(self.bar.settings["ripple_db"].isVisible())
        self.show(DesignChoice("equiripple", holds_with_bits=14))
        self.assertEqual(self.bar.order.text(), "least order (52) with 14-bit integers")
        self.assertTrue(self.bar.least.isVisible())
        self.assertFalse(self.bar.holding.isVisible())
        self.show(DesignChoice("least-squares"))
        self.assertFalse(self.bar.cutoff.isVisible())
        self.show(DesignChoice("chebyshev", 5, cutoffs_hz=(0.3,)))
        self.assertEqual((self.bar.order.text(), self.bar.cutoff.text()), ("order 5", "0.3"))
        self.assertTrue(self.bar.settings["ripple_db"].isVisible())
        self.assertFalse(self.bar.spare.isVisible())

    def test_method_order_cutoff_and_spare_are_chosen_by_hand(self) -> None:
        self.show(DesignChoice())
        self.bar.method.setCurrentText("elliptic")
        self.bar.method.activated.emit(self.bar.method.currentIndex())
        self.assertEqual(self.chosen[-1], DesignChoice("elliptic"))
        self.show(self.chosen[-1])
        self.type(self.bar.order, "8")
        self.assertEqual(self.chosen[-1].order, 8)
        self.type(self.bar.cutoff, "0.15fs")
        self.assertEqual((self.chosen[-1].cutoffs_hz, self.chosen[-1].order), ((0.3,), 4))
        self.bar.spare.activated.emit(1)
        self.assertEqual(self.chosen[-1].spare, "stopband")
        self.show(DesignChoice("elliptic", 4, cutoffs_hz=(0.3,)))
        self.type(self.bar.settings["ripple_db"], "0.2")
        self.assertEqual(self.chosen[-1].settings, (("ripple_db", 0.2),))
        self.type(self.bar.cutoff, "limits")
        self.assertEqual((self.chosen[-1].cutoffs_hz, self.chosen[-1].order), ((), None))
        self.show(DesignChoice("elliptic", 8))
        self.type(self.bar.order, "least")
        self.assertIsNone(self.chosen[-1].order)

    def test_what_cannot_be_is_said_while_typing(self) -> None:
        said: list[str] = []
        self.bar.complained.connect(said.append)
        self.show(DesignChoice("elliptic"))
        for figure, text, words in (
            (self.bar.order, "many", "not an order"), (self.bar.cutoff, "0.1, 0.2", "one cut-off"), (self.bar.cutoff, "7", "half the sample rate"),
        ):  # fmt: skip
            figure.setFocus()
            figure.selectAll()
            QTest.keyClicks(figure, text)
            self.assertIn(words, said[-1])
            QTest.keyClick(figure, Qt.Key.Key_Escape)
        self.assertEqual(self.chosen, [])


class Small(unittest.TestCase):
    def test_hankel_values_are_picked_by_mouse_and_keys(self) -> None:
        chart = HankelChart()
        chart.resize(200, 92)
        picked: list[int] = []
        chart.order_picked.connect(picked.append)
        chart.show_values((1.0, 0.5, 0.1, 0.01), 2)
        QTest.mouseClick(chart, Qt.MouseButton.LeftButton, pos=QPoint(125, 60))
        QTest.keyClick(chart, Qt.Key.Key_Left)
        QTest.mouseMove(chart, QPoint(60, 50))
        self.assertEqual(picked, [3, 1])
        self.assertFalse(chart.grab().isNull())
        chart.show_values((), 0)
        QTest.mouseClick(chart, Qt.MouseButton.LeftButton, pos=QPoint(5, 5))
        self.assertEqual(len(picked), 2)

    def test_prices_are_told_in_the_unit_that_suits(self) -> None:
        edge = Price(Figure(0, "stop", "hz", 100.0), 160.0, 4.2)
        self.assertEqual(price_words(edge, "taps", 48_000), "right edge 26 taps per kHz")
        self.assertEqual(
            price_words(Price(Figure(0, "start", "hz", 1.0), 0.01, 2.0), "taps", 2), "left edge 2 taps per 0.01"
        )
        self.assertEqual(
            price_words(Price(Figure(1, "attenuation", "db", 60), 2.0, 2.8), "taps", 2), "attenuation 1.4 taps per dB"
        )
        self.assertEqual(price_words(Price(Figure(1, "attenuation", "db", 60), 2.0, 0.001), "taps", 2), "")

    def test_the_hand_dialog_reads_while_typing(self) -> None:
        dialog = HandDialog()
        self.assertFalse(dialog.take.isEnabled())
        dialog.text.setPlainText("1/7 x7")
        self.assertTrue(dialog.take.isEnabled())
        assert dialog.found is not None
        self.assertEqual((dialog.found.words, dialog.found.filter), ("7 taps", Fir((1 / 7,) * 7)))
        dialog.text.setPlainText("1/7 times")
        self.assertFalse(dialog.take.isEnabled())
        self.assertIn("line 1", dialog.verdict.text())
        dialog.text.setPlainText('{"sections": [[1, 0, 0, -0.5, 0]]}')
        self.assertTrue(dialog.take.isEnabled())


class InTheWindow(WindowCase):
    follows = ("relaxations",)

    def test_an_iir_method_is_designed_drawn_and_told(self) -> None:
        self.session.replace_with(fresh_project(), None)
        self.window.brief.phase.click()
        self.settle()
        self.window.contenders.picked.emit(DesignChoice("elliptic"))
        self.settle()
        assert self.session.results.ideal is not None
        self.assertEqual((self.session.results.ideal.design.kind, self.session.results.ideal.design.order), ("iir", 6))
        self.assertIn("order 5 misses", self.window.contenders.notes.text())
        self.assertIn(
            "order 6", self.window.chain.steps["ideal"].accessibleName() + self.window.contenders.bar.order.text()
        )
        for tab in ("Phase", "Delay", "Time", "Magnitude"):
            self.window.plots.open_tab(tab.lower())
            self.assertFalse(self.window.plots.grab().isNull())

    def test_prices_stand_under_each_line(self) -> None:
        self.settle()
        self.assertTrue(all(row.price.isVisibleTo(row) for row in self.window.brief.rows))
        self.assertIn("taps per kHz", self.window.brief.rows[0].price.text())

    def test_an_impossible_brief_offers_the_nearest(self) -> None:
        row = self.window.brief.whole["max_delay_s"][1]
        row.setFocus()
        row.selectAll()
        QTest.keyClicks(row, "100 us")
        QTest.keyClick(row, Qt.Key.Key_Return)
        self.settle()
        rows = self.window.contenders.relaxation_rows
        self.assertGreater(len(rows), 1)
        QTest.mouseClick(rows[0][1], Qt.MouseButton.LeftButton)
        self.settle()
        assert self.session.results.ideal is not None
        self.assertTrue(all(line.margin >= 0 for line in self.session.results.ideal.lines))
        self.window.actions_table.undo.trigger()
        self.assertAlmostEqual(self.session.project.requirement.max_delay_s or 0, 100e-6)

    def test_the_brief_is_turned_by_one_action(self) -> None:
        self.window.actions_table.named("Turn the brief: keep what is blocked").trigger()
        self.settle()
        self.assertEqual([band.is_passband for band in self.session.project.requirement.bands], [True, False, True])
        assert self.session.results.ideal is not None
        self.assertTrue(all(line.margin >= 0 for line in self.session.results.ideal.lines if line.unit == "db"))

    def test_a_cutoff_alone_is_enough_to_begin(self) -> None:
        QTest.mouseClick(self.window.start_panel.others["cutoff"], Qt.MouseButton.LeftButton)
        self.settle()
        assert self.session.results.ideal is not None
        self.assertEqual(
            (self.session.results.ideal.design.method, self.session.results.ideal.design.order), ("butterworth", 4)
        )
        self.assertEqual(self.window.contenders.bar.cutoff.text(), "18 kHz and 110 kHz")
        QTest.mouseClick(self.window.start_panel.others["turn"], Qt.MouseButton.LeftButton)
        self.settle()
        self.assertFalse(self.session.project.requirement.bands[1].is_passband)

    def test_coefficients_by_hand_become_the_design(self) -> None:
        dialog = HandDialog(self.window)
        dialog.text.setPlainText("0.25 0.5 0.25")
        self.window.dialogs.take_by_hand(dialog.found)
        self.settle()
        assert self.session.results.ideal is not None
        self.assertEqual(self.session.results.ideal.design.filter, Fir((0.25, 0.5, 0.25)))
        self.assertIn("missed", self.window.chain.steps["ideal"].accessibleName())

    def test_a_method_that_fails_leaves_the_others_in_line(self) -> None:
        self.window.contenders.picked.emit(DesignChoice("half-band"))
        self.settle()
        self.assertIn("half-band", self.window.contenders.summary.text())
        self.assertGreater(len(self.window.contenders.rows), 5)

    def test_better_integers_are_searched_at_a_click(self) -> None:
        self.session.edit(edits.ask(replace(LOWPASS, name="small"), "a small brief"))
        self.window.open_step("rounded")
        self.window.rounded.bits.setValue(12)
        self.settle()
        assert self.session.results.rounded is not None
        before = min(line.margin for line in self.session.results.rounded.lines if line.unit == "db")
        QTest.mouseClick(self.window.rounded.better, Qt.MouseButton.LeftButton)
        self.settle()
        self.assertTrue(self.session.project.arithmetic.better)
        after = min(line.margin for line in self.session.results.rounded.lines if line.unit == "db")
        self.assertGreater(after, before + 1)
