"""A mask over the spectrum of what comes out: told in sentences, read from a file, dragged on the bench."""

from __future__ import annotations

import json
import unittest

import numpy as np

from combe.benching.asks import MOST_ASKS, ask_from, ask_lines, mask_asks
from combe.benching.heard import Heard
from combe.errors import FileError
from combe.filters import Fir
from combe.rounding.realize import Choices, realize
from tests.test_cli import InFolder, call
from tests.window_case import WindowCase, drag

RATE = 48_000.0


class Sentences(unittest.TestCase):
    def test_pieces_are_read_as_they_are_told(self) -> None:
        for text, wanted in (
            ("spectrum from 8 kHz to 24 kHz at most -50 dB", (8000.0, 24_000.0, -50.0, -50.0)),
            ("spectrum from 1k to 0.25fs at most -30 to -60 dB", (1000.0, 12_000.0, -30.0, -60.0)),
            ("spectrum from 0 to 5 kHz at most −3.5 dB", (0.0, 5000.0, -3.5, -3.5)),
        ):
            ask = ask_from(text, RATE)
            self.assertEqual((ask.hz, ask.until_hz, ask.value, ask.end), wanted)
            self.assertEqual(ask_from(ask.sentence, RATE), ask, "and told as they are read")
        for wrong in (
            "spectrum from 8 kHz to 2 kHz at most -50 dB", "spectrum from 1 kHz to 2 kHz at least -50 dB", "spectrum at most -50 dB",
            "spectrum from 1 kHz to 2 kHz at most -50", "spectrum from 1 kHz to 2 kHz at most a to -50 dB",
        ):  # fmt: skip
            with self.assertRaises(FileError):
                ask_from(wrong, RATE)

    def test_a_file_is_its_sentences(self) -> None:
        text = "frequency,level\n0, 0\n1e3;0 # flat\n\n1000\t-20\n 4000 -40\n"
        self.assertEqual(mask_asks(text, RATE), (
            "spectrum from 0 to 1 kHz at most 0 dB", "spectrum from 1 kHz to 4 kHz at most -20 to -40 dB",
        ))  # fmt: skip
        for wrong, words in (
            ("0,0\n1000,0\n500,-3\n", "line 3"), ("0,0\n1000\n", "line 2"), ("0,0\n", "0 pieces"), ("", "0 pieces"),
            ("0,0\n1000,nan\n", "line 2"), ("".join(f"{k},0\n" for k in range(MOST_ASKS + 2)), f"{MOST_ASKS + 1} pieces"),
        ):  # fmt: skip
            with self.assertRaises(FileError) as caught:
                mask_asks(wrong, RATE)
            self.assertIn(words, caught.exception.sentence())


class Figures(unittest.TestCase):
    def test_the_worst_place_is_that_of_a_plain_estimate(self) -> None:
        """White noise through a few taps: its density is their gain squared, against a straight line."""
        import combe

        taps = (0.15, 0.35, 0.35, 0.15)
        made = realize(Fir(taps), RATE, Choices(16, "", "s20f19", "s20f19"))
        bench = combe.bench(made, "white -20 dB", samples=400_000, through=["bit-true"])
        heard = bench.through[0]
        assert isinstance(heard, Heard)
        hz = np.linspace(0, RATE / 2, 4001)
        gain = np.abs(np.exp(-2j * np.pi * np.outer(hz, np.arange(4)) / RATE) @ np.array(taps)) ** 2
        for start, stop, first, last in ((9000, 20_000, -10, -10), (9000, 20_000, -3, -30), (0, 5000, 1, 1)):
            ask = f"spectrum from {start} Hz to {stop} Hz at most {first} to {last} dB"
            line = ask_lines(bench, [ask])[0]
            inside = (hz >= start) & (hz <= stop)
            level = 10 * np.log10(gain[inside] / gain.max())
            limit = first + (last - first) * (hz[inside] - start) / (stop - start)
            self.assertAlmostEqual(line.margin, float(np.min(limit - level)), delta=1.2)
            self.assertEqual(line.limit, "max_spectrum_db")
            self.assertAlmostEqual(line.asked - line.reached, line.margin)
        beyond = ask_lines(bench, ["spectrum from 100 kHz to 200 kHz at most -10 dB"])[0]
        self.assertLess(beyond.margin, 0, "what the output can't have is not kept")


