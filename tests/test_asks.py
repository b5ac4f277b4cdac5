"""What a bench must show: sentences, lines, verdicts everywhere; and the recordings that come with Combe."""

from __future__ import annotations

import json
import unittest
from unittest import mock

import numpy as np
from PyQt6.QtWidgets import QDialog, QDialogButtonBox

import combe
from combe.app.states import states
from combe.app.widgets.recording_dialog import RecordingDialog
from combe.benching.asks import EXAMPLES, ask_from, ask_lines
from combe.benching.setup import BenchSetup
from combe.designing.designed import Design
from combe.errors import CombeError, FileError
from combe.filters import Fir
from combe.ledger import Line
from combe.ledger.words import figure_text, is_untold, limit_name, margin_words, signed_margin
from combe.project import edits
from combe.project.demo import demo_project, recorder_project
from combe.project.file import project_document, project_from, save_project
from combe.realization.formats import parse_format
from combe.signals.figures import delay_by_correlation
from combe.signals.make import make_signal
from combe.signals.roost import BAT_KG, BEAM_KG, FULL_KG, visits
from combe.signals.spec import signal_from_sentence
from combe.signals.survey import night_values
from combe.values import replace
from tests.test_cli import InFolder, call
from tests.window_case import WindowCase, type_over

S16 = parse_format("s16f15")


class Sentences(unittest.TestCase):
    def test_each_says_itself_again(self) -> None:
        for text in (*EXAMPLES, "6 kHz at least -0.2 dB", "signal to noise at most 90 dB", "delay at least 20 us"):
            ask = ask_from(text, 250_000.0)
            self.assertEqual(ask_from(ask.sentence, 250_000.0), ask)
        self.assertEqual(ask_from("0.25fs at most -3 dB", 1000.0).hz, 250.0)
        self.assertEqual(ask_from("10 Hz at most −3 dB", 1000.0).value, -3.0)

    def test_what_is_no_limit_is_refused_with_an_example(self) -> None:
        for text in (
            "",
            "loud",
            "signal to noise at least",
            "signal to noise at least loud dB",
            "saturated at most 0.5",
            "900 kHz at most -3 dB",
            "6 kHz at most -3",
            "6 kHz above -3 dB",
        ):
            with self.subTest(text), self.assertRaises(FileError) as caught:
                ask_from(text, 250_000.0)
            self.assertIn("signal to noise at least 80 dB", caught.exception.sentence())


class Lines(unittest.TestCase):
    def test_lines_are_what_the_bench_says(self) -> None:
        realized = combe.realize(Design("given", Fir((0.0, 0.0, 0.5, 0.25)), 1000.0))
        bench = combe.bench(realized, "sine 100 Hz -12 dB + white -6 dB", samples=40_000)
        true = next(heard for heard in bench.through if heard.name == "bit-true")
        gain = 20 * np.log10(abs(0.5 + 0.25 * np.exp(-2j * np.pi * 0.1)))
        asks = (
            "signal to noise at least 60 dB",
            "100 Hz at most -2 dB",
            "100 Hz at least -4 dB",
            "delay at most 2 ms",
            "saturated at most 0",
            "250 Hz at most 0 dB",
        )
        snr, most, least, late, ends, unheard = ask_lines(bench, asks)
        assert true.snr_db is not None and true.delay_samples is not None
        self.assertAlmostEqual(snr.margin, true.snr_db - 60)
        quiet = combe.bench(realized, "sine 100 Hz -12 dB + white -40 dB", samples=4000)
        clear = next(heard for heard in quiet.through if heard.name == "bit-true")
        assert clear.purity is not None and clear.purity.distortion_db is not None
        pure = ask_lines(
            quiet,
            (
                "noise and distortion at least 1 dB", "spurious-free at least 2 dB", "distortion at most -3 dB",
                "effective bits at least 0.5", "error vector at most -40 dB",
            ),
        )  # fmt: skip
        found = clear.purity
        wanted = (found.sinad_db - 1, found.spurious_free_db - 2, -3 - found.distortion_db, found.effective_bits - 0.5)
        for line, margin in zip(pure, wanted):
            self.assertAlmostEqual(line.margin, margin, msg=line.limit)
        self.assertTrue(is_untold(pure[-1]), "no carrier, no error vector")
        self.assertTrue(is_untold(ask_lines(bench, ["noise and distortion at least 1 dB"])[0]), "more noise than tone")
        self.assertEqual(limit_name(pure[0]), "Noise and distortion")
        self.assertAlmostEqual(most.margin, -2 - gain, delta=0.05)
        self.assertAlmostEqual(least.margin, gain + 4, delta=0.05)
        self.assertAlmostEqual(late.reached, true.delay_samples / 1000)
        self.assertEqual((ends.reached, ends.margin), (true.saturated, -float(true.saturated or 0)))
        # A tone that isn't played can't be heard: that is no kept limit.
        self.assertLess(unheard.margin, 0)
        self.assertEqual(limit_name(most), "100 Hz tone")
        alone = replace(bench, through=bench.through[:1])
        self.assertTrue(all(line.margin < 0 for line in ask_lines(alone, asks)))

    def test_projects_keep_them_and_refuse_what_is_none(self) -> None:
        project = recorder_project()
        self.assertEqual(project_from(json.loads(json.dumps(project_document(project)))).bench, project.bench)
        document = project_document(project)
        document["filters"][0]["bench"]["asks"] = ["loud"]
        with self.assertRaises(CombeError) as caught:
            project_from(document)
        self.assertIn("filters[0].bench.asks", caught.exception.sentence())


