"""Sound files of a bench, read back by others than those that wrote them."""

from __future__ import annotations

import unittest
import wave

import numpy as np

import combe
from combe.benching.sound import write_sound
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
