"""Curves in pixels, parts dressed one by one, drafts under the hand: nothing may be lost for the sake of speed."""

from __future__ import annotations

import threading
import unittest
import unittest.mock

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import QEvent, QPointF, Qt, QTimer
from PyQt6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog, QLabel, QWidget

from combe.app.plots import compiled_seen
from combe.app.plots import seen as seen_module
from combe.app.plots.axes import Plot
from combe.app.plots.bundle import Bundle
from combe.app.plots.curve import Curve
from combe.app.plots.magnitude import MagnitudePlot
from combe.app.plots.seen import DASH, GAP, dashes, make_ready, seen, strokes
from combe.app.plots.stems import Stems, outermost
from combe.app.plots.stroke import Stroke
from combe.designing.methods import design_task
from combe.designing.task import DesignChoice, Task
from combe.errors import DesignError
from combe.ledger import gain_lines
from combe.project import edits, following
from combe.project.demo import demo_project
from combe.project.results import Results
from combe.responses import curves, frequency_response
from combe.values import replace
from tests.support import BAT, asked
from tests.window_case import WindowCase, drag


def farthest(x: np.ndarray, y: np.ndarray, kept: tuple[np.ndarray, np.ndarray]) -> float:
    """How far any point lies from the line through those that were kept, in pixels."""
    a = np.column_stack(kept)[:-1]
    along = np.diff(np.column_stack(kept), axis=0)
    length = np.maximum(np.sum(along**2, axis=1), 1e-12)
    worst = 0.0
    for point in np.column_stack([x, y]):
        share = np.clip(np.sum((point - a) * along, axis=1) / length, 0, 1)
        worst = max(worst, float(np.min(np.hypot(*(a + share[:, None] * along - point).T))))
    return worst


