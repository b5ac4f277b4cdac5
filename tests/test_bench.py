"""Signals against their definitions, and the bench's figures against closed forms."""

from __future__ import annotations

import json
import math
import random
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import combe
from combe.benching import nodes
from combe.designing.designed import Design
from combe.errors import CombeError, FileError
from combe.filters import Cascade, Fir
from combe.realization.formats import Format, parse_format
from combe.realization.reading import realization_document
from combe.signals.figures import delay_by_correlation, density, fit_tones
from combe.signals.make import make_signal
from combe.signals.modulation import constellation, pulse
from combe.signals.recordings import read_recording
from combe.signals.sheets import sheet_of
from combe.signals.spec import read_signal, signal_document, signal_from, signal_from_sentence
from combe.signals.spread import maximum_length
from tests.independent import plain_run
from tests.support import some
from tests.test_cli import InFolder, call
from tests.test_delivery import HAS_GCC

S16 = parse_format("s16f15")


def made(sentence: str, rate: float = 2000.0, samples: int = 20_000, seed: int = 1, entry: Format = S16) -> np.ndarray:
    return make_signal(signal_from_sentence(sentence, rate, samples, seed), entry).raw


def level(raw: np.ndarray, bits: int = 16) -> float:
    return 20 * math.log10(math.sqrt(2) * math.sqrt(float(np.mean(raw.astype(float) ** 2))) / 2 ** (bits - 1))


