"""Spectrograms, histograms and constellations against what is known of the signals."""

from __future__ import annotations

import shutil
import unittest

import numpy as np

from combe.benching.run import run_bench
from combe.benching.views import MOST_BINS, MOST_COLUMNS, histogram, spectrogram
from combe.errors import FormatError
from combe.filters import Cascade, Fir
from combe.rounding.choices import Choices
from combe.rounding.realize import realize
from combe.signals.modulation import constellation
from combe.signals.spec import signal_from_sentence


class Spectrograms(unittest.TestCase):
    def test_a_sine_on_a_line_reads_its_level_all_the_time(self) -> None:
        size = 256
        for line, peak in ((10, 1.0), (64, 0.25), (127, 0.01)):
            values = peak * np.sin(2 * np.pi * line * np.arange(4000) / size + 0.3)
            found = spectrogram(values, size)
            np.testing.assert_allclose(found.levels[line], 20 * np.log10(peak), atol=1e-9)
            far = np.delete(found.levels, [line - 1, line, line + 1], axis=0)
            self.assertLess(float(np.max(far)), 20 * np.log10(peak) - 200 + 60, "a Hann window leaves three lines")

    def test_a_chirp_is_where_it_says(self) -> None:
        count = 20_000
        n = np.arange(count)
        values = np.sin(np.pi * 0.5 * n * n / count)
        found = spectrogram(values)
        ridge = np.argmax(found.levels, axis=0) / (found.levels.shape[0] - 1) / 2
        np.testing.assert_allclose(ridge, 0.5 * found.times / count, atol=1.0 / found.size)
        self.assertLessEqual(found.levels.shape[1], MOST_COLUMNS)
        self.assertGreater(found.levels.shape[1], 100)

    def test_a_click_is_when_it_says(self) -> None:
        values = np.zeros(5000)
        values[1234] = 1.0
        found = spectrogram(values, 128)
        loudest = found.times[int(np.argmax(np.max(found.levels, axis=0)))]
        self.assertLess(abs(float(loudest) - 1234), 16)
        silent = found.levels[:, np.abs(found.times - 1234) > 80]
        self.assertTrue(np.all(silent == -220.0))

    def test_shades_are_steps_below_the_highest(self) -> None:
        found = spectrogram(np.random.default_rng(2).normal(size=3000) * np.linspace(1e-7, 1, 3000))
        shades = found.shades(60.0)
        self.assertEqual((shades.dtype, shades.shape), (np.uint8, found.levels.T.shape))
        top = max(map(max, found.levels.tolist()))
        for row, column in ((0, 0), (5, 7), *zip(*map(list, np.where(found.levels == top)))):
            share = min(max(1 + (found.levels[row, column] - top) / 60, 0), 1)
            self.assertLess(abs(int(shades[column, row]) - 255 * share), 0.51)
        self.assertEqual((int(shades.min()), int(shades.max())), (0, 255))

    def test_signals_of_any_length(self) -> None:
        for count in (1, 2, 15, 16, 17, 1000, 300_000):
            found = spectrogram(np.ones(count))
            self.assertEqual(len(found.times), found.levels.shape[1])
            self.assertTrue(np.all(np.isfinite(found.levels)), count)
            self.assertLessEqual(found.levels.shape[1], MOST_COLUMNS)


class Histograms(unittest.TestCase):
    def test_every_value_once_is_flat(self) -> None:
        for bits in (4, 8, 12, 16):
            step = 2.0 ** (1 - bits)
            values = np.arange(-(2 ** (bits - 1)), 2 ** (bits - 1)) * step
            found = histogram(values, 1.0, step)
            self.assertEqual(len(set(found.counts.tolist())), 1, bits)
            self.assertLessEqual(len(found.counts), MOST_BINS)
            self.assertEqual(int(np.sum(found.counts)), len(values))

    def test_ends_hold_what_is_clipped_and_nothing_is_lost(self) -> None:
        step = 2.0**-7
        values = np.clip(np.round(np.sin(np.arange(5000)) * 200), -128, 127) * step
        found = histogram(values, 1.0, step)
        self.assertEqual(int(found.counts[0]), int(np.count_nonzero(values == -1.0)))
        self.assertEqual(int(found.counts[-1]), int(np.count_nonzero(values == 127 * step)))
        self.assertEqual(int(np.sum(found.counts)), 5000)
        beyond = histogram(np.array([-1.7, 0.0, 2.4]), 1.0, step)
        self.assertEqual(int(np.sum(beyond.counts)), 3)
        self.assertLess(beyond.edges[0], -1.7)
        self.assertGreater(beyond.edges[-1], 2.4)

    def test_nothing_at_all(self) -> None:
        self.assertEqual(int(np.sum(histogram(np.zeros(0), 1.0, 0.25).counts)), 0)


