"""Each widget on its own: it shows a value and tells what the hand did."""

from __future__ import annotations

import os
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

from PyQt6.QtCore import QModelIndex, QPoint, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel, QVBoxLayout, QWidget

from combe.app.display import check_display
from combe.app.jobs import is_any_errand_out
from combe.app.pages.page import Scene
from combe.app.pages.sheet import SheetPage
from combe.app.pages.widths import WidthsPage
from combe.app.plots.axes import FrequencyAxis, Plot
from combe.app.plots.curve import Curve
from combe.app.plots.magnitude import MagnitudePlot
from combe.app.plots.others import SidePlot
from combe.app.settings import Settings
from combe.app.theme.marks import SHAPES, VERDICTS, draw_sign, draw_verdict, icon, sign_icon
from combe.app.theme.palette import DARK, LIGHT, THEME, Colors, font
from combe.app.widgets.chain_bar import ChainBar, StepState
from combe.app.widgets.code_view import CodeView
from combe.app.widgets.contender_row import ContenderRow
from combe.app.widgets.contenders_panel import ContendersPanel
from combe.app.widgets.figure import Figure
from combe.app.widgets.flow import Flow
from combe.app.widgets.ledger_table import LedgerTable
from combe.app.widgets.legend import Legend
from combe.app.widgets.parts import Row, Verdict, verdict_of, worst_verdict
from combe.app.widgets.rate_row import RateRow
from combe.app.widgets.rounded_panel import WidthChart
from combe.app.widgets.shelf import Niche
from combe.delivery.coloring import colored
from combe.designing.contenders import Contender, contenders
from combe.designing.methods import design
from combe.errors import CombeError, RequirementError, ToolError
from combe.filters import Cascade, Fir
from combe.ledger import Line, lines_of
from combe.ledger.goodness import Table
from combe.log import log_failure
from combe.project.demo import demo_project
from combe.project.document import STEPS, DesignChoice
from combe.project.results import Results
from combe.requirement.quantities import parse_frequency
from combe.requirement.rates import RateChange
from combe.responses.views import MODES
from combe.values import replace
from tests.support import BAT, LOWPASS, asked
from tests.test_delivery import bat_package

application = QApplication.instance() or QApplication(["combe"])
assert isinstance(application, QApplication)
THEME.use("light", application)


def line(margin: float, asked: float = -60, limit: str = "max_db") -> Line:
    return Line("b", 0, limit, asked, asked - margin, margin, 0.1)