class Parts(unittest.TestCase):
    def test_a_sine_is_what_its_definition_says_to_the_last_step(self) -> None:
        raw = made("sine 310 Hz -12 dB 40 deg", samples=3000)
        for n in range(0, 3000, 7):
            value = 32768 * 10 ** (-12 / 20) * math.sin(2 * math.pi * 310 * n / 2000 + math.radians(40))
            self.assertLessEqual(abs(int(raw[n]) - value), 0.5 + 1e-6)

    def test_levels_are_those_asked(self) -> None:
        for sentence in ("sine 100 Hz -20 dB", "white -30 dB", "pink -25 dB", "square 50 Hz -10 dB", "maximum-length bits 9 -15 dB",
                         "chirp 10 Hz to 900 Hz -20 dB", "chirp 10 Hz to 900 Hz logarithmic -20 dB",
                         "modulated points 16 symbols 100 Hz 400 Hz -20 dB"):  # fmt: skip
            wanted = float(sentence.rsplit(" ", 2)[1])
            with self.subTest(sentence):
                self.assertAlmostEqual(level(made(sentence)), wanted, delta=0.06)
        raw = made("impulse at 5 -6 dB + step at 100 -12 dB", samples=200)
        self.assertEqual(
            (int(raw[5]), int(raw[4]), int(raw[150])), (round(32768 * 10**-0.3), 0, round(32768 * 10**-0.6))
        )

    def test_parts_are_added_rounded_to_even_and_saturated(self) -> None:
        entry = Format(True, 4, 0)
        found = make_signal(signal_from_sentence("step -12.0412 dB + step 0 dB", 1.0, 3), entry)
        self.assertEqual((found.raw.tolist(), found.clipped), ([7, 7, 7], 3))
        unsigned = make_signal(signal_from_sentence("sine 1 Hz 0 dB", 8.0, 8), Format(False, 8, 0))
        self.assertEqual(int(unsigned.raw.min()), 0)
        self.assertGreater(unsigned.clipped, 2)

    def test_the_same_file_gives_the_same_samples_and_another_seed_others(self) -> None:
        first, again, other = (made("white -20 dB + white -20 dB", samples=500, seed=seed) for seed in (7, 7, 8))
        self.assertEqual(first.tolist(), again.tolist())
        self.assertNotEqual(first.tolist(), other.tolist())
        # Frozen: these must never change, on any machine.
        self.assertEqual(made("white -20 dB", samples=4096, seed=7)[:4].tolist(), FROZEN)

    def test_white_is_flat_and_pink_falls_by_three_decibels_an_octave(self) -> None:
        for name, slope in (("white", 0.0), ("pink", -3.01)):
            raw = made(f"{name} -20 dB", 1.0, 1 << 18)
            power = np.abs(np.fft.rfft(raw)) ** 2
            octaves = [float(np.mean(power[1 << k : 2 << k])) for k in range(8, 16)]
            falls = np.diff(10 * np.log10(octaves))
            self.assertAlmostEqual(float(np.mean(falls)), slope, delta=0.15)

    def test_maximum_length_sequences_have_every_word_once(self) -> None:
        for bits in range(2, 15):
            period = (1 << bits) - 1
            values = (maximum_length(bits, 2 * period) < 0).astype(int)
            words = {tuple(values[k : k + bits].tolist()) for k in range(period)}
            self.assertEqual(len(words), period, bits)
            self.assertEqual(values[:period].tolist(), values[period:].tolist())

    def test_root_nyquist_pulses_do_not_touch_each_other(self) -> None:
        for rolloff in (0.1, 0.25, 0.5, 1.0):
            t = np.arange(-12 * 64, 12 * 64 + 1) / 64
            p = pulse(t, rolloff)
            for k in range(6):
                product = float(np.sum(p[k * 64 :] * p[: len(p) - k * 64])) / 64
                self.assertAlmostEqual(product, 1.0 if k == 0 else 0.0, delta=0.03 if rolloff < 0.2 else 0.005)
        for points in (4, 8, 16, 64, 1024, 4096):
            grid = constellation(points)
            self.assertEqual(len(set(np.round(grid, 9))), points)
            self.assertAlmostEqual(float(np.mean(np.abs(grid) ** 2)), 1.0)

    def test_what_is_not_understood_is_named(self) -> None:
        for sentence, words in (
            ("", "no signal"), ("buzz 3 Hz", "no kind"), ("sine", "hz"), ("sine 3 kHz", "can't be sampled"), ("sine 20 Hz loud", "loud"),
            ("modulated points 5 symbols 100 Hz 400 Hz", "no constellation"), ("chirp 0 Hz to 100 Hz logarithmic", "above zero"),
            ("maximum-length bits 40", "out of reach"), ("white 99 dB", "out of reach"),
        ):  # fmt: skip
            with self.subTest(sentence), self.assertRaises(CombeError) as caught:
                make_signal(signal_from_sentence(sentence, 2000.0, 100), S16)
            self.assertIn(words, caught.exception.sentence())

    def test_a_file_says_what_a_sentence_says(self) -> None:
        told = signal_from_sentence(
            "sine 20 Hz -12 dB + chirp 5 Hz to 80 Hz linear -6 dB 90 deg + white -60 dB", 2000.0, 500, 9
        )
        self.assertEqual(signal_from(signal_document(told)), told)
        document = signal_document(told)
        for key, value, words in (
            ("format", "x", "combe-signal"), ("version", 2, "version"), ("parts", [], "at least one"), ("samples", 0, "samples"), ("sample_rate_hz", -1, "above zero"),
            ("parts", [{"kind": "sine", "hz": 3, "bits": 4}], "no bits"), ("parts", [{"kind": "sine", "herz": 3}], "not known"), ("extra", 1, "not known"),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaises(FileError) as caught:
                signal_from(document | {key: value})
            self.assertIn(words, caught.exception.sentence())


FROZEN = [-226, 575, -2612, -598]


class Recordings(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="combe-test-"))
        self.addCleanup(shutil.rmtree, self.folder)

    def put(self, name: str, text: str) -> Path:
        (self.folder / name).write_text(text)
        return self.folder / name

    def test_headers_and_separators_are_found(self) -> None:
        for name, text, column, wanted in (
            ("a.csv", "time_s,load,note\n0,12.5,x\n1,-3,y\n", "load", [12.5, -3]), ("b.csv", "# roost\n\nT;kg\n1;0,5\n2;0,25\n", "kg", [0.5, 0.25]),
            ("c.txt", "5\n-6\n7\n", None, [5, -6, 7]), ("d.tsv", "a\tb\n1\t2\n3\t4\n", 2, [2, 4]), ("e.txt", "1 2\n3 4\n", "1", [1, 3]),
        ):  # fmt: skip
            with self.subTest(name):
                self.assertEqual(read_recording(self.put(name, text), column).values.tolist(), wanted)
        for text, column, words in (
            ("a,b\n1,2\n", None, "2 columns"),
            ("a,b\n1,2\n", "c", "known are a, b"),
            ("a\n1\nx\n", "a", "line 3"),
            ("", None, "no numbers"),
        ):
            with self.subTest(words), self.assertRaises(FileError) as caught:
                read_recording(self.put("x.csv", text), column)
            self.assertIn(words, caught.exception.sentence())
        self.assertEqual(sheet_of("x,y\n1,2\n", "").header, ("x", "y"))

    def test_full_scale_and_offset(self) -> None:
        self.put("kg.csv", "kg\n10\n11\n12\n9\n")
        document = {
            "format": "combe-signal",
            "version": 1,
            "sample_rate_hz": 160,
            "parts": [{"kind": "recording", "file": "kg.csv", "offset": 10, "full_scale": 4}],
        }
        (self.folder / "s.json").write_text(json.dumps(document))
        self.assertEqual(make_signal(read_signal(self.folder / "s.json"), S16).raw.tolist(), [0, 8192, 16384, -8192])

    def test_halves_go_to_the_even_integer(self) -> None:
        path = self.put("halves.txt", "0.5\n1.5\n2.5\n-0.5\n-1.5\n40000.5\n")
        found = make_signal(signal_from_sentence(f"recording {path}", 1.0), S16)
        self.assertEqual((found.raw.tolist(), found.clipped), ([0, 2, 2, 0, -2, 32767], 1))

    def test_sound_of_the_right_rate(self) -> None:
        import soundfile

        values = np.array([[0.5, 0.0], [-0.25, 0.125]])
        for name in ("x.wav", "x.flac"):
            soundfile.write(self.folder / name, values, 48_000, subtype="PCM_16")
            sentence = f"recording {self.folder / name} column 2"
            self.assertEqual(make_signal(signal_from_sentence(sentence, 48_000.0), S16).raw.tolist(), [0, 4096])
            for rate, words, column in ((44_100.0, "was recorded at 48000 Hz", 1), (48_000.0, "2 channels", None)):
                sentence = f"recording {self.folder / name}" + (f" column {column}" if column else "")
                with self.assertRaises(FileError) as caught:
                    make_signal(signal_from_sentence(sentence, rate), S16)
                self.assertIn(words, caught.exception.sentence())