class Command(InFolder):
    def test_a_mask_from_a_file(self) -> None:
        made = self.folder / "r.json"
        taps = self.put("taps.json", {"taps": [0.15, 0.35, 0.35, 0.15], "sample_rate_hz": RATE})
        self.assertEqual(call("realize", taps, "--out", made)[0], 0)
        words = ("bench", made, "--signal", "white -20 dB", "--samples", "20000", "--json")
        kept, missed = self.put("kept.csv", "hz,db\n0,3\n8000,3\n24000,0\n"), self.put("missed.csv", "0,3\n24000,-90\n")
        status, out, _ = call(*words, "--mask", kept)
        self.assertEqual((status, len(json.loads(out)["asked"])), (0, 2))
        status, out, _ = call(*words, "--mask", missed)
        self.assertEqual(status, 1)
        self.assertLess(json.loads(out)["asked"][0]["margin_db"], 0)
        status, out, _ = call(*words[:-1], "--mask", missed)
        self.assertIn("MISSED", out)
        for wrong in (
            (*words, "--mask", self.put("bad.csv", "0,0\nx,1\n")),
            (*words, "--mask", kept, "--through", "ideal"),
        ):
            self.assertEqual(call(*wrong)[0], 2)


class OnTheBench(WindowCase):
    def test_pieces_are_added_dragged_read_and_removed(self) -> None:
        first = self.session.project.bench.asks
        self.window.open_step("bench")
        self.settle()
        view = self.window.bench_page.view
        mask = view.below.spectrum_mask
        mask.add()
        self.settle()
        self.assertEqual(view.below.of.currentText(), "density", "where a mask can be seen")
        self.assertEqual(len(mask.pieces), 1)
        self.assertIn("spectrum from", self.session.project.bench.asks[-1])
        self.assertTrue(any(line.limit == "max_spectrum_db" for line in self.session.results.asked or ()))
        before = mask.pieces[0]
        drag(view.below.spectrum, mask._handles[1], 0, 14)
        self.settle()
        after = mask.pieces[0]
        self.assertLess(after.value, before.value - 1)
        self.assertEqual((after.hz, after.until_hz), (before.hz, before.until_hz))
        self.assertEqual(self.session.project.bench.asks[-1], after.sentence)
        path = self.folder / "mask.csv"
        path.write_text("0,3\n20000,3\n50000,-20\n")
        mask.read(str(path))
        self.settle()
        self.assertEqual(len(mask.pieces), 2)
        drag(view.below.spectrum, mask._handles[2], 30, 0)
        self.settle()
        self.assertGreater(mask.pieces[0].until_hz, 21_000)
        self.assertEqual(mask.pieces[0].until_hz, mask.pieces[1].hz, "pieces that touch go on touching")
        mask._on_moved(0, "stop", 33_000.0, 0.0)
        self.assertEqual((mask.pieces[0].until_hz, mask.pieces[1].hz), (33_000.0, 33_000.0), "whichever grip it is")
        path.write_text("0,3\nnothing\n")
        said: list[str] = []
        mask.complained.connect(said.append)
        mask.read(str(path))
        self.assertEqual(len(mask.pieces), 2)
        self.assertIn("line 2", said[0])
        view.below.of.setCurrentText("lines")
        view.below.show_again()
        self.settle()
        self.assertEqual(mask.pieces, [])
        mask.clear()
        self.settle()
        self.assertEqual(self.session.project.bench.asks, first)


if __name__ == "__main__":
    unittest.main()