def luminance(color: str) -> float:
    """Relative luminance by the web's accessibility guidelines."""
    parts = [QColor(color).redF(), QColor(color).greenF(), QColor(color).blueF()]
    linear = [p / 12.92 if p <= 0.03928 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def wait_for_errands() -> None:
    """What views have to have worked out arrives."""
    end = time.monotonic() + 60
    while is_any_errand_out() and time.monotonic() < end:
        QTest.qWait(2)
    for _ in range(3):
        QApplication.processEvents()


class OneContender(unittest.TestCase):
    def setUp(self) -> None:
        self.lines = [("53 taps · 27 multiplies · 52 words", "muted"), ("delay 104 µs · linear phase", "muted")]
        self.row = ContenderRow("equiripple", "kept", "+0.12 dB", self.lines, "held below 0.5 dB")
        self.picked: list[int] = []
        self.row.picked.connect(lambda: self.picked.append(1))

    def test_mouse_and_keyboard_pick(self) -> None:
        self.row.resize(230, self.row.height())
        QTest.mouseClick(self.row, Qt.MouseButton.LeftButton)
        QTest.mouseClick(self.row, Qt.MouseButton.RightButton)
        QTest.keyClick(self.row, Qt.Key.Key_Space)
        QTest.keyClick(self.row, Qt.Key.Key_A)
        self.assertEqual(len(self.picked), 2)
        QTest.mousePress(self.row, Qt.MouseButton.LeftButton)
        QTest.mouseRelease(self.row, Qt.MouseButton.LeftButton, pos=QPoint(300, 5))
        self.assertEqual(len(self.picked), 2)

    def test_what_is_cut_is_told(self) -> None:
        self.row.resize(400, self.row.height())
        self.assertEqual(self.row.told(), "held below 0.5 dB")
        self.row.resize(120, self.row.height())
        self.assertEqual(
            self.row.told().split("\n"), ["equiripple", *[words for words, _ in self.lines], "held below 0.5 dB"]
        )

    def test_it_never_widens_and_grows_with_its_lines(self) -> None:
        long = ContenderRow("m" * 200, "missed", "-3 dB", [("w" * 300, "clay"), *self.lines])
        self.assertLess(long.sizeHint().width(), 200)
        self.assertGreater(long.height(), self.row.height() + 8)

    def test_each_state_is_another_picture(self) -> None:
        self.row.resize(230, self.row.height())
        shots = [picture_of(self.row)]
        self.row.set_chosen(True)
        shots.append(picture_of(self.row))
        other = ContenderRow("equiripple", "missed", "+0.12 dB", self.lines)
        other.resize(self.row.size())
        shots.append(picture_of(other))
        self.assertEqual(len(set(shots)), 3)
        self.row.set_chosen(False)
        self.assertEqual(picture_of(self.row), shots[0])


def picture_of(widget: QWidget) -> bytes:
    """Its pixels."""
    image = widget.grab().toImage()
    bits = image.constBits()
    assert bits is not None
    return bytes(bits.asarray(image.sizeInBytes()))


class Look(unittest.TestCase):
    def test_text_stands_out_from_its_ground_in_both_themes(self) -> None:
        for colors in (LIGHT, DARK):
            assert isinstance(colors, Colors)
            for role in ("ink", "muted", "moss", "clay", "amber", "river"):
                for ground in (colors.card, colors.raised, colors.chalk):
                    pair = sorted((luminance(getattr(colors, role)), luminance(ground)))
                    self.assertGreaterEqual((pair[1] + 0.05) / (pair[0] + 0.05), 4.5, (role, ground))

    def test_verdicts_differ_in_shape_not_in_colour_alone(self) -> None:
        shapes = set()
        for verdict in VERDICTS:
            image = QImage(24, 24, QImage.Format.Format_Grayscale8)
            image.fill(255)
            painter = QPainter(image)
            draw_verdict(painter, verdict, QRectF(4, 4, 16, 16))
            painter.end()
            dark = {(x, y) for x in range(24) for y in range(24) if image.pixelColor(x, y).lightness() < 200}
            self.assertTrue(dark)
            shapes.add(frozenset(dark))
        self.assertEqual(len(shapes), len(VERDICTS))

    def test_every_icon_is_drawn(self) -> None:
        for name in SHAPES:
            self.assertFalse(icon(name).isNull())
        self.assertFalse(sign_icon().isNull())
        image = QImage(64, 64, QImage.Format.Format_ARGB32)
        painter = QPainter(image)
        draw_sign(painter, 64)
        painter.end()
        self.assertEqual(image.pixelColor(8, 40).name().upper(), "#2E6A43")

    def test_figures_are_of_equal_width(self) -> None:
        from PyQt6.QtGui import QFontMetricsF

        metrics = QFontMetricsF(font())
        widths = {round(metrics.horizontalAdvance(digit * 10), 3) for digit in "0123456789"}
        self.assertEqual(len(widths), 1)


class Parts(unittest.TestCase):
    def test_verdicts_follow_the_margin(self) -> None:
        self.assertEqual(verdict_of(line(-0.001)), "missed")
        self.assertEqual(verdict_of(line(0.1)), "close")
        self.assertEqual(verdict_of(line(1.0)), "kept")
        self.assertEqual(verdict_of(line(0.001, 0.1)), "close")
        self.assertEqual(verdict_of(line(0.01, 0.1)), "kept")
        self.assertEqual(worst_verdict((line(1), line(0.1), line(-1))), "missed")
        self.assertEqual(worst_verdict(()), "unknown")

    def test_a_row_is_picked_by_mouse_and_by_keys(self) -> None:
        row = Row()
        row.resize(100, 40)
        picked: list[int] = []
        row.picked.connect(lambda: picked.append(1))
        QTest.mouseClick(row, Qt.MouseButton.LeftButton)
        QTest.keyClick(row, Qt.Key.Key_Space)
        QTest.keyClick(row, Qt.Key.Key_A)
        self.assertEqual(len(picked), 2)

    def test_words_flow_into_lines(self) -> None:
        box = QWidget()
        flow = Flow(box, 4)
        for word in ("Keep", "18 kHz", "to", "110 kHz", "at", "±0.1 dB"):
            flow.addWidget(QLabel(word))
        self.assertGreater(flow.heightForWidth(80), flow.heightForWidth(800))
        self.assertEqual(flow.count(), 6)
        box.resize(90, 200)
        box.show()
        application.processEvents()
        places = [flow.itemAt(k).geometry() for k in range(6)]  # type: ignore[union-attr]
        self.assertTrue(all(place.right() <= 90 for place in places))
        self.assertFalse(any(a.intersects(b) for i, a in enumerate(places) for b in places[i + 1 :]))
        self.assertIsNotNone(flow.takeAt(0))
        self.assertIsNone(flow.itemAt(9))
        box.close()

    def test_a_verdict_names_itself_for_readers(self) -> None:
        mark = Verdict()
        mark.show_verdict("close")
        self.assertEqual(mark.accessibleName(), "close")


class Figures(unittest.TestCase):
    def setUp(self) -> None:
        self.typed: list[str] = []
        self.said: list[str] = []
        self.figure = Figure(lambda text: parse_frequency(text, 48_000), "edge")
        self.figure.typed.connect(self.typed.append)
        self.figure.complained.connect(self.said.append)
        self.figure.show_text("12 kHz")
        self.figure.show()
        self.figure.activateWindow()
        self.figure.setFocus()
        application.processEvents()
        self.addCleanup(self.figure.close)

    def test_a_valid_figure_is_told_once(self) -> None:
        self.figure.selectAll()
        QTest.keyClicks(self.figure, "13k")
        QTest.keyClick(self.figure, Qt.Key.Key_Return)
        QTest.keyClick(self.figure, Qt.Key.Key_Return)
        self.assertEqual(self.typed, ["13k"])

    def test_an_invalid_one_complains_and_is_not_told(self) -> None:
        self.figure.selectAll()
        QTest.keyClicks(self.figure, "x")
        QTest.keyClick(self.figure, Qt.Key.Key_Return)
        self.assertEqual(self.typed, [])
        self.assertIn("not a frequency", self.said[-1])
        QTest.keyClick(self.figure, Qt.Key.Key_Escape)
        self.assertEqual((self.figure.text(), self.said[-1]), ("12 kHz", ""))

    def test_typing_the_same_changes_nothing(self) -> None:
        self.figure.selectAll()
        QTest.keyClicks(self.figure, "12 kHz")
        QTest.keyClick(self.figure, Qt.Key.Key_Return)
        self.assertEqual(self.typed, [])


class Panels(unittest.TestCase):
    def test_the_chain_says_what_each_step_says(self) -> None:
        bar = ChainBar()
        bar.resize(1200, 70)
        opened: list[str] = []
        bar.opened.connect(opened.append)
        for name in STEPS:
            bar.show_state(name, StepState("missed", "two\nlines", "missed by 1 dB"))
            bar.set_open(name)
            self.assertIn("missed by 1 dB", bar.steps[name].accessibleName())
            QTest.mouseClick(bar.steps[name], Qt.MouseButton.LeftButton)
        self.assertEqual(opened, list(STEPS))
        self.assertFalse(bar.grab().isNull())

    def test_a_table_of_twenty_thousand_rows_asks_for_what_is_seen(self) -> None:
        page = SheetPage("coefficients")
        page.resize(600, 300)
        page.show()
        asked: list[int] = []
        real = page.cells.data

        def data(index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
            asked.append(index.row())
            return real(index, role)

        with mock.patch.object(page.cells, "data", data):
            rows = tuple((f"h[{k}]", repr(k / 7)) for k in range(20_000))
            page.fill(Table(("as designed",), rows), True)
            QApplication.processEvents()
        self.assertLess(max(asked), 200)
        self.assertLess(len(asked), 5000)
        last = page.cells.index(19_999, 1)
        self.assertEqual(page.cells.data(last), repr(19_999 / 7))
        self.assertEqual(page.cells.headerData(1, Qt.Orientation.Horizontal), "as designed")
        self.assertEqual(len(page.copy_as("csv").splitlines()), 20_001)
        page.close()

    def test_contenders_are_rows_and_reasons(self) -> None:
        panel = ContendersPanel()
        picked: list[DesignChoice] = []
        panel.picked.connect(picked.append)
        found = sorted(contenders(LOWPASS), key=lambda each: each.method != "equiripple")
        failed = Contender("equiripple", 1, 0, None, reason="it can't be done")
        panel.show_contenders([*found, failed], LOWPASS, DesignChoice(), found[0].order)
        self.assertEqual(len(panel.rows), sum(1 for c in found if c.design is not None))
        self.assertEqual([row.is_chosen for _, row in panel.rows].count(True), 1)
        QTest.mouseClick(panel.rows[1][1], Qt.MouseButton.LeftButton)
        self.assertEqual((picked[0].method, picked[0].order), (panel.rows[1][0].method, None))
        panel.show_trouble("nothing will do")
        self.assertEqual(panel.summary.text(), "nothing will do")
        panel.clear_trouble()
        panel.show_contenders([failed], LOWPASS, DesignChoice(), None)
        self.assertEqual(panel.rows, [])

    def test_the_width_chart_is_picked_by_mouse_and_keys(self) -> None:
        chart = WidthChart()
        chart.resize(200, 100)
        picked: list[int] = []
        chart.picked.connect(picked.append)
        chart.show_rows([(8, -1.0), (9, 0.1), (10, 0.2)], 9)
        QTest.mouseClick(chart, Qt.MouseButton.LeftButton, pos=QPoint(20, 50))
        QTest.keyClick(chart, Qt.Key.Key_Up)
        QTest.keyClick(chart, Qt.Key.Key_Down)
        self.assertEqual(picked, [10, 8, 10])
        self.assertFalse(chart.grab().isNull())

    def test_the_ledger_tells_the_line_that_was_clicked(self) -> None:
        table = LedgerTable()
        table.resize(1000, 200)
        lines = lines_of(design(BAT, "equiripple", 60).filter, BAT)
        table.show_lines(BAT, {"ideal": lines}, False)
        table.show()
        picked: list[tuple[object, str]] = []
        table.line_picked.connect(lambda found, step: picked.append((found, step)))
        spot = table.visualRect(table.ledger.index(2, 2)).center()
        QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=spot)
        self.assertEqual(picked, [(lines[2], "ideal")])
        self.assertIn("margin", str(table.ledger.data(table.ledger.index(0, 2), Qt.ItemDataRole.ToolTipRole)))
        self.assertFalse(table.grab().isNull())
        QTest.keyClick(table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
        self.assertIn("b1 not below", application.clipboard().text())  # type: ignore[union-attr]
        table.close()

    def test_the_ledger_tells_which_columns_have_changed(self) -> None:
        model = LedgerTable().ledger
        ideal, rounded = (lines_of(design(BAT, "equiripple", order).filter, BAT) for order in (60, 62))
        heard: list[object] = []
        model.modelReset.connect(lambda: heard.append("all"))
        model.dataChanged.connect(lambda first, last: heard.append((first.column(), last.column(), last.row())))
        rows = len(ideal) - 1
        other = replace(BAT, bands=(replace(BAT.bands[0], name="grass"), *BAT.bands[1:]))
        for requirement, lines, told in (
            (BAT, {"ideal": ideal}, ["all"]),
            (BAT, {"ideal": ideal, "rounded": rounded}, [(3, 3, rows)]),
            (BAT, {"ideal": rounded, "rounded": rounded}, [(2, 2, rows)]),
            (BAT, {"ideal": rounded, "rounded": rounded, "bench": rounded[:1]}, ["all"]),
            (BAT, {"ideal": rounded, "rounded": rounded, "bench": ideal[:1]}, [(4, 4, rows + 1)]),
            (BAT, {"ideal": rounded, "rounded": rounded, "bench": ideal[:1]}, []),
            (BAT, {"ideal": rounded}, ["all"]),
            (other, {"ideal": lines_of(design(other, "equiripple", 62).filter, other)}, ["all"]),
        ):
            heard.clear()
            model.show_lines(requirement, lines, "hz")
            self.assertEqual(heard, told)
        heard.clear()
        model.show_lines(BAT, {"ideal": ideal}, "fs")
        self.assertEqual(heard, ["all"])

    def test_the_code_view_shows_every_file(self) -> None:
        view = CodeView()
        package, _ = bat_package()
        self.assertEqual(view.offered, ["table", "measured", "budget", "board", "together"])
        scene = Scene(
            demo_project(), Results(package=package, colored={f.name: colored(f.text, f.name) for f in package.files})
        )
        view.resize(600, 500)
        view.show_scene(scene)
        for index, button in enumerate(view.buttons[: len(package.files)]):
            button.click()
            self.assertEqual(view.text.toPlainText(), package.files[index].text)
        none = Results(troubles={"package": CombeError("too wide for C")})
        view.show_scene(Scene(demo_project(), none))
        self.assertEqual(view.text.toPlainText(), "too wide for C")
        self.assertEqual(
            [button.text() for button in view.buttons], ["Table", "Measured", "Budget", "Board", "Together"]
        )

    def test_text_is_coloured_where_it_is_seen(self) -> None:
        view = CodeView()
        package, _ = bat_package()
        view.resize(600, 400)
        view.show()
        spans = {file.name: colored(file.text, file.name) for file in package.files}
        view.show_scene(Scene(demo_project(), Results(package=package, colored=spans)))
        first = view.text.firstVisibleBlock()
        self.assertTrue(first.layout().formats(), "the comment in the first line has no colour")  # type: ignore[union-attr]
        lines = view.text.document().blockCount()  # type: ignore[union-attr]
        self.assertLess(len(view.text.colors.done), lines)
        bar = view.text.verticalScrollBar()
        assert bar is not None
        bar.setValue(bar.maximum())
        self.assertIn(lines - 1, view.text.colors.done)
        view.close()

    def test_stretches_say_what_they_are(self) -> None:
        text = "/* one\n   two */\n#include <stdint.h>\nstatic const int16_t x = 12;\n"
        lines = colored(text, "a.c")
        self.assertEqual(len(lines), 5)
        self.assertEqual([kind for line in lines[:2] for _, _, kind in line], ["comment", "comment"])
        self.assertEqual(lines[2][0][2], "directive")
        words = {text.split("\n")[3][start : start + length]: kind for start, length, kind in lines[3]}
        self.assertEqual((words["static"], words["12"]), ("keyword", "number"))
        self.assertEqual(colored("x\ny", "a.txt"), ((), ()))


class Rates(unittest.TestCase):
    def test_a_level_is_typed_or_left_free(self) -> None:
        row, made = RateRow(), []
        row.asked.connect(lambda edit, what: made.append((edit(asked_up), what)))
        asked_up = replace(asked(2, (0, 0.1, -0.1, 0.1), (0.4, 1, -60)), rate=RateChange(4, 1))
        row.show_rate(asked_up, "")
        figure = row.levels["image_db"][1]
        self.assertEqual((figure.text(), row.plan.text()), ("free", "single"))
        for text, level in (("55 dB", -55.0), ("free", None)):
            figure.typed.emit(text)
            now, what = made[-1]
            self.assertEqual((now.rate.image_db, what), (level, "type a level"))
            row.show_rate(now, "")
            self.assertEqual(figure.text(), "free" if level is None else "55 dB")


class Niches(unittest.TestCase):
    def test_a_part_fills_its_niche_and_gets_the_height_it_needs(self) -> None:
        """What comes and goes within measures nothing around anew, unless more height is needed."""
        part = QWidget()
        column = QVBoxLayout(part)
        column.addWidget(QLabel("a line"))
        niche = Niche(part, 240)
        around = QWidget()
        QVBoxLayout(around).addWidget(niche)
        around.resize(400, 300)
        around.show()
        QApplication.processEvents()
        self.assertEqual((niche.width(), part.geometry()), (240, niche.rect()))
        with mock.patch.object(niche, "setMinimumHeight", wraps=niche.setMinimumHeight) as higher:
            column.itemAt(0).widget().setText("another line")  # type: ignore[union-attr]
            QApplication.processEvents()
            higher.assert_not_called()
            for height in (350, 500, 120):
                column.itemAt(0).widget().setMinimumHeight(height)  # type: ignore[union-attr]
                QApplication.processEvents()
                self.assertEqual(niche.minimumHeight(), part.minimumSizeHint().height())
                self.assertGreaterEqual(niche.minimumHeight(), height)
                self.assertEqual(part.geometry(), niche.rect())
        around.close()


class Plots(unittest.TestCase):
    def test_the_axis_counts_in_the_unit_that_suits(self) -> None:
        axis = FrequencyAxis()
        for rate, counted, unit in (
            (250_000, "hz", "kHz"),
            (8e6, "hz", "MHz"),
            (5e9, "hz", "GHz"),
            (500, "hz", "Hz"),
            (1, "hz", "× sample rate"),
            (2, "hz", "× half the sample rate"),
            (48_000, "fs", "× sample rate"),
            (48_000, "fn", "× half the sample rate"),
        ):
            axis.set_rate(rate, counted)
            self.assertEqual(axis.unit[1], unit)
        axis.set_rate(250_000, "hz")
        self.assertEqual(axis.tickStrings([0, 20_000, -500], 1, 1), ["0", "20", "−0.5"])
        self.assertTrue(axis.tickValues(0, 125_000, 500))

    def test_axes_say_what_they_count(self) -> None:
        plot = Plot("dB")
        self.addCleanup(plot.deleteLater)
        assert plot.frequency_axis is not None
        said = lambda: [plot.axis(side).label.toPlainText().strip() for side in ("left", "bottom")]  # noqa: E731
        plot.frequency_axis.set_rate(48_000.0, "hz")
        plot.label_axes()
        self.assertEqual(said(), ["dB", "kHz"])
        plot.unit = "turns"
        plot.frequency_axis.set_rate(48_000.0, "fs")
        plot.label_axes()
        self.assertEqual(said(), ["turns", "× sample rate"])
        for page, words in ((WidthsPage().margin, "coefficient bits"), (WidthsPage().noise, "state bits")):
            self.assertEqual(page.axis("bottom").label.toPlainText().strip(), words)

    def test_axes_stand_beside_what_they_measure(self) -> None:
        """No pixel of a plot is lost between the axes, the view and the edges but what is left free on purpose."""
        plot = Plot("dB")
        self.addCleanup(plot.deleteLater)
        plot.resize(600, 400)
        plot.grab()
        view, left, bottom = (
            part.sceneBoundingRect() if part is plot.view else part.mapRectToScene(part.rect())
            for part in (plot.view, plot.axis("left"), plot.axis("bottom"))
        )
        for one, other in (
            (left.right(), view.left()), (bottom.top(), view.bottom()), (left.top(), view.top()), (left.bottom(), view.bottom()),
        ):  # fmt: skip
            self.assertLess(abs(one - other), 1)
        self.assertLessEqual(600 - view.right(), 10)
        self.assertLessEqual(400 - bottom.bottom(), 2)

    def test_home_is_where_a_double_click_leads(self) -> None:
        plot = Plot("dB")
        plot.resize(400, 300)
        plot.show()
        plot.set_home(0, 10, -5, 5)
        plot.show_around(2, 1)
        self.assertTrue(plot.is_zoomed)
        QTest.mouseDClick(plot.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(200, 150))
        (left, right), _ = plot.view.viewRange()
        self.assertEqual((round(left, 6), round(right, 6), plot.is_zoomed), (0, 10, False))
        plot.close()

    def test_the_pointer_reads_out_every_curve(self) -> None:
        plot = MagnitudePlot()
        plot.resize(700, 500)
        plot.show_requirement(BAT)
        plot.show_curves([Curve("half", Fir((0.5,)), "river")])
        plot.show()
        application.processEvents()
        plot._on_pointed(30_000.0, 0.0)
        self.assertIn("30 kHz", plot.main.read_out.text())
        self.assertIn("half −6.021 dB", plot.main.read_out.text())
        plot.close()

    def test_the_bands_a_design_makes_for_itself_are_outlined(self) -> None:
        """Dashes stand over the whole height where its transition begins and ends, and nowhere else."""
        plot = MagnitudePlot()
        plot.resize(600, 400)
        plot.show_requirement(asked(2, (0, 0.3, -0.1, 0.1), (0.4, 1, -60)))
        plot.show()
        application.processEvents()

        def column(hz: float) -> list[int]:
            image = plot.main.grab().toImage()
            box = plot.main.view
            place = plot.main.mapFromScene(box.mapViewToScene(QPointF(hz, -30.0)))
            rows = range(image.height() // 4, image.height() // 2)
            return [image.pixel(place.x() + dx, y) for dx in (-1, 0, 1) for y in rows]

        before = {hz: column(hz) for hz in (0.33, 0.36, 0.39)}
        plot.show_levels(asked(2, (0, 0.33, -0.1, 0.1), (0.36, 1, -60)))
        application.processEvents()
        for hz, is_outlined in ((0.33, True), (0.36, True), (0.39, False)):
            changed = sum(1 for now, then in zip(column(hz), before[hz]) if now != then)
            self.assertEqual(changed > 20, is_outlined, (hz, changed))
        plot.set_linear(True)
        self.assertTrue(plot.outline.linear)
        plot.set_linear(False)
        plot.show_levels(None)
        application.processEvents()
        self.assertEqual({hz: column(hz) for hz in before}, before)
        plot.close()

    def test_missed_limits_are_marked_where_they_are(self) -> None:
        plot = MagnitudePlot()
        plot.show_requirement(BAT)
        lines = lines_of(Fir((1.0,)), BAT)
        plot.show_lines(lines, set())
        missed = [found for found in lines if found.margin < 0]
        self.assertEqual([mark.line for mark in plot._marks], missed)
        plot.resize(600, 400)
        self.assertFalse(plot.grab().isNull())
        plot.show_lines((), set())
        self.assertEqual(plot._marks, [])

    def test_linear_gain_and_recursive_filters_are_drawn_too(self) -> None:
        plot = MagnitudePlot()
        plot.show_requirement(LOWPASS)
        plot.show_curves(
            [Curve("iir", Cascade(((0.2, 0.2, 0, -0.6, 0),)), "river"), Curve("fir", Fir((0.5, 0.5)), "ochre")]
        )
        plot.set_linear(True)
        self.assertEqual(plot.main.unit, "gain")
        plot.resize(600, 400)
        self.assertFalse(plot.grab().isNull())
        for kind, modes in MODES.items():
            side = SidePlot(kind)
            side.show_requirement(LOWPASS)
            for mode in modes:
                side.reference = plot.curves[0] if mode == "difference to pin" else None
                side.set_mode(mode)
                side.show_curves(plot.curves)
                wait_for_errands()
                side._on_pointed(0.25 if kind != "time" else 1, 0)
                self.assertIn("fir", side.read_out.text())

    def test_the_legend_has_room_for_every_name(self) -> None:
        legend = Legend()
        legend.show_curves([Curve("ideal", Fir((1.0,)), "river"), Curve("rounded", Fir((1.0,)), "ochre", dashed=True)])
        self.assertGreater(legend.sizeHint().width(), legend.fontMetrics().horizontalAdvance("ideal rounded"))
        self.assertFalse(legend.grab().isNull())


class Around(unittest.TestCase):
    def test_settings_are_kept_and_forgiving(self) -> None:
        with (
            tempfile.TemporaryDirectory() as folder,
            mock.patch("combe.app.settings.platformdirs.user_config_dir", return_value=folder),
        ):
            made = Settings.load()
            made.theme, made.counted = "dark", "fn"
            for index in range(12):
                made.used(Path(folder) / f"{index}.combe")
            again = Settings.load()
            self.assertEqual((again.theme, again.counted, len(again.recent)), ("dark", "fn", 8))
            self.assertTrue(again.recent[0].endswith("11.combe"))
            again.path.write_text("{broken", encoding="utf-8")
            self.assertEqual(Settings.load().theme, "light")

    def test_without_a_display_no_window_is_tried(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for environment, words in (
                ({}, "there is no display"), ({"DISPLAY": ":4711"}, "nobody answers on display :4711"), ({"DISPLAY": "what"}, "nobody answers"),
                ({"WAYLAND_DISPLAY": "none", "XDG_RUNTIME_DIR": folder}, "there is no display"),
            ):  # fmt: skip
                with mock.patch.dict(os.environ, environment, clear=True), self.assertRaises(ToolError) as caught:
                    check_display()
                self.assertIn(words, caught.exception.sentence())
        with mock.patch.dict(os.environ, {"QT_QPA_PLATFORM": "offscreen"}, clear=True):
            check_display()

    def test_faults_are_written_down_with_their_trace(self) -> None:
        with (
            tempfile.TemporaryDirectory() as folder,
            mock.patch("combe.log.platformdirs.user_log_dir", return_value=folder),
        ):
            try:
                raise RequirementError("something", "somewhere")
            except RequirementError:
                path = log_failure("while testing")
            self.assertIn("while testing", path.read_text(encoding="utf-8"))
            self.assertIn("RequirementError", path.read_text(encoding="utf-8"))