class Figures(unittest.TestCase):
    def test_tones_are_told_apart_together_with_a_constant(self) -> None:
        n = np.arange(5000)
        for seed in some(range(50), 5):
            draw = random.Random(seed)
            omegas = np.array(sorted(draw.uniform(0.01, 3.1) for _ in range(4)))
            if np.min(np.diff(omegas)) < 0.01:
                continue
            wanted = [(draw.uniform(0.01, 1), draw.uniform(-3, 3)) for _ in omegas]
            signal = 0.3 + sum(a * np.sin(w * n + p) for w, (a, p) in zip(omegas, wanted))
            found = fit_tones(signal[700:], omegas, 700)
            self.assertAlmostEqual(found.constant, 0.3, places=9)
            for k, (amplitude, phase) in enumerate(wanted):
                self.assertAlmostEqual(float(found.amplitudes[k]), amplitude, places=9)
                self.assertAlmostEqual(float(np.angle(np.exp(1j * (found.phases[k] - phase)))), 0, places=8)
        self.assertFalse(fit_tones(np.sin(0.1 * n[:50]), np.array([0.1, 0.1 + 1e-9])).is_sure)

    def test_a_delay_is_found_between_samples_and_refused_where_nothing_tells(self) -> None:
        random_ = np.random.RandomState(3)
        white = random_.standard_normal(6000)
        spectrum = np.fft.rfft(white)
        band = np.exp(-(((np.arange(len(spectrum)) / len(spectrum)) / 0.4) ** 4))
        smooth = np.fft.irfft(spectrum * band, 6000)
        for delay in (0.0, 3.0, 15.5, 20.25):
            turned = np.fft.irfft(spectrum * band * np.exp(-2j * np.pi * np.arange(len(spectrum)) * delay / 6000), 6000)
            found = delay_by_correlation(smooth, -turned, 60)
            assert found is not None
            self.assertAlmostEqual(found, delay, delta=0.02)
        tone = np.sin(0.9 * np.arange(4000))
        self.assertIsNone(delay_by_correlation(tone, tone, 60))
        self.assertIsNone(delay_by_correlation(np.zeros(100), np.ones(100), 10))

    def test_the_density_sums_to_the_power(self) -> None:
        values = np.random.RandomState(5).standard_normal(200_000) * 0.3
        hz, power = density(values, 2000.0)
        self.assertAlmostEqual(float(np.sum(power)) * (hz[1] - hz[0]), float(np.mean(values**2)), delta=0.002)
        self.assertAlmostEqual(float(np.median(power)), 0.09 / 1000, delta=0.09 / 1000 * 0.05)