class Verbs(InFolder):
    def test_a_bench_list_and_check_say_what_is_missed(self) -> None:
        for limit, status in (("60", 0), ("99", 1)):
            bench = BenchSetup("white -12 dB", 3000, asks=(f"signal to noise at least {limit} dB",))
            path = self.folder / "p.combe"
            save_project(replace(demo_project(), bench=bench), path)
            found, out, _ = call("bench", path, "--json")
            self.assertEqual(found, status)
            self.assertEqual((json.loads(out)["samples"], json.loads(out)["asked"][0]["limit"]), (3000, "min_snr_db"))
            self.assertEqual(call("list", path)[0], status)
            self.assertIn("MISSED" if status else "kept", call("bench", path)[1])
        status, out, _ = call("check", path)
        self.assertEqual(status, 1)
        self.assertIn("misses Signal to noise", out)
        self.assertEqual(call("bench", self.put("t.txt", "0.5\n"))[0], 2)


class InTheWindow(WindowCase):
    def test_limits_are_typed_and_have_rows_in_the_ledger(self) -> None:
        window = self.window
        window.open_step("bench")
        self.settle()
        rows = window.ledger.ledger.rowCount()
        type_over(window.bench.ask_rows[0], "signal to noise at least 60 dB")
        self.settle()
        self.assertEqual(self.session.project.bench.asks, ("signal to noise at least 60 dB",))
        self.assertEqual(window.ledger.ledger.rowCount(), rows + 1)
        self.assertEqual(window.ledger.ledger.words(rows, 0)[0], "Signal to noise")
        self.assertTrue(window.ledger.ledger.words(rows, 4)[2].startswith("+"))
        self.assertEqual(window.ledger.ledger.words(rows, 2), ("", "", ""))
        self.assertEqual(states(self.session)["bench"].verdict, "kept")
        type_over(window.bench.ask_rows[1], "nonsense")
        self.assertEqual(len(self.session.project.bench.asks), 1)
        self.session.edit(
            edits.set_bench(replace(self.session.project.bench, asks=("signal to noise at least 130 dB",)))
        )
        self.settle()
        self.assertEqual(states(self.session)["bench"].verdict, "missed")
        self.session.edit(edits.set_bench(replace(self.session.project.bench, asks=())))
        self.settle()
        self.assertEqual(window.ledger.ledger.rowCount(), rows)

    def test_a_column_of_a_table_is_picked_by_sight(self) -> None:
        path = self.folder / "beam.csv"
        path.write_text("time;who;kg\n0,0;a;0,12\n0,1;b;0,13\n")
        panel = self.window.bench
        self.window.open_step("bench")
        seen: list[RecordingDialog] = []

        def accept(dialog: RecordingDialog) -> QDialog.DialogCode:
            seen.append(dialog)
            self.assertEqual(dialog.place, 2)
            ok = dialog.buttons.button(QDialogButtonBox.StandardButton.Ok)
            dialog.pick(1)
            self.assertFalse(ok.isEnabled())
            dialog.pick(2)
            dialog.full.setText("half")
            self.assertFalse(ok.isEnabled())
            dialog.full.setText("0,5")
            dialog.offset.setText("0.1")
            self.assertTrue(ok.isEnabled())
            return QDialog.DialogCode.Accepted

        with mock.patch.object(RecordingDialog, "exec", accept):
            panel.add_recording(str(path))
        self.assertTrue(
            self.session.project.bench.signal.endswith(f'recording "{path}" column 3 offset 0.1 full scale 0.5')
        )
        self.settle()
        self.assertIsNotNone(self.session.results.bench)
        with mock.patch.object(RecordingDialog, "exec", return_value=QDialog.DialogCode.Rejected):
            panel.add_recording(str(path))
        self.assertEqual(self.session.project.bench.signal.count("recording"), 1)
        panel.add_recording(str(self.folder / "none.csv"))
        self.assertEqual(self.session.project.bench.signal.count("recording"), 1)

    def test_a_long_signal_shows_its_beginning_first(self) -> None:
        seen = []
        self.session.stepped.connect(lambda name: seen.append(self.session.results.bench) if name == "bench" else None)
        self.window.open_step("bench")
        self.session.edit(edits.set_bench(BenchSetup("sine 40 kHz -12 dB", 2_100_000)))
        self.settle()
        counts = [bench.samples for bench in seen if bench is not None]
        self.assertEqual(counts[-2:], [1 << 16, 2_100_000])
        last = seen[-1]
        self.assertTrue(last.is_excerpt)
        # All of it can be seen, the piece by piece as well, in as many points as the plot has pixels.
        time = self.window.bench_page.view.time
        time.view.setXRange(0.0, 2_100_000 / 250, padding=0)
        self.assertFalse(time.grab().isNull())
        stroke = self.window.bench_page.view.strokes["time", "input"]
        self.assertLess(len(stroke.x), 12 * time.width())
        self.assertAlmostEqual(float(stroke.x[-1]), 2_100_000 / 250, delta=10)
        for levels, full in ((last.input.levels, last.input.full), (last.through[-1].levels, last.through[-1].full)):
            self.assertEqual(levels.count, 2_100_000)
            self.assertAlmostEqual(levels.peak / full, 0.251, delta=0.01)


