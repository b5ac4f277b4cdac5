"""Tables that are filled in one go, and dots by the thousand."""

from __future__ import annotations

import unittest
from unittest import mock

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtWidgets import QApplication, QTableWidget, QTableWidgetItem
from scipy.optimize import minimize

from combe.app.pages.cost import apart
from combe.app.pages.sheet import SheetPage
from combe.app.plots.axes import Plot
from combe.app.plots.dots import Dots
from combe.app.theme.palette import THEME
from combe.app.widgets.quiet_table import Cell, QuietTable
from combe.ledger.goodness import Table


def application() -> QApplication:
    found = QApplication.instance() or QApplication([])
    assert isinstance(found, QApplication)
    return found


class Filled(unittest.TestCase):
    def setUp(self) -> None:
        self.app = application()
        self.table = QuietTable("birds", ("Bird", "Seen", "Where"))
        self.table.show()
        self.addCleanup(self.table.deleteLater)

    def words(self) -> list[list[str]]:
        rows = range(self.table.rowCount())
        items = [[self.table.item(row, column) for column in range(self.table.columnCount())] for row in rows]
        return [[item.text() if item is not None else "" for item in row] for row in items]

    def test_columns_are_as_wide_as_a_plain_table_makes_them(self) -> None:
        rows = [["dipper", "3", "below the weir"], ["a wagtail with a very long name", "12", ""]]
        self.table.show_cells([[Cell(word) for word in row] for row in rows])
        plain = QTableWidget(2, 3)
        plain.setHorizontalHeaderLabels(["Bird", "Seen", "Where"])
        plain.setFont(self.table.font())
        for row, words in enumerate(rows):
            for column, word in enumerate(words):
                plain.setItem(row, column, QTableWidgetItem(word))
        plain.show()
        plain.resizeColumnsToContents()
        for column in (0, 1):
            self.assertAlmostEqual(self.table.columnWidth(column), plain.columnWidth(column), delta=2)
        self.assertEqual(self.words(), rows)

    def test_only_what_differs_is_made_anew(self) -> None:
        self.table.show_cells([[Cell("dipper"), Cell("3", "clay", "three", True), Cell("weir")]] * 2)
        kept, other = self.table.item(0, 0), self.table.item(1, 1)
        self.table.show_cells([[Cell("dipper"), Cell("3", "clay", "three", True), Cell("weir")],
                               [Cell("dipper"), Cell("4", "clay"), Cell("weir")]])  # fmt: skip
        self.assertIs(self.table.item(0, 0), kept)
        self.assertIsNot(self.table.item(1, 1), other)
        found = self.table.item(0, 1)
        assert found is not None
        self.assertEqual((found.toolTip(), found.foreground().color()), ("three", THEME.color("clay")))
        with mock.patch.object(QTableWidget, "setItem") as never:
            self.table.show_cells([[Cell("dipper"), Cell("3", "clay", "three", True), Cell("weir")],
                                   [Cell("dipper"), Cell("4", "clay"), Cell("weir")]])  # fmt: skip
        never.assert_not_called()
        self.table.show_cells([[Cell("owl")]])
        self.assertEqual(self.words(), [["owl", "", ""]], "nothing stays of a longer row")

    def test_another_theme_and_other_heads_fill_it_again(self) -> None:
        rows = [[Cell("dipper", "clay"), Cell("3"), Cell("weir")]]
        self.table.show_cells(rows)
        self.addCleanup(THEME.use, THEME.name, self.app)
        THEME.use("dark", self.app)
        self.table.show_cells(rows)
        found = self.table.item(0, 0)
        assert found is not None
        self.assertEqual(found.foreground().color(), THEME.color("clay"))
        self.table.show_cells([[Cell("dipper"), Cell("3")]], ["Bird", "Seen"])
        self.assertEqual(self.words(), [["dipper", "3"]])

    def test_a_sentence_over_two_columns(self) -> None:
        self.table.show_cells([[Cell("dipper"), Cell("can't be seen", "clay", span=2)]])
        self.assertEqual(self.table.columnSpan(0, 1), 2)
        self.table.show_cells([[Cell("dipper"), Cell("3"), Cell("weir")]])
        self.assertEqual(self.table.columnSpan(0, 1), 1)
        self.assertEqual(self.words(), [["dipper", "3", "weir"]])