class Bench(unittest.TestCase):
    def test_gain_and_phase_are_those_of_the_closed_form(self) -> None:
        taps = (0.1, 0.2, 0.3, 0.4, 0.1)
        realized = combe.realize(Design("given", Fir(taps), 2000.0), 20, input="s24f23", output="s24f23")
        found = combe.bench(realized, "sine 20 Hz -12 dB + sine 310 Hz -20 dB 30 deg", samples=8000)
        self.assertEqual([heard.name for heard in found.through], ["ideal", "rounded", "bit-true"])
        for heard in found.through:
            for tone in heard.tones:
                z = np.exp(-2j * np.pi * tone.hz / 2000)
                wanted = sum(tap * z**k for k, tap in enumerate(taps))
                self.assertAlmostEqual(tone.gain_db, 20 * math.log10(abs(wanted)), delta=1e-4)
                self.assertAlmostEqual(tone.phase_deg, math.degrees(math.atan2(wanted.imag, wanted.real)), delta=1e-3)
        self.assertEqual(found.through[0].rms_error, 0.0)
        self.assertIsNone(found.through[0].snr_db)

    def test_gains_are_off_by_what_is_told(self) -> None:
        """A quiet sine through coarse rounding, many times: what is off, in units of what was told, has a power of one."""
        made = combe.realize(Design("given", Fir((0.2, 0.3, 0.2)), 48_000.0), 16, input="s16f15", output="s8f7")
        taps = np.array(made.realization.stages[0].coefficients) * made.realization.stages[0].coefficient.step  # type: ignore[union-attr]
        off: list[float] = []
        for seed in some(range(400), 40):
            hz = 1000.0 + 37.123 * seed
            heard = combe.bench(
                made, f"sine {hz} Hz -24 dB + white -32 dB", samples=3000, seed=seed + 1, through=["bit-true"]
            ).through[0]
            exact = 20 * np.log10(abs(np.sum(taps * np.exp(-2j * np.pi * hz / 48_000 * np.arange(3)))))
            tone = heard.tones[0]
            assert tone.error_db is not None and tone.error_deg is not None
            self.assertAlmostEqual(tone.error_deg, np.rad2deg(10 ** (tone.error_db / 20) - 1), delta=1e-6)
            off.append((tone.gain_db - exact) / tone.error_db)
        self.assertAlmostEqual(float(np.sqrt(np.mean(np.square(off)))), 1.0, delta=0.3)
        self.assertIn("±", tone.words())
        sure = combe.bench(made, "sine 1 kHz -6 dB", samples=3000, through=["ideal"]).through[0].tones[0]
        self.assertEqual((sure.error_db, "±" in sure.words()), (0.0, False))

    def test_errors_are_against_the_exact_filter_over_all_samples(self) -> None:
        taps = (0.2, 0.5, 0.2)
        realized = combe.realize(Design("given", Fir(taps), 1000.0), 9, input="s10f9", output="s12f11")
        found = combe.bench(realized, "white -12 dB + sine 50 Hz -12 dB", samples=3000, against=[4])
        given = found.input.values
        ideal = np.convolve(given, taps)[:3000]
        heard = found.through[2]
        raw = combe.simulate(realized, (given * 512).astype(int)) / 2048
        self.assertTrue(np.array_equal(heard.values, raw))
        self.assertAlmostEqual(heard.rms_error, float(np.sqrt(np.mean((raw - ideal) ** 2))), places=12)
        self.assertAlmostEqual(heard.peak_error, float(np.max(np.abs(raw - ideal))), places=12)
        assert heard.snr_db is not None
        self.assertAlmostEqual(heard.snr_db, 10 * math.log10(np.sum(ideal**2) / np.sum((raw - ideal) ** 2)), places=6)
        average = found.through[3]
        self.assertEqual(average.name, "moving-average:4")
        self.assertTrue(np.allclose(average.values, np.convolve(given, [0.25] * 4)[:3000]))
        self.assertAlmostEqual(found.through[0].delay_samples or 0, 1.0, delta=0.05)

    def test_an_error_vector_is_nothing_through_a_delay_and_the_noise_through_noise(self) -> None:
        sentence = "modulated points 64 symbols 5 kHz 12 kHz rolloff 0.35 -14 dB"
        delay = combe.realize(
            Design("given", Fir((0.0, 0.0, 0.0, 0.999)), 48_000.0), 16, input="s20f19", output="s20f19"
        )
        found = combe.bench(delay, sentence, samples=20_000)
        assert found.through[0].evm_db is not None
        self.assertLess(found.through[0].evm_db, -55)
        # Noise of known power through a matched filter: EVM² = 2·σ²/(P²·samples a symbol), P² the power of the carrier.
        for points, symbols, rolloff in some(((64, 5000, 0.35), (4, 5000, 0.2)), 1):
            noisy = f"modulated points {points} symbols {symbols} Hz 12 kHz rolloff {rolloff} -14 dB + white -54 dB"
            heard = combe.bench(delay, noisy, samples=40_000, through=["ideal"]).through[0]
            assert heard.evm_db is not None
            self.assertAlmostEqual(heard.evm_db, -40 + 10 * math.log10(2 * symbols / 48_000), delta=0.25)
        poor = combe.realize(
            Design("given", Cascade(((1.0, 0.0, 0.0, -1.2, 0.8),), 0.3), 48_000.0), 16, input="s20f19", output="s20f19"
        )
        bent = combe.bench(poor, sentence, samples=20_000).through[0].evm_db
        assert bent is not None
        self.assertGreater(bent, -25)
        self.assertIsNone(combe.bench(delay, "white -20 dB", samples=2000).through[0].evm_db)


