"""Sound files of a bench, read back by others than those that wrote them."""

from __future__ import annotations

import unittest
import wave
from typing import Any
from unittest import mock

import numpy as np
from PyQt6.QtWidgets import QApplication

import combe
from combe.app.jobs import is_any_errand_out
from combe.app.sound import Sound
from combe.benching.sound import resampled, slowness_words, usual_slowness, write_sound
from combe.designing.designed import Design
from combe.errors import CombeError
from combe.filters import Fir
from tests.test_cli import InFolder, call


def read_back(path: str) -> tuple[int, np.ndarray]:
    """Rate and samples of a file of 24 bits, by the standard library."""
    with wave.open(path) as file:
        assert (file.getsampwidth(), file.getnchannels()) == (3, 1)
        data = np.frombuffer(file.readframes(file.getnframes()), dtype=np.uint8).reshape(-1, 3)
        rate = file.getframerate()
    raw = data[:, 0].astype(int) | data[:, 1].astype(int) << 8 | data[:, 2].astype(int) << 16
    return rate, np.where(raw >= 1 << 23, raw - (1 << 24), raw) / 2.0**23


class Written(InFolder):
    def bench(self, rate: float = 250_000.0) -> object:
        made = combe.realize(Design("given", Fir((0.5, 0.25)), rate), 16, input="s12f11", output="s16f13")
        return combe.bench(made, "sine 0.2fs 0 dB + white -20 dB", samples=1000, through=["bit-true"], against=[3])

    def test_samples_and_rates_are_those_of_the_bench(self) -> None:
        bench = self.bench()
        for slower, rate in ((1.0, 250_000), (10.0, 25_000), (7.0, 35_714)):
            paths = write_sound(bench, self.folder / "s", slower)  # type: ignore[arg-type]
            self.assertEqual([path.name for path in paths], ["input.wav", "bit-true.wav", "moving-average-3.wav"])
            for path, values, full in (
                (paths[0], bench.input.values, 1.0), (paths[1], bench.through[0].values, 4.0),  # type: ignore[attr-defined]
            ):  # fmt: skip
                found_rate, found = read_back(str(path))
                self.assertEqual(found_rate, rate)
                np.testing.assert_allclose(found, np.minimum(values / full, 1 - 2.0**-23), atol=2.0**-23)

    def test_what_no_sound_file_has_is_refused(self) -> None:
        for rate, slower in ((250_000.0, 0.5), (250_000.0, 1e9), (0.01, 1.0), (1e9, 1.0)):
            with self.subTest(rate=rate, slower=slower), self.assertRaises(CombeError):
                write_sound(self.bench(rate), self.folder / "no", slower)  # type: ignore[arg-type]
        self.assertFalse((self.folder / "no").exists())

    def test_from_the_command_line(self) -> None:
        made = self.folder / "r.json"
        call("realize", self.put("t.txt", "0.5\n0.25\n"), "--out", made)
        words = ("bench", made, "--signal", "white -20 dB", "--samples", "200", "--through", "bit-true")
        self.assertIn("--to", self.refused(*words, "--sound", "1"))
        status, out, err = call(*words, "--to", self.folder / "out", "--sound", "1")
        self.assertEqual(status, 0, err)
        self.assertIn("bit-true.wav", out)
        self.assertEqual(len(read_back(str(self.folder / "out" / "bit-true.wav"))[1]), 200)


if __name__ == "__main__":
    unittest.main()


class Played(unittest.TestCase):
    def test_calls_come_into_reach_and_sound_stays_as_it_is(self) -> None:
        for rate, slower in (
            (250_000.0, 10.0),
            (48_000.0, 1.0),
            (44_100.0, 1.0),
            (96_000.0, 1.0),
            (1e6, 50.0),
            (160.0, 0.02),
        ):
            self.assertEqual(usual_slowness(rate), slower, rate)
        self.assertEqual(slowness_words(10.0), "10 times slower")
        self.assertEqual(slowness_words(0.02), "50 times faster")
        self.assertEqual(slowness_words(1.0), "")

    def test_a_tone_is_the_same_tone_at_another_rate(self) -> None:
        for rate, target, count in (
            (25_000.0, 48_000.0, 25_001),
            (48_000.0, 44_100.0, 9600),
            (48_000.0, 48_000.0, 4801),
        ):
            tone = 0.5 * np.sin(2 * np.pi * 1000.0 * np.arange(count) / rate)
            found = resampled(tone, rate, target)
            self.assertEqual(len(found), round(count * target / rate))
            own = rate * len(found) / count
            wanted = 0.5 * np.sin(2 * np.pi * 1000.0 * np.arange(len(found)) / own)
            middle = slice(len(found) // 10, -len(found) // 10)
            np.testing.assert_allclose(found[middle], wanted[middle], atol=2e-3)
            self.assertLess(abs(found[0]), 0.01, "no click at either end")
            self.assertLess(abs(found[-1]), 0.02)
        self.assertEqual(len(resampled(np.zeros(0), 48_000.0, 44_100.0)), 0)

    def test_what_is_played_reaches_the_device(self) -> None:
        given: list[bytes] = []

        class Kind:
            class SampleFormat:
                Int16 = "int16"

            def setSampleFormat(self, name: str) -> None:
                self.name = name

            def sampleRate(self) -> int:
                return 48_000

            def channelCount(self) -> int:
                return 2

        class Sink:
            def start(self, held: object) -> None:
                given.append(bytes(held.data()))  # type: ignore[attr-defined]

            def stop(self) -> None:
                given.append(b"stopped")

            def deleteLater(self) -> None:
                pass

        device = mock.Mock(preferredFormat=Kind)
        application = QApplication.instance() or QApplication([])
        sound, told = Sound(), list[str]()
        sound.told.connect(told.append)

        def play(*words: Any) -> None:
            self.assertEqual(sound.play(*words), "")

        def wait() -> None:
            while is_any_errand_out():
                application.processEvents()

        with (
            mock.patch("combe.app.sound._device", lambda: (device, "")),
            mock.patch("combe.app.sound._sink", lambda *_: Sink()),
        ):
            play("the input", np.full(25_000, 1.0), 2.0, 250_000.0)
            self.assertEqual(sound.stop(), "silence")
            wait()
            self.assertEqual((given, told), ([], []), "stopped before it was ready")
            play("the input", np.full(25_000, 1.0), 2.0, 250_000.0)
            play("bit-true", np.full(25_000, 0.5), 2.0, 250_000.0)
            wait()
        self.assertEqual(told, ["playing bit-true: 1 s, 10 times slower"])
        heard = np.frombuffer(given[0], dtype=np.int16).reshape(-1, 2)
        self.assertEqual(len(heard), 48_000)
        np.testing.assert_array_equal(heard[:, 0], heard[:, 1])
        self.assertAlmostEqual(float(heard[24_000, 0]) / 32_767, 0.25, delta=1e-3)
        self.assertEqual((sound.stop(), given[1:]), ("silence", [b"stopped"]))

    def test_without_a_device_it_says_what_does_instead(self) -> None:
        with mock.patch("combe.app.sound._device", lambda: (None, "no device here plays sound")):
            self.assertEqual(Sound().play("the input", np.zeros(10), 1.0, 48_000.0), "no device here plays sound")
