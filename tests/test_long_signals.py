"""Signals that come piece by piece: the pieces change nothing, memory stays flat, broken recordings are told."""

from __future__ import annotations

import csv
import json
import os
import random
import shutil
import tempfile
import threading
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
import soundfile

import combe
from combe.benching import long as benching_long
from combe.benching import run as benching
from combe.designing.designed import Design
from combe.errors import FileError
from combe.filters import Cascade, Fir
from combe.realization.formats import parse_format
from combe.realization.reading import realization_document
from combe.rounding.realize import Choices, realize
from combe.running import run as running
from combe.running.flow import BitTrueFlow, ExactFlow
from combe.running.random_integers import random_integers
from combe.signals import make, sheets, sources
from combe.signals.figures import Periodograms
from combe.signals.make import Player, make_signal
from combe.signals.recordings import read_recording
from combe.signals.spec import signal_from_sentence
from combe.signals.spread import PRIMITIVE, maximum_length
from tests.independent import plain_run
from tests.support import some
from tests.test_arithmetic import random_realization
from tests.test_networks import random_cascade, random_network
from tests.test_sections import random_section_realization

S16 = parse_format("s16f15")
EVERY = "sine 31 Hz -12 dB 20 deg + chirp 5 Hz to 900 Hz -20 dB + square 17 Hz -30 dB + white -40 dB + pink -50 dB + " \
        "maximum-length bits 7 -45 dB + step at 40 -30 dB + impulse at 70 -6 dB + modulated points 4 symbols 100 Hz 300 Hz -40 dB"  # fmt: skip
NOT_OF_PIECES = (
    "gain_error_db", "phase_error_deg", "sinad_db", "distortion_db", "spurious_free_db", "effective_bits",
)  # fmt: skip


def cut(values: np.ndarray, source: random.Random) -> list[np.ndarray]:
    """The same in pieces, some of them empty."""
    places = sorted(source.randrange(len(values) + 1) for _ in range(source.randrange(1, 7)))
    return np.split(values, places)


class Pieces(unittest.TestCase):
    def test_lengths_of_pieces_never_change_a_bit(self) -> None:
        source = random.Random(11)
        for index in some(range(60), 24):
            made = (random_realization, random_network, random_section_realization)[index % 3](source)
            if index == 0:  # a long history, kept in a ring
                made = realize(
                    Fir(tuple(0.9**k for k in range(70))), 1.0, Choices(12, "direct", "s12f11", product_bits=14)
                )
            samples = random_integers(160, made.input, index + 1)
            wanted = plain_run(json.loads(json.dumps(realization_document(made))), samples.tolist())
            for is_compiled in (False, True):
                with (
                    self.subTest(index, is_compiled=is_compiled),
                    patch.object(running, "is_worth_compiling", lambda _, yes=is_compiled: yes),
                    patch("combe.running.flow.is_worth_compiling", lambda _, yes=is_compiled: yes),
                ):
                    flow = BitTrueFlow(made)
                    found = [value for piece in cut(samples, source) for value in flow.take(piece).tolist()]
                    self.assertEqual(found, wanted)

    def test_a_long_signal_in_one_go_is_cut_without_a_trace(self) -> None:
        source = random.Random(12)
        for index in some(range(30), 9):
            made = (random_realization, random_network, random_section_realization)[index % 3](source)
            samples = random_integers(120, made.input, index + 1)
            wanted = plain_run(json.loads(json.dumps(realization_document(made))), samples.tolist())
            with patch("combe.running.flow.PIECE", 7):
                self.assertEqual(BitTrueFlow(made).take(samples).tolist(), wanted)

    def test_the_exact_filter_goes_on_where_it_was(self) -> None:
        source = random.Random(3)
        n = 400
        for taps in (1, 2, 9, 80):
            fir = Fir(tuple(source.uniform(-1, 1) for _ in range(taps)))
            signal = np.array([source.uniform(-1, 1) for _ in range(n)])
            wanted = np.array([sum(fir.taps[i] * signal[k - i] for i in range(taps) if k >= i) for k in range(n)])
            flow = ExactFlow(fir)
            np.testing.assert_allclose(np.concatenate([flow.take(p) for p in cut(signal, source)]), wanted, atol=1e-13)
        for is_compiled in (False, True):
            cascade = random_cascade(source)
            with patch("combe.running.flow.is_worth_compiling", lambda _, yes=is_compiled: yes):
                flow = ExactFlow(cascade)
                found = np.concatenate([flow.take(piece) for piece in cut(signal, source)])
            np.testing.assert_allclose(found, difference_equation(cascade, signal), atol=1e-9)

    def test_a_sample_out_of_range_is_told_by_its_place_in_the_whole(self) -> None:
        flow = BitTrueFlow(combe.realize(Design("given", Fir((0.5,)), 1.0)).realization)
        flow.take(np.zeros(70, dtype=np.int64))
        with self.assertRaises(combe.CombeError) as caught:
            flow.take(np.array([0, 40_000]))
        self.assertIn("sample 72 is 40000", caught.exception.sentence())

    def test_a_signal_is_the_same_in_any_pieces(self) -> None:
        signal = signal_from_sentence(EVERY, 2000.0, 3000, 5)
        whole = make_signal(signal, S16)
        for length in (1, 7, 1000, 2999, 3000, 5000):
            player = Player(signal, S16)
            found = np.concatenate(list(player.pieces(length)))
            self.assertEqual((found.tolist(), player.clipped), (whole.raw.tolist(), whole.clipped), length)
        # The level of noise is that of the whole signal, summed in pieces of its own.
        noise = signal_from_sentence("white -20 dB", 2000.0, 5000, 2)
        with patch.object(sources, "PIECE", 640):
            raw = make_signal(noise, S16).raw
        self.assertAlmostEqual(float(np.sqrt(2 * np.mean((raw / 32768.0) ** 2))), 0.1, delta=1e-4)

    def test_registers_obey_their_polynomial(self) -> None:
        for bits, inner in PRIMITIVE.items():
            if bits > 18:
                continue
            ones = (maximum_length(bits, 3 * (1 << min(bits, 12))) < 0).astype(int).tolist()
            period = (1 << bits) - 1
            for k in range(bits, min(len(ones), period)):
                wanted = ones[k - bits]
                for lag in inner:
                    wanted ^= ones[k - lag]
                self.assertEqual(ones[k], wanted, (bits, k))

    def test_averaged_periodograms_in_pieces(self) -> None:
        source = random.Random(8)
        values = np.array([source.gauss(0, 1) for _ in range(5000)])
        found = Periodograms(256, 100.0)
        for piece in cut(values, source):
            found.take(piece)
        window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(256) / 256)
        wanted = np.mean(
            [np.abs(np.fft.fft(values[at : at + 256] * window)[:129]) ** 2 for at in range(0, 4745, 128)], axis=0
        )
        wanted /= 100.0 * float(np.sum(window**2))
        wanted[1:-1] *= 2
        np.testing.assert_allclose(found.found()[1], wanted, rtol=1e-9)