class Quantizing(unittest.TestCase):
    def test_a_full_scale_sine_of_n_bits_lies_six_decibels_a_bit_above_its_rounding(self) -> None:
        for bits in (10, 12, 16):
            entry = parse_format(f"s{bits}f{bits - 1}")
            raw = made("sine 123.45 Hz 0 dB", 2000.0, 40_000, entry=entry)
            exact = np.sin(2 * np.pi * 123.45 * np.arange(40_000) / 2000.0) * 2 ** (bits - 1)
            inside = np.abs(exact) < 2 ** (bits - 1) - 1
            ratio = 10 * math.log10(float(np.mean(exact**2)) / float(np.mean((raw - exact)[inside] ** 2)))
            self.assertAlmostEqual(ratio, 6.02 * bits + 1.76, delta=0.2)
            self.assertAlmostEqual(level(raw, bits), 0.0, delta=0.003)


class Inside(unittest.TestCase):
    def test_every_node_tells_how_far_it_went_and_how_often_it_was_left(self) -> None:
        realized = combe.realize(Design("given", Fir((0.9, 0.9)), 1000.0), 12)
        found = combe.bench(realized, "step at 10 0 dB", samples=100)
        (total, output) = found.nodes
        taps = realized.realization.stages[0].coefficients
        top = 32767
        self.assertEqual((total.least, total.most, total.overflows), (0, top * sum(taps), 0))
        # The sum of two taps of 0.9 is beyond the output's range from the second sample of the step on.
        self.assertEqual((output.most, output.overflows, output.share), (top, 89, 1.0))
        self.assertEqual(nodes.told(found.nodes), "left its range: the output 89 times")
        quiet = combe.bench(realized, "step at 10 -40 dB", samples=100)
        self.assertIn("no node left its range; the", nodes.told(quiet.nodes))
        self.assertEqual(quiet.document()["nodes"][1]["overflows"], 0)
        self.assertEqual(combe.bench(realized, "white -9 dB", samples=50, through=["ideal"]).nodes, ())

    def test_values_inside_are_those_of_the_stages_up_to_there(self) -> None:
        cascade = Cascade(((0.2, 0.3, 0.2, -0.9, 0.5), (1.0, 0.5, 1.0, 0.1, 0.3)), 0.9)
        realized = combe.realize(Design("given", cascade, 1000.0), 12)
        found = combe.bench(realized, "sine 77 Hz -3 dB + white -20 dB", samples=150)
        raw = np.rint(found.input.values / found.input.step).astype(int).tolist()
        document = json.loads(json.dumps(realization_document(realized.realization)))
        tried = 0
        for count, stage in enumerate(document["stages"], 1):
            if stage["kind"] != "section":
                continue
            # The program cut off behind this stage, by an interpreter that shares no code.
            short = document | {"stages": document["stages"][:count], "output": stage["to"]}
            node = found.nodes[count - 1]
            values = found.node(node.name).tolist()
            self.assertEqual(values, plain_run(short, raw), node.name)
            self.assertEqual((min(0, *values), max(0, *values)), (node.least, node.most))
            tried += 1
        self.assertEqual(tried, 2)
        with self.assertRaises(combe.CombeError) as caught:
            found.node("the cellar")
        self.assertIn('"the cellar" is no node', caught.exception.sentence())


