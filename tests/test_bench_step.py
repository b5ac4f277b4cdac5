"""The bench in the window: sentences typed, boxes ticked, figures and curves that follow."""

from __future__ import annotations

import shutil
import tempfile
import unittest
import unittest.mock
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from combe.app.pages import bench_lower
from combe.app.pages.bench_figures import look_of
from combe.app.picture import settle
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.states import states
from combe.app.theme.palette import THEME
from combe.app.window import MainWindow
from combe.benching.setup import BenchSetup
from combe.project import edits
from combe.project.demo import demo_project
from combe.project.document import DesignChoice
from combe.project.file import project_document, project_from
from combe.values import replace
from tests import memory
from tests.support import plain_gain_db
from tests.test_delivery import HAS_GCC
from tests.window_case import type_over

application = QApplication.instance() or QApplication(["combe"])


class Step(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="combe-test-"))
        self.addCleanup(shutil.rmtree, self.folder)
        memory.remember_all(self, demo_project().requirement)
        self.session = Session(demo_project())
        self.window = MainWindow(self.session, Settings(path=self.folder / "settings.json"))
        self.addCleanup(self.close)
        self.window.show()
        self.session.start()
        settle(self.session)
        self.window.open_step("bench")
        settle(self.session)

    def close(self) -> None:
        self.session.saved = self.session.project
        self.window.close()

    @property
    def view(self) -> object:
        return self.window.bench_page.view  # type: ignore[attr-defined]

    def test_pinned_filters_go_along(self) -> None:
        self.window.pin()
        self.window.contenders.picked.emit(DesignChoice("kaiser"))
        settle(self.session)
        box = self.window.bench.boxes["pins"]
        QTest.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
        settle(self.session)
        bench = self.session.results.bench
        assert bench is not None
        pin = bench.through[-1]
        self.assertEqual(pin.name, "pin 1: equiripple, 113 taps")
        # The pinned filter's own gain at the tone that is kept, from its taps.
        tone = bench.through[0].tones[0].hz / 250_000
        taps = self.session.project.pins[0].filter.array  # type: ignore[union-attr]
        self.assertAlmostEqual(pin.tones[0].gain_db, float(plain_gain_db(taps, [tone])[0]), delta=1e-4)
        self.assertIn(pin.name, self.view.figures.text())  # type: ignore[attr-defined]
        document = project_document(self.session.project)
        self.assertIn("pins", project_from(document).bench.through)
        self.window.toggle_pin(0)
        settle(self.session)
        assert self.session.results.bench is not None
        self.assertNotIn(pin.name, [heard.name for heard in self.session.results.bench.through])
        self.session.undo()
        self.session.undo()
        settle(self.session)
        self.assertFalse(box.isChecked())

    def test_other_views_of_what_came_out(self) -> None:
        view = self.window.bench_page.view  # type: ignore[attr-defined]
        setup = replace(self.session.project.bench, signal="sine 50 kHz -6 dB + modulated points 16 symbols 10 kHz 80 kHz -12 dB",
                        samples=16_384)  # fmt: skip
        self.session.change(replace(self.session.project, bench=setup), "a carrier")
        settle(self.session)
        view.below.show_view("spectrogram")
        settle(self.session)
        plot = view.below.others["spectrogram"]
        self.assertEqual(view.below.of.currentText(), "bit-true")
        self.assertAlmostEqual(plot.level_at(30.0, 50.0), -6.0, delta=1.6)
        self.assertLess(plot.level_at(30.0, 5.0), -60)
        view.below.of.setCurrentText("input")
        view.below.of.activated.emit(0)
        settle(self.session)
        self.assertAlmostEqual(plot.level_at(0.5, 50.0), -6.0, delta=3)
        self.assertTrue(view.difference.isHidden())
        view.below.show_view("histogram")
        settle(self.session)
        self.assertEqual(set(view.below.others["histogram"].strokes), {"input", "ideal", "bit-true"})
        view.below.show_view("constellation")
        settle(self.session)
        plot = view.below.others["constellation"]
        self.assertEqual(len(plot.sent.points()), 16)
        self.assertGreater(len(plot.arrived["bit-true"].x), 50)
        self.assertFalse(self.window.grab().isNull())
        self.window.dress("dark")
        self.window.dress("light")
        self.assertLessEqual(self.window.minimumSizeHint().width(), 1180)
        self.assertLessEqual(self.window.minimumSizeHint().height(), 700)
        view.below.show_view("spectra")
        settle(self.session)
        self.assertFalse(view.difference.isHidden())
        stroke = view.below.strokes["bit-true"]
        self.assertTrue(stroke.isVisible())
        self.assertAlmostEqual(stroke.value_at(50_000), -6.0, delta=1.6)

    def test_what_is_known_of_a_bench_is_drawn_at_once_and_of_another_not_at_all(self) -> None:
        below, asked = self.view.below, []  # type: ignore[attr-defined]
        really = bench_lower._found

        def found(bench: object, view: str, of: str) -> object:
            asked.append((view, of))
            return really(bench, view, of)  # type: ignore[arg-type]

        with unittest.mock.patch.object(bench_lower, "_found", found):
            below.show_view("histogram")
            settle(self.session)
            self.assertEqual(asked, [("histogram", bench_lower.ALL)])
            before = self.session.results.bench
            self.window.dress("dark")
            self.window.wardrobe.finish()
            stroke = below.others["histogram"].strokes["input"]
            self.assertEqual(stroke.look()[0].color(), THEME.color(look_of("input")[0]))
            below.show_view("spectra")
            settle(self.session)
            self.assertEqual(len(asked), 1, "nothing is worked out twice")
            shown = below.strokes["input"].levels
            self.session.edit(edits.set_bench(edits.with_bench(self.session.project.bench, seed=9)))
            settle(self.session)
            self.assertIsNot(self.session.results.bench, before)
            self.assertEqual(asked[1:], [("spectra", "lines")])
            self.assertIsNot(below.strokes["input"].levels, shown)
            now = below.strokes["input"].levels
            below._take((before, ("spectra", "lines"), {"input": (shown, 1.0, 0.0)}))
            self.assertIs(below.strokes["input"].levels, now, "late, and of the bench before")
            for kind in bench_lower.DENSITIES:
                below.of.setCurrentText(kind)
                below.show_again()
                settle(self.session)
            below.show_view("constellation")
            settle(self.session)
            self.assertLessEqual(len(below._known), bench_lower.KEPT)
            below.show_view("spectra")

    def test_a_long_signal_is_drawn_as_few_points(self) -> None:
        below = self.view.below  # type: ignore[attr-defined]
        setup = edits.with_bench(self.session.project.bench, signal="sine 50 kHz -6 dB + white -80 dB", samples=40_000)
        self.session.edit(edits.set_bench(setup))
        settle(self.session)
        QApplication.processEvents()
        stroke = below.strokes["bit-true"]
        self.assertEqual(stroke.levels.count, 8193)
        self.assertFalse(self.window.grab().isNull())
        self.assertLess(len(stroke.x), 4_000)
        self.assertAlmostEqual(stroke.value_at(50_000), -6.0, delta=0.1)
        self.assertAlmostEqual(float(np.max(stroke.y)), -6.0, delta=0.1, msg="the line isn't lost among its neighbors")

    def test_it_opens_on_something_alive(self) -> None:
        bench = self.session.results.bench
        assert bench is not None
        self.assertEqual([heard.name for heard in bench.through], ["ideal", "bit-true"])
        kept, blocked = bench.through[0].tones
        self.assertGreater(kept.gain_db, -0.2)
        self.assertLess(blocked.gain_db, -60)
        self.assertIn("bit-true", self.view.figures.text())  # type: ignore[attr-defined]
        stroke = self.view.strokes["time", "bit-true"]  # type: ignore[attr-defined]
        shown = np.round(stroke.x * 250).astype(int)
        self.assertLess(len(shown), 200, "what is in view, and no more")
        self.assertTrue(np.allclose(stroke.y, bench.through[1].values[shown] / bench.through[1].full))
        self.assertIn("8192 samples", states(self.session)["bench"].what)

    def test_sentences_are_typed_parts_added_and_removed(self) -> None:
        panel = self.window.bench
        type_over(panel.rows[0], "sine 40 kHz -20 dB")
        settle(self.session)
        bench = self.session.results.bench
        assert bench is not None
        self.assertEqual(bench.input.hz[0], 40_000)
        panel.menu.actions()[0].trigger()
        settle(self.session)
        self.assertEqual(len(panel.rows), 4)
        self.assertIn("sine 62.5 kHz", self.session.project.bench.signal)
        panel._on_remove(0)
        settle(self.session)
        self.assertEqual(len(panel.rows), 3)
        told: list[str] = []
        panel.complained.connect(told.append)
        type_over(panel.rows[0], "sine 400 kHz -20 dB")
        self.assertTrue(any("can't be sampled" in word for word in told))
        before = self.session.project.bench
        self.session.undo()
        self.assertNotEqual(self.session.project.bench, before)
        again = project_from(project_document(self.session.project))
        self.assertEqual(again.bench, self.session.project.bench)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_compiled_code_says_whether_it_is_identical(self) -> None:
        self.window.bench.boxes["code"].click()
        settle(self.session)
        bench = self.session.results.bench
        assert bench is not None
        self.assertEqual([heard.identical for heard in bench.through], [None, None, True])
        self.assertEqual(states(self.session)["bench"].verdict, "kept")
        self.assertIn("identical", self.view.figures.text())  # type: ignore[attr-defined]

    def test_the_histogram_looks_inside(self) -> None:
        view, bench = self.view, self.session.results.bench
        assert bench is not None
        view.below.show_view("histogram")  # type: ignore[attr-defined]
        listed = [view.below.of.itemText(k) for k in range(view.below.of.count())]  # type: ignore[attr-defined]
        self.assertEqual(listed, ["input and outputs", *(node.name for node in bench.nodes)])
        node = bench.nodes[0]
        view.below.of.setCurrentText(node.name)  # type: ignore[attr-defined]
        view.below.of.activated.emit(1)  # type: ignore[attr-defined]
        settle(self.session)
        plot = view.below.others["histogram"]  # type: ignore[attr-defined]
        drawn = [name for name, stroke in plot.strokes.items() if stroke.isVisible()]
        self.assertEqual(drawn, [node.name])
        stroke = plot.strokes[node.name]
        top = max(-node.lowest, node.highest + 1)
        inside = stroke.x[stroke.y > -55] * top
        wide = 2 * top / 200
        self.assertAlmostEqual(float(np.max(inside)), node.most, delta=wide)
        self.assertAlmostEqual(float(np.min(inside)), node.least, delta=wide)
        view.below.show_view("spectrogram")  # type: ignore[attr-defined]
        self.assertEqual(view.below.of.currentText(), "bit-true")  # type: ignore[attr-defined]

    def test_cursors_tell_what_lies_between_them(self) -> None:
        view = self.view
        view.time.marked.emit("first", 2.0)  # type: ignore[attr-defined]
        view.time.marked.emit("second", 2.1)  # type: ignore[attr-defined]
        words = view.cursor_words.text()  # type: ignore[attr-defined]
        self.assertIn("0.1 ms between them, a period of 10 kHz", words)
        bench = self.session.results.bench
        assert bench is not None
        at = bench.input.values[500] / bench.input.full
        self.assertIn(f"2 ms: input {at:.4g}".replace("-", "−"), words)
        view.below.spectrum.marked.emit("first", 64_000.0)  # type: ignore[attr-defined]
        self.assertIn("64 kHz: input −6", view.cursor_words.text())  # type: ignore[attr-defined]
        self.window.actions_table.named("Clear the cursors").trigger()
        self.assertFalse(view.cursor_words.isVisible())  # type: ignore[attr-defined]
        self.assertEqual(view.cursors[0].places, {})  # type: ignore[attr-defined]

    def test_spectra_are_lines_or_densities(self) -> None:
        view = self.view
        for kind, unit in (("density", "dB per Hz"), ("lines, flat top", "dB of full scale")):
            view.below.of.setCurrentText(kind)  # type: ignore[attr-defined]
            view.below.of.activated.emit(view.below.of.currentIndex())  # type: ignore[attr-defined]
            settle(self.session)
            self.assertEqual(view.below.spectrum.unit, unit)  # type: ignore[attr-defined]
        stroke = view.below.strokes["input"]  # type: ignore[attr-defined]
        self.assertAlmostEqual(float(np.max(stroke.y)), -6.0, delta=0.01)

    def test_figures_are_copied_three_ways(self) -> None:
        clipboard = QApplication.clipboard()
        assert clipboard is not None
        for form, start in (("text", "\tlevel\tpeak"), ("csv", '"","level","peak"'), ("markdown", "|  | level | peak")):
            self.view.copy(form)  # type: ignore[attr-defined]
            self.assertTrue(clipboard.text().startswith(start), clipboard.text()[:40])
        clipboard.clear()
        self.window.setFocus()
        self.window.actions_table.named("Copy").trigger()
        self.assertIn("bit-true", clipboard.text())

    def test_without_sound_it_is_said(self) -> None:
        with unittest.mock.patch("combe.app.sound._device", lambda: (None, "no device here plays sound")):
            self.window.actions_table.named("Play what comes out of the bench").trigger()
        self.assertIn("no device here", self.window.statusBar().currentMessage())

    def test_curves_are_aligned_copied_and_dressed_and_nothing_widens_the_window(self) -> None:
        view = self.view
        noise = BenchSetup("white -20 dB", 4096, 1, ("ideal",), 8)
        from combe.project import edits

        self.session.edit(edits.set_bench(noise))
        settle(self.session)
        stroke = view.strokes["time", "ideal"]  # type: ignore[attr-defined]
        before = float(stroke.first)
        QTest.mouseClick(view.aligned, Qt.MouseButton.LeftButton)  # type: ignore[attr-defined]
        view.aligned.setChecked(True)  # type: ignore[attr-defined]
        self.assertAlmostEqual((before - float(stroke.first)) * 250, 56.0, delta=0.2)
        self.assertIn("clipboard", self.window.bench_page.copy())
        clipboard = QApplication.clipboard()
        assert clipboard is not None
        self.assertIn("moving-average:8", clipboard.text())
        for theme in ("dark", "light"):
            self.window.dress(theme)
        long = " + ".join(["sine 12.3456 kHz -33.25 dB 17.5 deg"] * 30)
        self.session.edit(edits.set_bench(replace(noise, signal=long, through=("ideal", "rounded", "bit-true"))))
        settle(self.session)
        self.assertLessEqual(self.window.minimumSizeHint().width(), 1180)
        self.assertLessEqual(self.window.minimumSizeHint().height(), 700)

    def test_what_cannot_be_played_is_said(self) -> None:
        from combe.project import edits

        self.session.edit(edits.set_bench(BenchSetup('recording "/nowhere/creek.wav"')))
        settle(self.session)
        self.assertIn("no such file", self.view.words.text())  # type: ignore[attr-defined]