class Pixels(unittest.TestCase):
    def test_lines_are_those_between_the_points_that_stay(self) -> None:
        """Compiled or not: scaled, cut off far outside, joined one after the other; of one point there is none."""
        make_ready()
        source = np.random.default_rng(4)
        for ready in (seen_module._ready, threading.Event()):
            with unittest.mock.patch.object(seen_module, "_ready", ready):
                for count in (1, 2, 7, 900):
                    x, y = np.sort(source.uniform(0, 7, count)), source.uniform(-4, 4, count)
                    ends = strokes(x, y, 100.0, -50.0, -3.0, 2.0)
                    self.assertEqual(ends.shape[1], 4)
                    self.assertEqual(len(ends) > 0, count > 1)
                    np.testing.assert_array_equal(ends[1:, :2], ends[:-1, 2:])
                    points = np.vstack([ends[:, :2], ends[-1:, 2:]])
                    plain = np.column_stack([100.0 * x, np.maximum(np.minimum(-50.0 * y, 150.0), -100.0)])
                    if len(ends):
                        self.assertLess(farthest(*plain.T, (points[:, 0], points[:, 1])), 0.5)
                        self.assertTrue({tuple(p) for p in points} <= {tuple(p) for p in plain})

    def test_no_point_lies_off_the_line_by_more_than_half_a_pixel(self) -> None:
        source = np.random.default_rng(1)
        for trial in range(12):
            x = np.sort(source.uniform(0, 700, 900))
            waves = 60 * np.sin(x / source.uniform(3, 40)) * np.cos(x / source.uniform(5, 90)) + 0.2 * x
            y = waves if trial % 3 else np.where(np.abs(waves) < 4, 900.0, waves)
            kept = seen(x, y)
            self.assertLess(farthest(x, y, kept), 0.5)
            self.assertEqual((kept[0][0], kept[0][-1]), (x[0], x[-1]))

    def test_the_compiled_loop_keeps_the_very_same_points(self) -> None:
        source = np.random.default_rng(9)
        make_ready()
        for trial in range(400):
            count = int(source.integers(0, 300))
            x = np.sort(source.uniform(0, 700, count)) if trial % 3 else np.arange(count, dtype=float)
            y = source.normal(size=count) * 10 ** source.uniform(-2, 3)
            y = np.round(np.cumsum(y) if trial % 2 else y, int(source.integers(0, 4)))
            quick = seen(x, y)
            with unittest.mock.patch.object(seen_module, "_ready", threading.Event()):
                slow = seen(x, y)
            self.assertEqual([list(part) for part in quick], [list(part) for part in slow])

    def test_it_is_compiled_for_one_kind_of_array_and_takes_all(self) -> None:
        make_ready()
        self.assertEqual((len(compiled_seen.strokes.signatures), len(compiled_seen.kept.signatures)), (1, 1))
        pair = np.random.default_rng(3).normal(size=(400, 2)).cumsum(axis=0)
        x, y = np.sort(pair[:, 0]), pair[:, 1]
        plain = strokes(x, y.copy(), 3.0, -2.0, -9.0, 9.0)
        still = y.copy()
        still.flags.writeable = False
        for other in (y, still, y[::-1].copy()[::-1]):
            np.testing.assert_array_equal(strokes(x, other, 3, -2, -9, np.float64(9)), plain)
            np.testing.assert_array_equal(seen(x, other), seen(x, y.copy()))
        whole = np.rint(x).astype(np.int64)
        np.testing.assert_array_equal(strokes(whole, y, 3, -2, -9, 9), strokes(np.rint(x), y, 3, -2, -9, 9))
        self.assertEqual((len(compiled_seen.strokes.signatures), len(compiled_seen.kept.signatures)), (1, 1))

    def test_of_stems_in_one_column_the_outermost_stay(self) -> None:
        source = np.random.default_rng(4)
        for count in (1, 7, 5000):
            x, y = np.sort(source.uniform(0, 300, count)), source.normal(100, 40, count)
            at, ends = outermost(x, y, 100.0)
            for column in range(300):
                here, there = y[np.floor(x) == column], ends[np.floor(at) == column]
                self.assertEqual(len(there), 2 if len(here) else 0)
                if len(here):
                    self.assertEqual((min(there), max(there)), (min(*here, 100.0), max(*here, 100.0)))

    def test_stems_reach_from_the_zero_line_and_wear_dots_where_there_is_room(self) -> None:
        for count, has_dots in ((12, True), (4000, False)):
            plot = Plot("samples", frequency=False)
            plot.resize(500, 300)
            stems = Stems()
            stems.set_look(QColor("#204060"), 1)
            stems.show_points(np.arange(count), np.full(count, 3.0))
            self.assertLessEqual(stems.boundingRect().top(), 0)
            plot.add(stems)
            plot.view.setRange(xRange=(-1, count), yRange=(-1, 4), padding=0)
            image = plot.grab().toImage()
            self.assertEqual(len(stems._dots) > 0, has_dots)
            box = plot.view
            spot = box.mapViewToScene(QPointF(count // 2, 1.5)).toPoint()
            dark = [
                image.pixelColor(spot.x() + dx, spot.y()).lightness() < 200 for dx in (-1, 0, 1)
            ]  # a stem, wherever its pixel fell
            self.assertTrue(any(dark))
            below = box.mapViewToScene(QPointF(count // 2, -0.5)).toPoint()
            self.assertGreater(image.pixelColor(below).lightness(), 200, "nothing below the zero line")

    def test_a_straight_line_needs_few_points_and_a_short_one_keeps_all(self) -> None:
        x = np.linspace(0, 1000, 2001)
        self.assertLess(len(seen(x, 3 * x)[0]), 140)
        self.assertEqual(len(seen(x[:5], x[:5] ** 2)[0]), 5)

    def test_dashes_are_equally_long_however_the_points_lie(self) -> None:
        for x in (np.linspace(0, 400, 3), np.sort(np.random.default_rng(2).uniform(0, 400, 300))):
            y = 0.75 * x
            along_x, along_y, is_on = dashes(x, y)
            steps = np.hypot(np.diff(along_x), np.diff(along_y))
            whole = 1.25 * (x[-1] - x[0])
            self.assertAlmostEqual(float(np.sum(steps)), whole, 6)
            self.assertAlmostEqual(float(np.sum(steps[is_on])) / whole, DASH / (DASH + GAP), delta=0.02)
            changes = np.flatnonzero(np.diff(is_on.astype(int)))
            places = np.concatenate([[0.0], np.cumsum(steps)])[changes + 1]
            lengths = np.diff(places)
            self.assertTrue(np.all(np.abs(np.minimum(np.abs(lengths - DASH), np.abs(lengths - GAP))) < 1e-6))

    def test_a_stroke_paints_what_a_polyline_paints(self) -> None:
        plot = Plot("dB")
        plot.resize(640, 420)
        plot.setBackground("w")
        plot.view.setRange(xRange=(0, 10), yRange=(-50, 10), padding=0)
        x = np.linspace(0, 10, 3000)
        y = -20 + 25 * np.sin(9 * x) - 100 * (np.abs(x - 5) < 0.05)
        stroke = Stroke()
        stroke.set_look(QColor("black"), 2.0)
        stroke.show_points(x, np.where(x > 9, np.nan, y))
        empty = self.gray(plot)
        plot.add(stroke)
        plot.show()
        box = plot.view
        points = [QPointF(plot.mapFromScene(box.mapViewToScene(QPointF(a, b)))) for a, b in zip(x[x <= 9], y[x <= 9])]
        picture = plot.grab().toImage()
        wanted = QImage(picture.size(), QImage.Format.Format_ARGB32)
        wanted.fill(0xFFFFFFFF)
        painter = QPainter(wanted)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor("black"), 2.0))
        painter.drawPolyline(QPolygonF(points))
        painter.end()
        drawn = empty.astype(int) - self.gray(plot).astype(int)
        plain = 255 - self.levels(wanted).astype(int)
        inside = plot.view.sceneBoundingRect().toRect().adjusted(3, 3, -3, -3)
        part = np.s_[inside.top() : inside.bottom(), inside.left() : inside.right()]
        dark_drawn, dark_plain = drawn[part] > 120, plain[part] > 150
        self.assertGreater(np.count_nonzero(dark_plain), 2000)
        # Every dark pixel of one has a dark neighbor in the other.
        for one, other in ((dark_drawn, dark_plain), (dark_plain, dark_drawn)):
            near = np.zeros_like(other)
            for down in (-1, 0, 1):
                for right in (-1, 0, 1):
                    near |= np.roll(np.roll(other, down, 0), right, 1)
            self.assertLess(np.count_nonzero(one & ~near), 0.01 * np.count_nonzero(one))

    def test_a_bundle_paints_what_its_strokes_would_one_by_one(self) -> None:
        """In strips, over several of them, dashed or not; what is hidden isn't painted, and what is let go paints itself."""
        x = np.linspace(0, 10, 4000)
        plot = Plot("dB")
        plot.resize(1100, 420)
        plot.view.setRange(xRange=(0, 10), yRange=(-50, 10), padding=0)
        strokes_ = [Stroke() for _ in range(5)]
        for k, (stroke, color) in enumerate(zip(strokes_, ("red", "green", "blue", "black", "magenta"))):
            stroke.set_look(QColor(color), 1.0, dashed=k == 3, is_smooth=False)
            stroke.show_points(x[: 4000 - 700 * k], -20 + 25 * np.sin((5 + k) * x[: 4000 - 700 * k]))
            plot.add(stroke)
            stroke.setZValue(k)
        strokes_[2].hide()
        plot.show()
        alone = self.pixels(plot)
        bundle = Bundle()
        plot.add(bundle)
        bundle.hold(strokes_)
        together = self.pixels(plot)
        self.assertGreater(int(np.count_nonzero(np.any(alone != alone[0, 0], axis=2))), 5000)
        # Where a line crosses from one strip to the next another one may lie on top: of some ten thousand pixels a few.
        self.assertLess(int(np.count_nonzero(np.any(together != alone, axis=2))), 20)
        bundle.hold(strokes_[:1])
        np.testing.assert_array_equal(self.pixels(plot), alone, "the others paint themselves again")
        bundle.hold([])
        np.testing.assert_array_equal(self.pixels(plot), alone)

    def test_what_moves_sideways_is_painted_as_anew(self) -> None:
        """Far and near, back and forth; nothing is looked at again on the way."""
        x = np.linspace(0, 10, 3000)
        y = -20 + 25 * np.sin(9 * x)
        for kind in (Stroke, Stems):
            pictures = []
            for way in ((0.0, 0.3, 4.0, 9.5, -3.0, 2.0), (2.0,)):
                plot = Plot("dB")
                plot.resize(640, 420)
                stroke = kind()
                stroke.set_look(QColor("black"), 2.0)
                stroke.show_points(x[:: 1 if kind is Stroke else 60], y[:: 1 if kind is Stroke else 60])
                plot.add(stroke)
                plot.show()
                with unittest.mock.patch.object(stroke, "_strokes", wraps=stroke._strokes) as made:
                    for left in way:
                        plot.view.setRange(xRange=(left, left + 3), yRange=(-50, 10), padding=0)
                        picture = self.gray(plot).astype(int)
                self.assertEqual(made.call_count, 1, "the view was only moved")
                pictures.append(picture)
            self.assertGreater(np.count_nonzero(pictures[1] < 120), 500)
            self.assertLess(np.count_nonzero(np.abs(pictures[0] - pictures[1]) > 40), 20, kind)

    def test_a_moved_view_has_its_responses_already(self) -> None:
        source = design_task(Task(BAT, 250_000.0, DesignChoice("equiripple"))).filter
        pictures = []
        for way in ((20e3, 22e3, 27e3, 31e3), (31e3,)):
            plot = MagnitudePlot()
            plot.resize(700, 500)
            plot.show_requirement(BAT)
            plot.show_curves([Curve("fir", source, "river")])
            plot.show()
            box = plot.main.view
            with unittest.mock.patch(
                "combe.app.plots.magnitude.magnitude_window", wraps=curves.magnitude_window
            ) as asked_for:
                for left in way:
                    box.setXRange(left, left + 20e3, padding=0)
                    picture = self.gray(plot.main).astype(int)
                before = asked_for.call_count
                self.assertLessEqual(before, 3)
                box.setXRange(left + 4e3, left + 8e3, padding=0)
                self.assertEqual(asked_for.call_count, before + 1, "a closer look asks for more points")
            if len(way) > 1:
                self.assertGreater(before, 1, "what was seen at first doesn't reach so far")
            pictures.append(picture)
        differ = np.count_nonzero(np.abs(pictures[0] - pictures[1]) > 60)
        self.assertLess(differ, 0.002 * pictures[0].size)

    @staticmethod
    def levels(picture: QImage) -> np.ndarray:
        picture = picture.convertToFormat(QImage.Format.Format_Grayscale8)
        bits = picture.constBits()
        assert bits is not None
        bits.setsize(picture.sizeInBytes())
        return np.frombuffer(bytes(bits), np.uint8).reshape(picture.height(), -1)[:, : picture.width()]

    @staticmethod
    def pixels(plot: Plot) -> np.ndarray:
        picture = plot.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
        bits = picture.constBits()
        assert bits is not None
        bits.setsize(picture.sizeInBytes())
        return np.frombuffer(bytes(bits), np.uint8).reshape(picture.height(), picture.width(), 4)

    def gray(self, plot: Plot) -> np.ndarray:
        return self.levels(plot.grab().toImage())

    def test_thin_lines_of_the_main_plot_are_bundled_and_others_aren_t(self) -> None:
        magnitude = MagnitudePlot()
        magnitude.resize(900, 600)
        magnitude.show_requirement(BAT)
        filter_ = design_task(Task(BAT, BAT.sample_rate_hz, DesignChoice("equiripple"))).filter
        thin = [Curve(f"pin {k}", filter_, "moss", 1.0, False, True, False) for k in range(5)]
        own = Curve("ideal", filter_, "river", 2.0)
        for curves_, count in (([*thin, own], 5), ([*thin[:2], own], 2), ([own], 0)):
            magnitude.show_curves(curves_)
            magnitude.show()
            self.assertGreater(np.count_nonzero(self.gray(magnitude.main) < 200), 100)
            for bundle, which in zip(magnitude._bundles, (0, 1)):
                self.assertEqual(bundle.strokes, [pair[which] for pair in magnitude._items[:count]])
                self.assertEqual([pair[which].is_bundled for pair in magnitude._items], [True] * count + [False])


class Axes(unittest.TestCase):
    def test_figures_follow_the_range(self) -> None:
        """Along both axes, and back again; the frequency axis as well as a plain one."""
        _ = QApplication.instance() or QApplication([])
        for frequency in (True, False):
            plot = Plot("dB", frequency=frequency)
            plot.resize(500, 300)
            plot.show()

            def edges(left: float, right: float, low: float, high: float, plot: Plot = plot) -> tuple[bytes, bytes]:
                plot.view.setRange(xRange=(left, right), yRange=(low, high), padding=0)
                QApplication.processEvents()
                image = plot.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
                strips = image.copy(0, 250, 500, 50), image.copy(0, 0, 50, 240)
                return tuple(strip.constBits().asstring(strip.sizeInBytes()) for strip in strips)  # type: ignore[return-value, union-attr]

            first = edges(0, 0.4, -80, 0)
            for other in (edges(0, 0.4, -800, 0), edges(0.3, 0.9, -80, 0)):
                self.assertNotEqual(other, first)
            down, across = edges(0, 0.4, -800, 0), edges(0.3, 0.9, -80, 0)
            self.assertNotEqual(down[1], first[1])
            self.assertNotEqual(across[0], first[0])
            self.assertEqual(edges(0, 0.4, -80, 0), first)
            plot.close()


class Drafts(unittest.TestCase):
    """A draft starts from the neighbor's ripples; what it says may differ from the design proper by what no eye sees."""

    def follow(self, start: float, step: float, count: int, order: int | None) -> None:
        requirement = BAT
        near = design_task(Task(requirement, 250_000.0, DesignChoice("equiripple", order)))
        capped = 0
        for k in range(count):
            bands = edits.move_edge(replace(demo_project(), requirement=requirement), 0, "stop", start + k * step)
            requirement = bands.make(replace(demo_project(), requirement=requirement)).requirement
            near = design_task(
                Task(requirement, 250_000.0, DesignChoice("equiripple", order), near=near, is_draft=True)
            )
            proper = design_task(Task(requirement, 250_000.0, DesignChoice("equiripple", near.order)))
            capped += bool(near.capped)
            for draft, line in zip(gain_lines(near.filter, requirement), gain_lines(proper.filter, requirement)):
                self.assertAlmostEqual(draft.margin, line.margin, delta=0.05, msg=f"step {k}, {line.band}")
            omega = np.linspace(0, np.pi, 600)
            top = np.max(np.abs(frequency_response(near.filter, omega)))
            self.assertLess(20 * np.log10(top), 0.1 + 0.5 + 0.06, "the cap on transitions")
        self.capped = capped

    def test_a_length_held_while_the_edge_moves(self) -> None:
        self.follow(11_900, -170, 14, 112)

    def test_a_wide_transition_stays_capped(self) -> None:
        self.follow(9_000, -400, 8, 112)
        self.assertGreater(self.capped, 3)

    def test_the_least_length_is_followed(self) -> None:
        self.follow(11_900, -300, 6, None)

    def test_a_draft_of_another_shape_starts_afresh(self) -> None:
        near = design_task(Task(BAT, 250_000.0, DesignChoice("equiripple", 112)))
        low = asked(250_000, (0, 30_000, -0.1, 0.1), (40_000, 125_000, -60))
        found = design_task(Task(low, 250_000.0, DesignChoice("equiripple", 80), near=near, is_draft=True))
        proper = design_task(Task(low, 250_000.0, DesignChoice("equiripple", 80)))
        for draft, line in zip(gain_lines(found.filter, low), gain_lines(proper.filter, low)):
            self.assertAlmostEqual(draft.margin, line.margin, delta=0.05)


class Aside(unittest.TestCase):
    """What a lane works out beside what it tells, and when."""

    def trace(self, long_taps: int) -> list[str]:
        seen: list[str] = []

        def lines(_: object) -> tuple[()]:
            seen.append("lines")
            return ()

        made = following.chain(demo_project(), None, False, Results(), lambda: False)
        with (
            unittest.mock.patch.object(following, "magnitude_curve", lambda _: seen.append("curve")),
            unittest.mock.patch.object(following.Ideal, "lines", property(lines)),
            unittest.mock.patch.object(following.Rounded, "lines", property(lines)),
            unittest.mock.patch.object(following, "LONG_TAPS", long_taps),
        ):
            for report in following.with_curves(made):
                seen.append(report.name)
        return seen

    def test_curves_come_first_and_the_ledger_last(self) -> None:
        self.assertEqual(self.trace(400), ["curve", "ideal", "curve", "rounded", "lines", "lines"])

    def test_of_long_filters_the_ledger_comes_first_too(self) -> None:
        self.assertEqual(self.trace(112)[:6], ["curve", "lines", "ideal", "curve", "lines", "rounded"])


class Dressing(WindowCase):
    def sheets(self) -> set[str]:
        found = {piece.styleSheet() for part in self.window._parts() for piece in [part, *part.findChildren(object)]
                 if hasattr(piece, "styleSheet") and piece.styleSheet()}  # fmt: skip
        return {sheet for sheet in found if "QPushButton" in sheet}

    def test_every_part_changes_its_sheet_and_late_ones_wear_the_new_one(self) -> None:
        light = self.window.styleSheet()
        self.assertEqual(self.sheets(), set(), "a window is born with one sheet for all its parts")
        self.window.dress("dark")
        for _ in range(400):
            self.settle()
            if not self.window.wardrobe.is_changing:
                break
        (dark,) = self.sheets()
        self.assertNotEqual(light, dark)
        page = self.window.plots.page("widths")
        self.assertEqual(page.styleSheet(), dark)
        dialog = QDialog(self.window)
        dialog.show()
        self.settle()
        self.assertEqual(dialog.styleSheet(), dark)
        dialog.close()
        self.window.dress("light")
        self.window.wardrobe.finish()
        self.assertEqual(self.sheets() - {dark}, {light})

    def test_a_click_between_two_themes_is_answered(self) -> None:
        self.window.dress("dark")
        self.assertTrue(self.window.wardrobe.is_changing)
        QTest.mouseClick(self.window.chain.steps["rounded"], Qt.MouseButton.LeftButton)
        self.assertEqual(self.window.step, "rounded")
        self.window.dress("light")
        self.window.wardrobe.finish()

    def test_rows_that_go_or_come_between_two_themes(self) -> None:
        """What scrolls is dressed row by row: one that has gone by then is passed over, one that comes late is dressed, and
        nothing stays unpainted."""
        self.window.open_step("ideal")
        self.settle()
        column = self.window.contenders.scroller.column
        rows = [widget for k in range(column.count()) if (widget := column.itemAt(k).widget()) is not None]
        self.assertGreater(len(rows), 3)
        self.window.dress("dark")
        waiting = [piece for piece, _ in self.window.wardrobe._waiting]
        self.assertIn(rows[0], waiting)
        seen_rows = [row for row in rows if row.isVisible()]
        self.assertGreater(len(seen_rows), 1)
        self.assertEqual([row for row in seen_rows if row.updatesEnabled()], [], "painted once, when they are dressed")
        column.removeWidget(rows[1])
        sip.delete(rows[1])
        self.window.contenders.scroller.column.addWidget(late := QLabel("late"))
        late.show()
        self.settle()
        self.window.wardrobe.finish()
        (dark,) = self.sheets()
        self.assertEqual((rows[0].styleSheet(), late.styleSheet()), (dark, dark))
        left = [widget for widget in self.window.findChildren(QWidget) if not widget.updatesEnabled()]
        self.assertEqual(left, [])
        column.removeWidget(late)
        sip.delete(late)
        self.window.dress("light")
        self.window.wardrobe.finish()

    def test_modules_that_come_later_are_not_gone_through(self) -> None:
        """The collector puts aside what stands when many modules have come; few it goes through."""
        collector = self.window.collector
        collector.collect()
        with unittest.mock.patch("gc.freeze") as freeze, unittest.mock.patch("gc.collect"):
            collector.collect()
            self.assertEqual(freeze.call_count, 0)
            many = {f"combe_made_up_{k}": threading for k in range(20)}
            with unittest.mock.patch.dict("sys.modules", many):
                collector.collect()
                collector.collect()
        self.assertEqual(freeze.call_count, 1)


class Grips(unittest.TestCase):
    """Where edges and levels are taken hold of, whichever of them has moved."""

    def places(self, plot: MagnitudePlot) -> dict[tuple[int, str], tuple[float, float]]:
        return {(one.band, one.kind): (one.pos().x(), one.pos().y()) for one in plot._handles}

    def test_each_stands_at_its_edge_or_level_after_every_change(self) -> None:
        QApplication.instance() or QApplication(["combe"])
        plot = MagnitudePlot()
        steps = ((8.0, 11.0, -60.0), (9.0, 11.0, -60.0), (9.0, 12.0, -60.0), (9.0, 12.0, -40.0), (9.0, 12.0, -40.0))
        for (stop, start, level), rate in zip(steps, (48.0, 48.0, 48.0, 48.0, 40.0)):
            plot.show_requirement(asked(rate, (0, stop, -0.5, 1.0), (start, rate / 2, level)))
            for linear, at in ((False, lambda db: db), (True, lambda db: 10 ** (db / 20)), (False, lambda db: db)):
                plot.set_linear(linear)
                found = self.places(plot)
                expected = {
                    (0, "stop"): (stop, at(0.25)), (1, "start"): (start, at(level)),
                    (1, "upper"): ((start + rate / 2) / 2, at(level)), (0, "upper"): (stop / 2, 1.0), (0, "lower"): (stop / 2, -0.5),
                }  # fmt: skip
                for name, place in expected.items():
                    np.testing.assert_allclose(found[name], place, rtol=1e-12, err_msg=str((name, stop, level, linear)))
        plot.set_log(True)
        self.assertAlmostEqual(self.places(plot)[0, "stop"][0], np.log10(9.0))
        plot.set_log(False)
        self.assertAlmostEqual(self.places(plot)[0, "stop"][0], 9.0)


class Following(WindowCase):
    def test_what_the_hand_moved_is_seen_with_the_filter_and_all_else_after_it_lets_go(self) -> None:
        window = self.window
        plot = window.plots.magnitude
        shown: list[float] = []
        real = plot.show_requirement

        def show(requirement: object, counted: str = "hz") -> None:
            real(requirement, counted)  # type: ignore[arg-type]
            shown.append(requirement.bands[0].stop_hz)  # type: ignore[attr-defined]

        with unittest.mock.patch.object(plot, "show_requirement", show):
            drag(plot.main, self.handle(0, "stop"), -14, 0)
            self.settle()
        moved = self.session.project.requirement.bands[0].stop_hz
        self.assertEqual(shown[-1], moved)
        self.assertEqual(window.brief.rows[0].figures["stop"].text(), f"{moved / 1000:g} kHz")
        assert self.session.results.ideal is not None
        self.assertFalse(self.session.results.ideal.is_draft)
        self.assertFalse(window._unshown)
        self.assertIn("drag the edge", window.actions_table.undo.text())

    def test_the_plot_is_painted_before_the_brief_is_laid_out(self) -> None:
        """Anything else first would hold the picture up; in the same stretch as the filter it would hold up the hand."""
        window, order = self.window, []
        other = QTimer(window)
        other.customEvent = lambda event: order.append("other")  # type: ignore[method-assign]
        plain, real = Plot.paintEvent, window.brief.show_requirement

        def paint(plot: Plot, event: object) -> None:
            plain(plot, event)  # type: ignore[arg-type]
            if plot is window.plots.magnitude.main:
                order.append("plot")

        def show(*words: object) -> None:
            order.append("brief")
            real(*words)  # type: ignore[arg-type]

        with unittest.mock.patch.object(self.session, "_submit_chain"):
            window.drag(lambda project: edits.move_edge(project, 0, "stop", 11_000.0))
        QApplication.processEvents()
        with (
            unittest.mock.patch.object(Plot, "paintEvent", paint),
            unittest.mock.patch.object(window.brief, "show_requirement", show),
        ):
            QApplication.postEvent(other, QEvent(QEvent.Type.User))
            window._catch_up()
            self.assertEqual(order, [])
            QApplication.sendPostedEvents()
        self.assertEqual(order[:3], ["plot", "brief", "other"])
        self.session.end_gesture()
        self.settle()

    def test_an_edge_whose_filter_is_late_is_painted_without_it(self) -> None:
        window = self.window
        with unittest.mock.patch.object(self.session, "_submit_chain"):
            window.drag(lambda project: edits.move_edge(project, 0, "stop", 11_000.0))
            self.assertEqual(window.plots.magnitude.requirement, demo_project().requirement)
            QTest.qWait(80)
            self.assertEqual(window.plots.magnitude.requirement, self.session.project.requirement)
        self.session.end_gesture()
        self.settle()

    def test_drafts_that_may_take_long_are_never_made_beside_the_hand(self) -> None:
        """However quick the last one was: the thread that waits for another process takes no time of its own."""
        made_here: list[object] = []
        self.session._pace.seconds = 0.001
        move = lambda project: edits.move_edge(project, 0, "stop", 11_000.0)  # noqa: E731
        with unittest.mock.patch.object(self.session._pace, "at_once", lambda work: made_here.append(work) or []):
            self.window.drag(move)
            self.assertEqual(len(made_here), 1)
            self.session.edit(edits.choose_design(DesignChoice("minimum-phase")))
            self.session._pace.seconds = 0.001
            self.window.drag(lambda project: edits.move_edge(project, 0, "stop", 11_500.0))
            self.assertTrue(self.session.lanes["chain"].is_busy)
        self.assertEqual(len(made_here), 1)
        self.session.end_gesture()
        self.settle()

    def test_a_draft_that_became_long_is_made_in_a_lane(self) -> None:
        self.session._pace.seconds = 0.001
        with unittest.mock.patch.object(self.session._pace, "at_once", lambda work: None):
            self.window.drag(lambda project: edits.move_edge(project, 0, "stop", 11_000.0))
        self.assertTrue(self.session.lanes["chain"].is_busy)
        self.session.end_gesture()
        self.settle()
        assert self.session.results.ideal is not None
        self.assertEqual(self.session.results.ideal.design.requirement.bands[0].stop_hz, 11_000.0)

    def test_what_a_lane_drafts_brings_its_curves(self) -> None:
        asked: list[object] = []
        really = following.with_curves
        with unittest.mock.patch.object(following, "with_curves", lambda made: asked.append(made) or really(made)):
            self.session._pace.seconds = float("inf")
            self.window.drag(lambda project: edits.move_edge(project, 0, "stop", 11_500.0))
            while self.session.lanes["chain"].is_busy:
                QApplication.processEvents()
        self.assertEqual(len(asked), 1)
        self.session.end_gesture()
        self.settle()

    def test_a_refused_move_leaves_everything(self) -> None:
        before = self.session.project
        with unittest.mock.patch.object(edits, "move_edge", side_effect=DesignError("no such edge")):
            self.window.drag(lambda project: edits.move_edge(project, 0, "stop", 11_000.0))
        self.assertEqual(self.session.project, before)
        bar = self.window.statusBar()
        assert bar is not None
        self.assertIn("no such edge", bar.currentMessage())


if __name__ == "__main__":
    unittest.main()