@unittest.skipUnless(shutil.which("arm-none-eabi-gcc") and shutil.which("qemu-system-arm"), "no emulated core here")
class Core(unittest.TestCase):
    def test_code_on_an_emulated_core_is_the_bit_true_run(self) -> None:
        for source in (Fir((0.25, 0.5, -0.3)), Cascade(((0.2, 0.3, 0.2, -0.9, 0.5),))):
            made = realize(source, 48_000, Choices(16, "", "s16f15", "s16f15"))
            signal = signal_from_sentence("sine 5 kHz 0 dB + white -20 dB", 48_000, 3001, 5)
            model, core = run_bench(made, None, signal, ("bit-true", "core")).through
            np.testing.assert_array_equal(core.values, model.values)
            self.assertIs(core.identical, True)
            self.assertEqual(core.saturated, model.saturated)

    def test_more_than_fits_is_refused_with_what_does(self) -> None:
        made = realize(Fir((0.25, 0.5)), 48_000, Choices(16))
        signal = signal_from_sentence("white -20 dB", 48_000, 20_000, 5)
        with self.assertRaisesRegex(FormatError, "samples: 20,000 samples don't fit .*at most 16,384"):
            run_bench(made, None, signal, ("core",))
        full = signal_from_sentence("white -20 dB", 48_000, 16_384, 5)
        self.assertTrue(run_bench(made, None, full, ("core",)).is_identical)


class Constellations(unittest.TestCase):
    def test_symbols_arrive_where_they_were_sent_through_a_delay(self) -> None:
        made = realize(Fir((0.0, 0.0, 0.5)), 48_000, Choices(16, "", "s16f15", "s16f15"))
        signal = signal_from_sentence("modulated points 16 symbols 3 kHz 9 kHz -12 dB", 48_000, 24_000, 3)
        for heard in run_bench(made, None, signal, ("ideal", "bit-true")).through:
            (arrived,) = heard.received
            self.assertGreater(len(arrived.wanted), 100)
            grid = constellation(16)
            nearest = grid[np.argmin(np.abs(arrived.found[:, None] - grid[None, :]), axis=1)]
            np.testing.assert_allclose(nearest, arrived.wanted, atol=1e-12)
            share = np.linalg.norm(arrived.found - arrived.wanted) / np.linalg.norm(arrived.wanted)
            self.assertAlmostEqual(20 * np.log10(share), heard.evm_db, places=6)  # type: ignore[arg-type]

    def test_noise_shows_as_clouds_of_its_size(self) -> None:
        """The receiver takes 1/L of the noise's power (L samples a symbol), half of it turned to each side of zero twice:
        error over reference is 2·P_noise/(L·P_symbol), and the carrier's power is P_symbol/(2·L)."""
        made = realize(Fir((1.0,)), 48_000, Choices(16, "", "s24f23", "s24f23"))
        words = "modulated points 4 symbols 3 kHz 9 kHz -12 dB + white -30 dB"
        signal = signal_from_sentence(words, 48_000, 60_000, 3)
        (heard,) = run_bench(made, None, signal, ("ideal",)).through
        ratio_db = -30 - -12  # noise over carrier
        self.assertAlmostEqual(heard.received[0].error_db, ratio_db - 10 * np.log10(16 / 2), delta=0.4)

    def test_without_a_carrier_there_are_none(self) -> None:
        made = realize(Fir((1.0,)), 48_000, Choices(16))
        signal = signal_from_sentence("sine 1 kHz -6 dB", 48_000, 2000, 1)
        (heard,) = run_bench(made, None, signal, ("ideal",)).through
        self.assertEqual(heard.received, ())


if __name__ == "__main__":
    unittest.main()
