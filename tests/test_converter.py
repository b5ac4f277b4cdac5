"""A converter of fewer bits in front of a filter, against what is known of rounding and of dither."""

from __future__ import annotations

import unittest

import numpy as np

from combe.errors import CombeError
from combe.realization.formats import Format
from combe.signals.make import Player, make_signal
from combe.signals.spec import Signal, signal_document, signal_from, signal_from_sentence

RATE, COUNT = 48_000.0, 200_000
ENTRY = Format(True, 16, 15)


def signal(sentence: str, samples: int = COUNT, seed: int = 1) -> Signal:
    return signal_from_sentence(sentence, RATE, samples, seed)


def raw(sentence: str, entry: Format = ENTRY, **more: int) -> np.ndarray:
    return make_signal(signal(sentence, **more), entry).raw


class Converted(unittest.TestCase):
    def test_codes_are_multiples_of_its_step_and_fill_its_range(self) -> None:
        found = raw("sine 997 Hz 0 dB + converter bits 6")
        self.assertTrue(np.all(found % 1024 == 0))
        self.assertEqual((found.min(), found.max()), (-32 * 1024, 31 * 1024))
        self.assertEqual(raw("step at 0 0 dB + converter bits 6", Format(False, 16, 16)).max() % 1024, 0)

    def test_without_one_and_with_all_bits_nothing_is_different(self) -> None:
        for sentence in ("sine 997 Hz -3 dB + white -30 dB", "survey night"):
            self.assertEqual(
                raw(sentence, samples=5000).tolist(), raw(f"{sentence} + converter bits 16", samples=5000).tolist()
            )

    def test_the_error_of_a_full_sine_is_six_decibels_a_bit(self) -> None:
        """6.02 N + 1.76 dB, of a sine just within the range."""
        whole = raw("sine 997 Hz -0.3 dB", Format(True, 32, 31)).astype(float)
        for bits in (6, 8, 10, 12):
            error = raw(f"sine 997 Hz -0.3 dB + converter bits {bits}", Format(True, 32, 31)) - whole
            ratio = 10 * np.log10(np.mean(whole**2) / np.mean(error**2))
            self.assertAlmostEqual(ratio, 6.0206 * bits + 1.761 - 0.3, delta=0.2)

    def test_dither_leaves_no_mean_and_a_quarter_of_a_step_squared(self) -> None:
        """Whatever the signal: constants between two codes, and a sine of less than half a step."""
        step = 256.0
        for level in (0.0, 0.1, 0.25, 0.5):
            dbfs = 20 * np.log10(max(level * step, 1e-9) / 32768)
            found = raw(f"step at 0 {dbfs:.6f} dB + converter bits 8 dither") / step if level else raw("step at 0 -300 dB + converter bits 8 dither") / step  # fmt: skip
            error = found - level
            self.assertAlmostEqual(np.mean(error), 0.0, delta=4 * 0.5 / np.sqrt(COUNT))
            self.assertAlmostEqual(np.mean(error**2), 0.25, delta=0.01)
        quiet = f"sine 997 Hz {20 * np.log10(0.4 * step / 32768):.4f} dB + converter bits 8"
        n = np.arange(COUNT)
        wave = np.exp(-2j * np.pi * 997 / RATE * n)
        heard = [2 * abs(np.mean(raw(f"{quiet}{more}") * wave)) / step for more in ("", " dither")]
        self.assertEqual(heard[0], 0.0)
        self.assertAlmostEqual(heard[1], 0.4, delta=0.01)

    def test_pieces_and_seeds(self) -> None:
        made = signal("sine 997 Hz -20 dB + converter bits 8 dither", 5000)
        whole = make_signal(made, ENTRY).raw
        for length in (1, 7, 512, 4999):
            pieces = np.concatenate(list(Player(made, ENTRY).pieces(length)))
            self.assertEqual(pieces.tolist(), whole.tolist(), length)
        other = make_signal(signal("sine 997 Hz -20 dB + converter bits 8 dither", 5000, 2), ENTRY).raw
        self.assertNotEqual(other.tolist(), whole.tolist())

    def test_what_is_beyond_it_is_counted(self) -> None:
        found = make_signal(signal("sine 1 kHz 6.0206 dB + converter bits 8"), ENTRY)
        # |2 sin| > 1 for two thirds of the time, less what still rounds to the last code above.
        self.assertAlmostEqual(found.clipped / COUNT, 2 / 3, delta=0.01)

    def test_in_files_and_what_is_refused(self) -> None:
        made = signal("white -20 dB + converter bits 10 dither", 300)
        document = signal_document(made)
        self.assertEqual(document["parts"][1], {"kind": "converter", "bits": 10, "dither": True})
        self.assertEqual(signal_from(document), made)
        for sentence, words in (
            ("converter bits 8", "nothing to convert"), ("white + converter bits 8 + converter bits 9", "2 converters"),
            ("white + converter", "needs it"), ("white + converter bits 8 -3 dB", "has no dbfs"), ("white dither", "has no dither"),
            ("white + converter bits 30", "2 to 24"),
        ):  # fmt: skip
            with self.subTest(sentence=sentence), self.assertRaises(CombeError) as caught:
                signal(sentence, 300)
            self.assertIn(words, caught.exception.sentence())
        with self.assertRaises(CombeError) as caught:
            raw("white + converter bits 20", samples=300)
        self.assertIn("16 are the most", caught.exception.sentence())


if __name__ == "__main__":
    unittest.main()
