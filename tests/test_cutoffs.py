"""Filters by length and cut-off: the gain there is half, to the last digit, or a note says what it is."""

from __future__ import annotations

import random
import re
import unittest

import numpy as np

from combe.designing.methods import design_task
from combe.designing.task import DesignChoice, Task
from combe.filters import Fir

WINDOWS = (
    "kaiser", "dolph-chebyshev", "hann-window", "hamming-window", "blackman-window", "flat-top-window", "gauss-window",
    "tukey-window", "rectangular-window",
)  # fmt: skip


def gains_db(taps: tuple[float, ...], shares: tuple[float, ...]) -> list[float]:
    """By plain sums."""
    n = np.arange(len(taps))
    return [float(20 * np.log10(abs(np.exp(-2j * np.pi * share * n) @ np.array(taps)))) for share in shares]


class Halved(unittest.TestCase):
    def made(self, method: str, order: int, shape: str, *cutoffs: float) -> tuple[list[float], tuple[str, ...], Fir]:
        found = design_task(Task(None, 1.0, DesignChoice(method, order, cutoffs_hz=cutoffs, shape=shape)))
        assert isinstance(found.filter, Fir)
        return gains_db(found.filter.taps, cutoffs), found.notes, found.filter

    def test_windows_of_enough_length_are_exact(self) -> None:
        for method in WINDOWS:
            for shape, cutoffs in (
                ("lowpass", (0.11,)), ("highpass", (0.31,)), ("bandpass", (0.12, 0.27)), ("bandstop", (0.1, 0.33)),
            ):  # fmt: skip
                with self.subTest(method=method, shape=shape):
                    gains, notes, made = self.made(method, 90, shape, *cutoffs)
                    for gain in gains:
                        self.assertAlmostEqual(gain, 20 * np.log10(0.5), places=6)
                    self.assertFalse([note for note in notes if "gain is" in note])
                    middle = {"lowpass": 0.0, "bandstop": 0.0, "highpass": 0.5, "bandpass": sum(cutoffs) / 2}[shape]
                    self.assertAlmostEqual(gains_db(made.taps, (middle,))[0], 0.0, places=6)

    def test_what_a_length_can_not_do_is_told_with_its_figure(self) -> None:
        source = random.Random(3)
        noted = 0
        for _ in range(60):
            method = source.choice((*WINDOWS, "maximally-flat"))
            cutoff, order = source.choice((0.01, 0.02, 0.2, 0.47)), source.choice((10, 20, 40))
            gains, notes, _ = self.made(method, order, "lowpass", cutoff)
            if abs(gains[0] - 20 * np.log10(0.5)) > 1e-5:
                told = re.search(r"the gain is (−?[\d.]+) dB at", " ".join(notes))
                if abs(gains[0] - 20 * np.log10(0.5)) > 0.01:
                    assert told is not None, (method, cutoff, order, gains, notes)
                    self.assertAlmostEqual(float(told[1].replace("−", "-")), gains[0], delta=0.0051)
                    noted += 1
        self.assertGreater(noted, 10)

    def test_the_cases_that_were_silent(self) -> None:
        gains, notes, _ = self.made("hann-window", 10, "lowpass", 0.02)
        self.assertAlmostEqual(gains[0], -0.22, delta=0.005)
        self.assertIn("the gain is −0.22 dB at", notes[0])
        self.assertIn("too short", notes[0])
        _, notes, _ = self.made("maximally-flat", 10, "lowpass", 0.0625)
        self.assertIn("the nearest", notes[0])

    def test_kaiser_by_its_attenuation(self) -> None:
        for down in (40.0, 60.0, 80.0):
            choice = DesignChoice(
                "kaiser", 120, cutoffs_hz=(0.2,), shape="lowpass", settings=(("attenuation_db", down),)
            )
            made = design_task(Task(None, 1.0, choice)).filter
            assert isinstance(made, Fir)
            # The transition of a Kaiser window is (A − 8)/(14.36·order) of the rate wide (Kaiser 1974).
            edge = 0.2 + 0.5 * (down - 7.95) / (14.36 * 120)
            worst = max(gains_db(made.taps, tuple(np.linspace(edge, 0.5, 2000))))
            self.assertAlmostEqual(worst, -down, delta=1.5)


if __name__ == "__main__":
    unittest.main()