class Names(unittest.TestCase):
    def test_names_stand_apart_and_as_near_as_can_be(self) -> None:
        """Against a minimizer that knows nothing of pools."""
        self.assertEqual(apart([], 1.0), [])
        np.testing.assert_allclose(apart([0.0, 5.0, 9.0], 2.0), [0, 5, 9])
        np.testing.assert_allclose(apart([3.0, 3.0, 3.0], 2.0), [1, 3, 5])
        source = np.random.default_rng(6)
        for _ in range(30):
            wanted, gap = np.sort(source.uniform(0, 5, 6)), float(source.uniform(0.2, 1.5))
            found = np.array(apart(wanted.tolist(), gap))
            self.assertGreaterEqual(float(np.min(np.diff(found))), gap - 1e-9)
            asked = [{"type": "ineq", "fun": lambda x, k=k, gap=gap: x[k + 1] - x[k] - gap} for k in range(5)]
            best = minimize(
                lambda x, wanted=wanted: np.sum((x - wanted) ** 2), wanted, method="SLSQP", constraints=asked,
                options={"ftol": 1e-14, "maxiter": 500},
            )  # fmt: skip
            self.assertLessEqual(np.sum((found - wanted) ** 2), best.fun + 1e-6)


class Sheets(unittest.TestCase):
    def test_columns_are_as_wide_as_the_style_makes_them(self) -> None:
        app = application()
        rows = tuple(
            (f"tap {k}", "−0.12345678901" if k == 37 else f"{k / 7:.3g}", "i" * (k % 9), "W" * (k % 5))
            for k in range(60)
        )
        for figures in (False, True):
            page = SheetPage("taps")
            page.resize(900, 400)
            page.fill(Table(("Value", "Of many", "W"), rows), figures)
            page.show()
            app.processEvents()
            across = page.sheet.horizontalHeader()
            assert across is not None
            found = [page.sheet.columnWidth(column) for column in range(3)]
            across.setResizeContentsPrecision(-1)
            page.sheet.resizeColumnsToContents()
            np.testing.assert_allclose(found, [page.sheet.columnWidth(column) for column in range(3)], atol=2)
            page.fill(Table((), ()))
            page.deleteLater()


class Stamped(unittest.TestCase):
    """Dots against ellipses painted one by one."""

    def setUp(self) -> None:
        self.app = application()

    def painted(self, x: np.ndarray, y: np.ndarray, size: float, ratio: float) -> tuple[np.ndarray, np.ndarray]:
        plot = Plot("dB", frequency=False)
        plot.resize(400, 300)
        dots = Dots(size)
        dots.set_color(QColor(200, 30, 30))
        dots.show_points(x, y)
        plot.add(dots)
        plot.set_home(-1.0, 1.0, -1.0, 1.0)
        plot.show()
        self.app.processEvents()
        pictures = []
        for how in ("stamped", "one by one"):
            image = QImage(round(400 * ratio), round(300 * ratio), QImage.Format.Format_RGB32)
            image.setDevicePixelRatio(ratio)
            image.fill(QColor("white"))
            painter = QPainter(image)
            transform = dots.sceneTransform() * plot.viewportTransform()
            if how == "stamped":
                painter.setWorldTransform(transform)
                dots.paint(painter)
            else:
                painter.setRenderHint(QPainter.RenderHint.Antialiasing)
                painter.setPen(pg.mkPen(None))
                painter.setBrush(QColor(200, 30, 30))
                for place in zip(x, y):
                    painter.drawEllipse(transform.map(QPointF(*place)), size / 2, size / 2)
            painter.end()
            data = image.constBits()
            assert data is not None
            data.setsize(image.sizeInBytes())
            pictures.append(np.frombuffer(bytes(data), np.uint8).reshape(image.height(), -1, 4)[:, :, 1].astype(int))
        plot.deleteLater()
        return pictures[0], pictures[1]

    def test_they_lie_where_they_belong(self) -> None:
        source = np.random.default_rng(4)
        x, y = source.uniform(-0.9, 0.9, 60), source.uniform(-0.9, 0.9, 60)
        for size, ratio in ((3.5, 1.0), (3.0, 2.0), (7.0, 1.5)):
            stamped, plain = self.painted(x, y, size, ratio)
            ink = (255 - stamped).sum() / (255 - plain).sum()
            self.assertAlmostEqual(ink, 1.0, delta=0.06, msg=f"{size} px at {ratio}")
            self.assertLess(np.mean(np.abs(stamped - plain)[plain < 250]), 45)
            self.assertLess(np.count_nonzero((stamped < 128) & (plain > 250)), 8)

    def test_what_isn_t_finite_is_left_out_and_what_is_out_of_view_isn_t_painted(self) -> None:
        dots = Dots(3.0)
        dots.show_points(np.array([0.0, np.nan, 1.0, 2.0]), np.array([0.0, 1.0, np.inf, 5.0]))
        self.assertEqual((dots.x.tolist(), dots.y.tolist()), ([0.0, 2.0], [0.0, 5.0]))
        stamped, _ = self.painted(np.array([5.0]), np.array([0.0]), 3.0, 1.0)
        self.assertTrue(np.all(stamped == 255))
        nothing, _ = self.painted(np.zeros(0), np.zeros(0), 3.0, 1.0)
        self.assertTrue(np.all(nothing == 255))


if __name__ == "__main__":
    unittest.main()