def difference_equation(cascade: Cascade, signal: np.ndarray) -> np.ndarray:
    values = [float(value) * cascade.gain for value in signal]
    for b0, b1, b2, a1, a2 in cascade.sections:
        found: list[float] = []
        for n, x in enumerate(values):
            past = [values[n - k] if n >= k else 0.0 for k in (1, 2)]
            back = [found[n - k] if n >= k else 0.0 for k in (1, 2)]
            found.append(b0 * x + b1 * past[0] + b2 * past[1] - a1 * back[0] - a2 * back[1])
        values = found
    return np.array(values)


class LongBench(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory(prefix="combe-test-")
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def test_a_long_bench_says_what_a_short_one_says(self) -> None:
        for source in (
            Fir((0.1, 0.3, 0.3, 0.1, -0.05)),
            Cascade(((0.2, 0.3, 0.2, -0.6, 0.4), (1.0, 0.5, 1.0, 0.1, 0.3)), 0.4),
        ):
            realized = combe.realize(Design("given", source, 2000.0), 14)
            sentence = "sine 40 Hz -8 dB + sine 333 Hz -20 dB 50 deg + white -50 dB"
            short = combe.bench(realized, sentence, samples=30_011, against=[4], to=self.folder / "short")
            with patch.object(benching, "MOST_AT_ONCE", 1000), patch("combe.benching.long.PIECE", 4096):
                long = combe.bench(realized, sentence, samples=30_011, against=[4], to=self.folder / "long")
            whole = short.document()
            self.assertTrue(whole.pop("nodes"))
            self.near(whole, long.document())
            for name in ("traces.csv", "spectrum.csv"):
                rows = [
                    np.loadtxt(self.folder / which / name, delimiter=",", skiprows=1) for which in ("short", "long")
                ]
                np.testing.assert_allclose(rows[0], rows[1], atol=1e-9)
            heads = {(self.folder / which / "traces.csv").read_text().split("\n")[0] for which in ("short", "long")}
            self.assertEqual(len(heads), 1)
            self.assertEqual(json.loads((self.folder / "long" / "bench.json").read_text()), long.document())

    def near(self, one: object, other: object) -> None:
        if isinstance(one, dict) and isinstance(other, dict):
            self.assertEqual(list(one), list(other))
            for key in one:
                if key in NOT_OF_PIECES and other[key] is None:
                    continue  # of a signal that is never there as a whole nobody knows what stands beside a tone
                self.near(one[key], other[key])
        elif isinstance(one, list) and isinstance(other, list):
            self.assertEqual(len(one), len(other))
            for a, b in zip(one, other):
                self.near(a, b)
        elif isinstance(one, float) and isinstance(other, float):
            self.assertAlmostEqual(one, other, delta=1e-6 * max(1.0, abs(one)))
        else:
            self.assertEqual(one, other)

    def test_only_a_stretch_is_kept_and_figures_are_of_everything(self) -> None:
        realized = combe.realize(Design("given", Fir((1.0,)), 2000.0))
        with patch.object(benching, "MOST_AT_ONCE", 1000), patch("combe.benching.long.STRETCH", 500):
            found = combe.bench(realized, "step at 9000 -6 dB", samples=10_000, through=["ideal"])
        self.assertEqual((found.samples, len(found.input.values), found.is_excerpt), (10_000, 500, True))
        self.assertAlmostEqual(found.through[0].peak, 0.5, delta=0.002)
        self.assertAlmostEqual(found.through[0].rms, 0.5 * np.sqrt(0.1), delta=0.001)

    @unittest.skipUnless(shutil.which("gcc"), "gcc is not on this machine")
    def test_compiled_code_goes_on_where_the_piece_before_ended(self) -> None:
        for source in (Fir((0.1, 0.3, 0.3, 0.1, -0.05)), Cascade(((0.2, 0.3, 0.2, -0.6, 0.4),), 0.4)):
            realized = combe.realize(Design("given", source, 2000.0), 14)
            with patch.object(benching, "MOST_AT_ONCE", 1000), patch("combe.benching.long.PIECE", 997):
                long = combe.bench(realized, "white -12 dB", samples=5003, through=["code", "bit-true"])
                alone = combe.bench(realized, "white -12 dB", samples=5003, through=["code"]).through[0]
            short = combe.bench(realized, "white -12 dB", samples=5003, through=["bit-true"]).through[0]
            self.assertEqual([heard.identical for heard in (*long.through, alone)], [True, None, True])
            for heard in (*long.through, alone):
                np.testing.assert_array_equal(heard.values, short.values)

    def test_a_program_wrong_in_its_first_piece_alone_is_caught(self) -> None:
        made = combe.realize(Design("given", Fir((0.5, 0.25)), 2000.0), 14).realization
        for wrong_piece in (0, 1, 3):
            flow, pieces = BitTrueFlow(made), iter(range(9))

            def code(
                raw: np.ndarray, flow: BitTrueFlow = flow, pieces: object = pieces, bad: int = wrong_piece
            ) -> np.ndarray:
                return flow.take(raw) + (next(pieces) == bad)  # type: ignore[call-overload]

            player = Player(signal_from_sentence("white -12 dB", 2000.0, 4000), made.input)
            long = benching_long.LongBench(made, None, player, (), 10, ["code"], [], code)
            with patch("combe.benching.long.PIECE", 1000):
                for _ in long.run(lambda _: None, lambda: False):
                    pass
            self.assertEqual(long.heard()[0].identical, False, wrong_piece)

    def test_a_run_that_fails_leaves_nothing(self) -> None:
        path = self.folder / "bad.txt"
        path.write_text("1\n" * 5000 + "x\n" + "1\n" * 10)
        realized = combe.realize(Design("given", Fir((1.0,)), 2000.0))
        with patch.object(benching, "MOST_AT_ONCE", 1000), self.assertRaises(FileError) as caught:
            combe.bench(realized, f"recording {path}", to=self.folder / "out")
        self.assertIn("line 5001", caught.exception.sentence())
        self.assertEqual(list((self.folder / "out").glob("*")) if (self.folder / "out").exists() else [], [])

    def test_what_is_too_long_for_tools_and_for_one_piece_is_told(self) -> None:
        realized = combe.realize(Design("given", Fir((1.0,)), 2000.0))
        with patch.object(benching, "MOST_WHOLE", 5000), self.assertRaises(combe.CombeError) as caught:
            combe.bench(realized, "white -20 dB", samples=6000, through=["bit-true", "circuit"])
        self.assertIn("too many for circuit", caught.exception.sentence())
        with patch.object(make, "MOST_WHOLE", 5000), self.assertRaises(FileError) as refused:
            combe.bench(realized, "pink -20 dB", samples=6000)
        self.assertIn("samples of pink", refused.exception.sentence())


class Sheets(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory(prefix="combe-test-")
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def refused(self, text: str | bytes, column: str | int | None = None) -> str:
        path = self.folder / "x.csv"
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        with self.assertRaises(FileError) as caught:
            read_recording(path, column)
        return caught.exception.sentence()

    def test_tables_in_small_pieces_are_what_a_stranger_reads(self) -> None:
        source = random.Random(21)
        for index in range(30):
            separator = source.choice([",", ";", "\t"])
            rows = [[f"{source.uniform(-50, 50):.4g}" for _ in range(3)] for _ in range(source.randrange(1, 80))]
            path = self.folder / f"{index}.csv"
            with path.open("w", newline="") as stream:
                writer = csv.writer(
                    stream, delimiter=separator, quoting=source.choice([csv.QUOTE_MINIMAL, csv.QUOTE_ALL])
                )
                if source.random() < 0.7:
                    writer.writerow(["one", "two, or more", "three"])
                for row in rows:
                    if source.random() < 0.1:
                        stream.write("\n# a remark; with, signs\n")
                    writer.writerow(row)
            with patch.object(sheets, "PIECE_BYTES", source.choice([200, 1000, 1 << 20])), self.subTest(index):
                column = source.randrange(3)
                found = read_recording(path, column + 1).values.tolist()
                self.assertEqual(found, [float(row[column]) for row in rows])

    def test_a_line_far_down_is_named(self) -> None:
        text = "load\n" + "1.5\n" * 3000 + "\n# pause\n" + "2\nlost\n"
        with patch.object(sheets, "PIECE_BYTES", 512):
            self.assertTrue(self.refused(text, "load").endswith('line 3005: expected a number, found "lost"'))

    def test_broken_tables_get_a_sentence(self) -> None:
        for text, column, words in (
            ("a;b;a\n1;2;3\n", "a", "its number, 1 or 3"), ("a\n1\nnan\n", None, "line 3"), ("a\n1\ninf\n", None, "line 3"), ("a\n1\n0x10\n", None, "line 3"),
            ("a\n1\n1_000\n", None, "line 3"), ("a\n1\n1e999\n", None, "too large"), ("a,b\n1,2\n3\n", "b", "line 3"), (b"\xff\xfe1\x002\x00", None, "UTF-8"),
            ("", None, "no numbers"), ("# only\n", None, "no numbers"), ("1" * (1 << 25), None, "many million"), ("a,b\n1,2\n", 3, "known are"),
        ):  # fmt: skip
            with self.subTest(words, text=text[:20]):
                self.assertIn(words, self.refused(text, column))

    def test_decimal_commas_and_lines_that_end_in_a_separator(self) -> None:
        for text, column, wanted in (
            ("kg;s\n1,5;2\n-0,25;3\n", "kg", [1.5, -0.25]), ("1,5\t2\n3,5\t4\n", 1, [1.5, 3.5]), ("7,\n8,\n", 1, [7, 8]),
            ("\ufeffkg\r\n5\r\n6\r\n", "kg", [5, 6]), ("  3\n -4 \n", None, [3, -4]),
        ):  # fmt: skip
            path = self.folder / "d.csv"
            path.write_bytes(text.encode())
            with self.subTest(text):
                self.assertEqual(read_recording(path, column).values.tolist(), wanted)

    def test_a_pipe_is_read_once(self) -> None:
        path = self.folder / "pipe"
        os.mkfifo(path)
        writer = threading.Thread(target=lambda: path.write_text("3\n4\n-5\n"), daemon=True)
        writer.start()
        self.assertEqual(make_signal(signal_from_sentence(f"recording {path}", 1.0), S16).raw.tolist(), [3, 4, -5])
        writer.join(5)

    def test_sound_that_is_no_number_is_told_by_its_place(self) -> None:
        values = np.zeros(70_000, dtype=np.float32)
        values[66_000] = np.nan
        soundfile.write(self.folder / "n.wav", values, 8000, subtype="FLOAT")
        with self.assertRaises(FileError) as caught:
            read_recording(self.folder / "n.wav")
        self.assertIn("sample 66001", caught.exception.sentence())
        (self.folder / "t.wav").write_bytes((self.folder / "n.wav").read_bytes()[:30])
        with self.assertRaises(FileError):
            read_recording(self.folder / "t.wav")
        soundfile.write(self.folder / "e.wav", values[:0], 8000)
        with self.assertRaises(FileError) as empty:
            make_signal(signal_from_sentence(f"recording {self.folder / 'e.wav'}", 8000.0), S16)
        self.assertIn("no samples", empty.exception.sentence())
