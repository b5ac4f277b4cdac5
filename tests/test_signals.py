"""Stimuli and measurements: what is played is what is said, what is measured is what is there."""

from __future__ import annotations

import unittest

import numpy as np

from combe.filters import Fir
from combe.project.chain import Rounded, arithmetic_lines
from combe.realization.formats import parse_format
from combe.rounding.realize import Choices, realize, rounded_lines
from combe.running.random_integers import random_integers
from combe.running.simulate import simulate
from combe.signals.stimuli import tone, vectors, worst_case
from combe.signals.survey import WHINE_HZ, night_recording
from combe.signals.sweep import (
    _amplitude_by_phase,
    _first_amplitude,
    _is_apart,
    measured_lines,
    sweep_for,
)
from combe.values import replace
from tests.support import LOWPASS, asked

MASK = (1 << 64) - 1


def splitmix(seed: int, count: int) -> list[int]:
    """SplitMix64 in Python's own integers."""
    found = []
    for index in range(1, count + 1):
        z = (index * 0x9E3779B97F4A7C15 + seed) & MASK
        z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) & MASK
        z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & MASK
        found.append(z ^ (z >> 31))
    return found


class Copies(unittest.TestCase):
    def test_many_copies_of_a_tone_are_told_apart(self) -> None:
        """Sinusoids of known amplitudes a comb apart, on an offset: each is read as it was put in, by phases as by one large fit."""
        source, entry = np.random.default_rng(31), parse_format("s24f0")
        for up, down in ((33, 1), (40, 37), (48, 35), (64, 5)):
            played = float(source.uniform(0.02, 0.48)) * down / up
            if not _is_apart(up, played, 9000):
                continue
            heights, phases = source.uniform(1, 1e6, up), source.uniform(0, 2 * np.pi, up)
            time = np.arange(9000)
            raw = 77.0 + sum(
                height * np.cos(2 * np.pi * (k / up + played) * time + phase)
                for k, (height, phase) in enumerate(zip(heights, phases))
            )
            for k in (0, 3, up // 2, up - 1):
                place = (k / up + played) % 1.0
                for meant in (place, 1 - place):
                    self.assertAlmostEqual(_amplitude_by_phase(raw, entry, up, played, meant) / heights[k], 1, 6)
            every = [2 * np.pi * (k / up + played) for k in (3, *range(3), *range(4, up))]
            self.assertAlmostEqual(_first_amplitude(raw, entry, every) / heights[3], 1, 6)
        self.assertFalse(_is_apart(40, 3 / 80 + 1e-5, 9000))


class Stimuli(unittest.TestCase):
    def test_random_samples_never_change(self) -> None:
        entry = parse_format("u16f16")
        expected = [word >> 48 for word in splitmix(7, 50)]
        self.assertEqual(random_integers(50, entry, 7).tolist(), expected)

    def test_they_fill_their_format(self) -> None:
        for name in ("s8f7", "u8f8", "s2f1", "u1f0", "s33f32"):
            entry = parse_format(name)
            found = random_integers(4000, entry, 1)
            self.assertTrue(all(entry.holds(int(raw)) for raw in (found.min(), found.max())))
            if entry.bits <= 8:
                self.assertEqual((found.min(), found.max()), (entry.least, entry.most))

    def test_a_tone_stays_in_its_format_and_has_its_frequency(self) -> None:
        for name in ("s12f11", "u12f12"):
            entry = parse_format(name)
            played = tone(4096, entry, 2 * np.pi * 100 / 4096)
            self.assertTrue(entry.least <= played.min() and played.max() <= entry.most)
            spectrum = np.abs(np.fft.rfft(played - played.mean()))
            self.assertEqual(int(np.argmax(spectrum)), 100)

    def test_vectors_hold_every_set_piece(self) -> None:
        made = realize(Fir((0.5, -0.25, 0.125)), 1.0, Choices(8, "direct", "s8f7"))
        played = vectors(made, 600).tolist()
        self.assertGreaterEqual(len(played), 600)
        self.assertEqual(played[0], 127)
        self.assertEqual(set(played[1:5]), {0})
        self.assertIn([127, -128, 127, -128], [played[k : k + 4] for k in range(40)])
        self.assertEqual(played, vectors(made, 600).tolist())

    def test_the_worst_case_is_the_worst_of_all_inputs(self) -> None:
        made = realize(Fir((0.5, -0.25, 0.125)), 1.0, Choices(4, "direct", "s2f1", "s12f8"))
        stage = made.stages[0]
        every = [simulate(made, np.array([a, b, c]))[-1] for a in (-2, 1) for b in (-2, 1) for c in (-2, 1)]
        outputs = simulate(made, worst_case(made))
        self.assertEqual((outputs.max(), outputs.min()), (max(every), min(every)))
        self.assertEqual(len(worst_case(made)), 2 * len(stage.coefficients))  # type: ignore[union-attr]


class Sweeps(unittest.TestCase):
    def test_a_plain_gain_is_measured_as_what_it_is(self) -> None:
        made = realize(Fir((0.5,)), 2.0, Choices(8, "", "s16f15", "s24f23"))
        rounded = Rounded(made, rounded_lines(made, LOWPASS))
        for line in arithmetic_lines(rounded):
            self.assertAlmostEqual(line.reached, 20 * np.log10(0.5), places=4)

    def test_a_delay_does_not_matter(self) -> None:
        made = realize(Fir((*(0.0,) * 20, 0.75)), 2.0, Choices(8, "direct", "s16f15", "s24f23"))
        rounded = Rounded(made, rounded_lines(made, LOWPASS))
        for line in arithmetic_lines(rounded):
            self.assertAlmostEqual(line.reached, 20 * np.log10(0.75), places=4)

    def test_an_offset_of_the_converter_does_not_matter(self) -> None:
        made = realize(Fir((0.25, 0.5, 0.25)), 2.0, Choices(8, "", "u12f12", "u20f20"))
        lines = rounded_lines(made, asked(2, (0.1, 0.4, -6, 1), (0.6, 0.9, -3)))
        for asked_line, heard in zip(lines, arithmetic_lines(Rounded(made, lines))):
            self.assertAlmostEqual(heard.reached, asked_line.reached, delta=2e-3)

    def test_silence_is_minus_everything(self) -> None:
        made = realize(Fir((0.5,)), 2.0, Choices(8))
        lines = rounded_lines(made, LOWPASS)
        sweep = sweep_for(made, lines)
        heard = measured_lines(sweep, made, np.zeros(len(sweep.samples), dtype=np.int64), lines)
        self.assertTrue(all(line.reached <= -399 for line in heard))

    def test_each_frequency_is_played_once(self) -> None:
        made = realize(Fir((0.5,)), 2.0, Choices(8))
        lines = rounded_lines(made, LOWPASS)
        sweep = sweep_for(made, (*lines, *lines))
        self.assertEqual(len(set(sweep.frequencies_hz)), len(sweep.frequencies_hz))
        self.assertEqual(len(sweep.samples), len(sweep.frequencies_hz) * (sweep.settling + sweep.settled))

    def test_lines_of_the_whole_filter_pass_through(self) -> None:
        whole = replace(LOWPASS, max_multiplies=4)
        made = realize(Fir((0.5,)), 2.0, Choices(8))
        lines = rounded_lines(made, whole)
        self.assertEqual(arithmetic_lines(Rounded(made, lines))[-1], lines[-1])


class Survey(unittest.TestCase):
    def test_the_night_has_wind_calls_and_the_whine(self) -> None:
        night = night_recording(parse_format("s16f15"), 250_000.0).astype(float)
        spectrum = np.abs(np.fft.rfft(night * np.hanning(len(night)))) ** 2
        hz = np.fft.rfftfreq(len(night), 1 / 250_000)

        def power(low: float, high: float) -> float:
            return float(np.mean(spectrum[(hz >= low) & (hz < high)]))

        self.assertGreater(power(100, 3000), 20 * power(112_000, 124_000))
        self.assertGreater(power(25_000, 90_000), 20 * power(112_000, 124_000))
        self.assertGreater(power(WHINE_HZ - 40, WHINE_HZ + 40), 3 * power(61_000, 62_000))
