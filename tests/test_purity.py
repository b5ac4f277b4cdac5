"""Noise, distortion and lines against closed forms."""

from __future__ import annotations

import math
import unittest

import numpy as np

import combe
from combe.benching.views import DENSITIES, LINES, spectra
from combe.designing.designed import Design
from combe.filters import Fir
from combe.signals.lines import WINDOWS, lines
from combe.signals.purity import purity_of
from tests.support import some


class Lines(unittest.TestCase):
    def test_a_sine_reads_its_level_in_every_window_wherever_it_lies(self) -> None:
        rng = np.random.default_rng(1)
        for window in WINDOWS:
            for _ in some(range(200), 60):
                count = int(rng.integers(400, 40_000))
                size = min(count, 16_384)
                place, level = rng.uniform(10, size / 2 - 10) / size, rng.uniform(-90, 0)
                sine = 10 ** (level / 20) * np.sin(2 * np.pi * place * np.arange(count) + rng.uniform(0, 6.3))
                hz, found = lines(sine, 48_000.0, window)
                top = int(np.argmax(found))
                self.assertAlmostEqual(float(found[top]), level, delta=0.005)
                self.assertAlmostEqual(float(hz[top]) / 48_000.0, place, delta=0.001 / size)
        self.assertEqual(float(lines(np.ones(1000), 1.0, "hann")[1][0]), 0.0, "a constant is read as it is")
        self.assertTrue(np.all(np.diff(lines(rng.normal(size=999), 1.0, "hann")[0]) > 0))
        for count in (0, 1, 2, 7):
            self.assertEqual(len(lines(np.ones(count), 1.0, "flat top")[0]), max(count // 2 + 1, 1))

    def test_power_per_hz_adds_up_to_the_mean_square(self) -> None:
        noise = np.random.default_rng(2).normal(size=200_000) * 0.1
        for kind in DENSITIES:
            hz, level = spectra([("input", noise * 4, 4.0, 1000.0)], kind, {})["input"]
            power = float(np.sum(10 ** (level / 10)) * (hz[1] - hz[0]) / 2)
            self.assertAlmostEqual(10 * math.log10(power / float(np.mean(noise**2))), 0, delta=0.1)
        self.assertEqual(set(LINES.values()), set(WINDOWS))


class Pure(unittest.TestCase):
    def test_rounding_to_n_bits_leaves_n_effective_bits(self) -> None:
        for bits in (8, 10, 12, 16):
            omega = 2 * math.pi * 0.0612345
            full = 2.0 ** (bits - 1)
            found = purity_of(np.rint((full - 1) * np.sin(omega * np.arange(40_000))) / full, np.array([omega]), 1.0)
            assert found is not None
            self.assertAlmostEqual(found.sinad_db, 6.0206 * bits + 1.7609, delta=0.2)
            self.assertAlmostEqual(found.effective_bits, bits, delta=0.05)
            # The same converter, ten times less of a tone: it is no other converter for that.
            low = purity_of(np.rint(full / 10 * np.sin(omega * np.arange(40_000))) / full, np.array([omega]), 1.0)
            assert low is not None
            self.assertAlmostEqual(low.effective_bits, bits, delta=0.1)

    def test_a_bent_line_makes_the_harmonics_it_must(self) -> None:
        """sin² is (1 − cos 2φ)/2, sin³ is (3 sin φ − sin 3φ)/4; the third harmonic of 0.4 of the rate lies at 0.2 of it."""
        for place in (0.0487, 0.21037, 0.4013):
            x = 0.5 * np.sin(2 * math.pi * place * np.arange(20_000) + 0.2)
            bent = x + 0.01 * x**2 + 0.02 * x**3
            found = purity_of(bent, np.array([2 * math.pi * place]), 1.0)
            assert found is not None and found.distortion_db is not None
            second, third = 0.01 * 0.5**2 / 2, 0.02 * 0.5**3 / 4
            first = 0.5 + 3 * third
            self.assertAlmostEqual(found.distortion_db, 10 * math.log10((second**2 + third**2) / first**2), delta=0.001)
            self.assertAlmostEqual(found.sinad_db, -found.distortion_db, delta=0.001)
            self.assertAlmostEqual(found.spurious_free_db, 20 * math.log10(first / max(second, third)), delta=0.01)

    def test_the_largest_other_line_counts(self) -> None:
        n = np.arange(30_000)
        tones = np.array([0.3, 1.1])
        heard = (
            0.5 * np.sin(0.3 * n) + 0.25 * np.sin(1.1 * n + 1) + 5e-4 * np.sin(2.0 * n) + 2e-4 * np.sin(2.7 * n) + 0.1
        )
        found = purity_of(heard, tones, 1.0)
        assert found is not None
        self.assertIsNone(found.distortion_db)
        self.assertAlmostEqual(found.spurious_free_db, 60.0, delta=0.01)
        self.assertAlmostEqual(found.sinad_db, 10 * math.log10((0.5**2 + 0.25**2) / (5e-4**2 + 2e-4**2)), delta=0.01)
        self.assertIsNone(purity_of(heard[:60], tones, 1.0))
        self.assertIsNone(purity_of(heard, np.zeros(0), 1.0))
        self.assertIsNone(purity_of(np.zeros(1000), tones, 1.0))

    def test_a_bench_tells_them_and_the_first_sample_that_saturates(self) -> None:
        made = combe.realize(Design("given", Fir((1.5,)), 1000.0), 16, input="s12f11", output="s16f15")
        found = combe.bench(made, "sine 77.7 Hz -40 dB", samples=4000).document()
        given, true = found["input"], found["through"][-1]
        # At a hundredth of full scale: what 12 bits leave, as seen from full scale.
        self.assertAlmostEqual(given["effective_bits"], 12, delta=0.15)
        self.assertAlmostEqual(true["sinad_db"], given["sinad_db"], delta=0.2)
        self.assertEqual((true["saturated"], true["first_saturated"]), (0, None))
        # Beside a recording, or where a filter leaves more noise than tone, nothing is judged by it.
        mixed = combe.bench(made, "sine 77.7 Hz -40 dB + chirp 10 Hz to 400 Hz -40 dB", samples=4000).document()
        self.assertEqual([each["sinad_db"] for each in (mixed["input"], *mixed["through"])], [None] * 4)
        self.assertIsNone(combe.bench(made, "sine 77.7 Hz -60 dB + white -50 dB", samples=4000).input.purity)
        loud = combe.bench(made, "step at 123 -1 dB", samples=400).through[-1]
        self.assertEqual((loud.first_saturated, loud.saturated), (123, 277))
        self.assertIsNone(loud.document()["sinad_db"])
