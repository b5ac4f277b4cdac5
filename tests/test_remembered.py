"""What is remembered stays within its size, and is what the function gives."""

from __future__ import annotations

import threading
import unittest

import numpy as np
from msgspec import Struct

from combe.remembered import ALONE, remembered, size_of


class Held(Struct, frozen=True, eq=False):
    """An array and a number."""

    values: np.ndarray
    number: int


class Remembered(unittest.TestCase):
    def setUp(self) -> None:
        self.calls: list[int] = []

        @remembered(10_000)
        def squares(count: int) -> Held:
            self.calls.append(count)
            return Held(np.arange(count, dtype=np.float64) ** 2, count)

        self.squares = squares

    def test_the_second_time_nothing_is_worked_out(self) -> None:
        self.assertIs(self.squares(100), self.squares(100))
        self.assertEqual(self.calls, [100])

    def test_all_is_forgotten_when_asked(self) -> None:
        self.squares(100)
        self.squares.cache_clear()  # type: ignore[attr-defined]
        self.assertEqual(self.squares.held_bytes(), 0)  # type: ignore[attr-defined]
        self.squares(100)
        self.assertEqual(self.calls, [100, 100])

    def test_what_was_used_longest_ago_goes_first(self) -> None:
        for count in (300, 400, 300, 500):
            self.squares(count)
        self.squares(300)
        self.squares(500)
        self.assertEqual(self.calls, [300, 400, 500], "300 was used again before 500 came")
        self.squares(400)
        self.assertEqual(self.calls[-1], 400)
        self.assertLessEqual(self.squares.held_bytes(), 10_000)  # type: ignore[attr-defined]

    def test_what_is_larger_than_all_of_it_is_not_kept(self) -> None:
        self.squares(100)
        self.squares(5000)
        self.squares(5000)
        self.squares(100)
        self.assertEqual(self.calls, [100, 5000, 5000])

    def test_threads_agree(self) -> None:
        found: list[Held] = []
        several = [
            threading.Thread(target=lambda: found.extend(self.squares(k % 40 + 1) for k in range(400)))
            for _ in range(4)
        ]
        for each in several:
            each.start()
        for each in several:
            each.join()
        self.assertEqual(len(found), 1600)
        for each in found:
            np.testing.assert_array_equal(each.values, np.arange(each.number) ** 2)
        self.assertLessEqual(self.squares.held_bytes(), 10_000)  # type: ignore[attr-defined]
        self.assertGreater(self.squares.held_bytes(), 0)  # type: ignore[attr-defined]

    def test_sizes(self) -> None:
        array = np.zeros(100)
        self.assertEqual(size_of(array), 800 + ALONE)
        self.assertEqual(size_of((array, array, 3)), 3 * ALONE + 1600)
        self.assertEqual(size_of(Held(array, 1)), 3 * ALONE + 800)


if __name__ == "__main__":
    unittest.main()