class Surveys(unittest.TestCase):
    def test_the_night_is_the_recording_whatever_the_pieces(self) -> None:
        raw = make_signal(signal_from_sentence("survey night", 250_000.0, 20_000), S16).raw
        night = np.clip(np.rint(night_values(250_000.0) * 32768), -32768, 32767)
        np.testing.assert_array_equal(raw[:15_000], night)
        np.testing.assert_array_equal(raw[15_000:], night[:5_000])

    def test_the_beam_weighs_who_sits_on_it(self) -> None:
        rate = 160.0
        values = make_signal(signal_from_sentence("survey roost 0 dB", rate, 14_400), S16).raw / 32768 * FULL_KG
        self.assertTrue(values.min() > 0.08 and values.max() < FULL_KG)
        # Averaged over whole seconds sway and hum are gone, drift is small: what is left are bats of about 7.5 g.
        land, leave, mass = visits()
        seconds = values.reshape(90, 160).mean(axis=1)
        middle = np.arange(90) + 0.5
        sitting = np.array([mass[(land < t - 1.5) & (leave > t + 1.5)].sum() for t in middle])
        quiet = np.array([not np.any((np.abs(land - t) < 2) | (np.abs(leave - t) < 2)) for t in middle])
        self.assertGreater(np.count_nonzero(quiet), 10)
        self.assertLess(np.max(np.abs(seconds - BEAM_KG - sitting)[quiet]), 0.0085)
        self.assertGreater(sitting.max(), 2 * BAT_KG)
        for text in ("survey", "survey owls", "survey night 5 Hz"):
            with self.assertRaises(FileError):
                signal_from_sentence(text, rate, 10)

    def test_a_slow_signal_is_not_drawn_towards_no_delay(self) -> None:
        n = np.arange(700)
        slow = np.sin(n / 90.0) + 0.4 * np.sin(n / 31.0) + 0.02 * n / 100
        for delay in (0, 9, 17):
            heard = np.concatenate([np.full(delay, slow[0]), slow[: len(slow) - delay]])
            found = delay_by_correlation(slow[50:], heard[50:], 60)
            self.assertTrue(found is None or abs(found - delay) < 0.6, found)


class Untold(unittest.TestCase):
    def test_what_a_signal_cannot_tell_is_missed_and_no_number(self) -> None:
        made = combe.realize(Design("given", Fir((0.5, 0.5)), 48_000.0))
        bench = combe.bench(made, "white -20 dB", samples=2000)
        lines = ask_lines(bench, ("5 kHz at most -10 dB", "signal to noise at least 40 dB"))
        self.assertEqual([line.margin < 0 for line in lines], [True, False])
        self.assertEqual(margin_words(lines[:1]), "5 kHz tone: can't be told")
        self.assertEqual(figure_text(lines[0], lines[0].reached), "can't be told")
        self.assertEqual((signed_margin(lines[0].margin), figure_text(lines[0], lines[0].asked)), ("", "−10 dB"))
        many = Line("", -1, "max_multiplies", 1.0, 1000.0, -999.0)
        self.assertIn("missed by 999", margin_words((many,)))