class Command(InFolder):
    def test_the_whole_of_it(self) -> None:
        through = "ideal,rounded,bit-true" + (",code" if HAS_GCC else "")
        if shutil.which("iverilog"):
            through += ",circuit"
        design = self.put("d.json", {"taps": [0.25, 0.5, 0.25], "sample_rate_hz": 2000})
        self.assertEqual(call("realize", design, "--out", self.folder / "r.json")[0], 0)
        signal = {"format": "combe-signal", "version": 1, "sample_rate_hz": 2000, "samples": 3000, "seed": 7,
                  "parts": [{"kind": "sine", "hz": 20, "dbfs": -12, "phase_deg": 0}, {"kind": "sine", "hz": 310, "dbfs": -12},
                            {"kind": "white", "dbfs": -60}]}  # fmt: skip
        status, out, _ = call("bench", self.folder / "r.json", "--signal", self.put("s.json", signal), "--through", through,
                              "--against", "moving-average:16", "--to", self.folder / "b", "--json")  # fmt: skip
        self.assertEqual(status, 0)
        found: dict[str, Any] = json.loads(out)
        self.assertEqual(found, json.loads((self.folder / "b" / "bench.json").read_text()))
        self.assertEqual((found["format"], found["samples"], found["clipped"]), ("combe-bench", 3000, 0))
        self.assertAlmostEqual(found["input"]["rms_dbfs"], -9.0, delta=0.02)
        names = [row["name"] for row in found["through"]]
        self.assertEqual(names, [*through.split(","), "moving-average:16"])
        for row in found["through"]:
            self.assertEqual(row.get("identical", True), True)
            self.assertEqual("identical" in row, row["name"] in ("code", "circuit"))
        head, first = (self.folder / "b" / "traces.csv").read_text().splitlines()[:2]
        self.assertEqual(head.split(","), ["time_s", "input", *names])
        self.assertEqual(len(first.split(",")), len(names) + 2)
        rows = np.loadtxt(self.folder / "b" / "traces.csv", delimiter=",", skiprows=1)
        self.assertEqual(rows.shape, (3000, len(names) + 2))
        self.assertAlmostEqual(float(rows[1, 0]), 1 / 2000)

    def test_what_is_wrong_is_named_and_nothing_written(self) -> None:
        self.put("d.json", {"taps": [0.25, 0.5, 0.25], "sample_rate_hz": 2000})
        other = self.put(
            "s.json",
            {
                "format": "combe-signal",
                "version": 1,
                "sample_rate_hz": 1000,
                "samples": 10,
                "parts": [{"kind": "white"}],
            },
        )
        for words, told in (
            (("--signal", "white", "--recording", "x.csv"), "a signal or a recording"), ((), "a signal or a recording"), (("--signal", other), "1000 Hz"),
            (("--signal", "white", "--through", "magic"), "magic"), (("--signal", "white", "--against", "median:3"), "median"), (("--signal", "blue -3 dB"), "blue"),
            (("--recording", self.folder / "none.csv"), "no such file"), (("--signal", "white", "--samples", "0"), "samples"),
        ):  # fmt: skip
            with self.subTest(told):
                status, _, said = call("bench", self.folder / "d.json", *words, "--to", self.folder / "b")
                self.assertEqual(status, 2, said)
                self.assertIn(told, said)
                self.assertFalse((self.folder / "b").exists())
