"""Levels of detail of a signal: no extreme is lost at any zoom, and no picture takes more points than were asked for."""

from __future__ import annotations

import random
import unittest
from unittest import mock

import numpy as np

from combe.benching import levels
from combe.benching.levels import Levels
from tests.support import some


class Detail(unittest.TestCase):
    def test_every_part_shows_its_own_extremes_in_few_points(self) -> None:
        source = random.Random(4)
        for case in some(range(200), 60):
            count = source.choice([0, 1, 2, 5, 63, 64, 65, 1000, 5003])
            values = np.array([source.gauss(0, 1) for _ in range(count)])
            finest, coarsest = source.choice([(8, 4), (100, 16), (10_000, 16)])
            with mock.patch.object(levels, "MOST_FINEST", finest), mock.patch.object(levels, "COARSEST", coarsest):
                found = Levels(count)
                places = sorted(source.randrange(count + 1) for _ in range(3))
                for piece in np.split(values, places):
                    found.take(piece)
                self.assertAlmostEqual(found.peak, float(np.max(np.abs(values), initial=0.0)), delta=1e-6)
                start, stop = sorted((source.uniform(-5, count + 5), source.uniform(-5, count + 5)))
                most = source.choice([16, 40, 300])
                x, y = found.points(start, stop, most)
            self.assertEqual(len(x), len(y))
            # Never more than asked, but where the coarsest level has more; two or three stretches stand beyond the ends.
            self.assertLessEqual(len(x), 2 * max(most + 4, coarsest + 4), case)
            inside = values[max(int(np.ceil(start)), 0) : max(int(np.floor(stop)) + 1, 0)]
            if len(inside):
                self.assertGreaterEqual(float(np.max(y)), float(np.max(inside)) - 1e-6)
                self.assertLessEqual(float(np.min(y)), float(np.min(inside)) + 1e-6)
            near = values[max(int(start) - 20 * max(count // 16, 1), 0) :]
            if len(y) and len(near):
                self.assertLessEqual(float(np.max(y)), float(np.max(values)) + 1e-6)

    def test_close_up_it_is_the_samples_themselves(self) -> None:
        values = np.sin(np.arange(3000) * 0.7) * 1e-9 + 1.0
        x, y = Levels.of(values).points(1000, 1100, 200)
        np.testing.assert_array_equal(y, values[x.astype(int)])
        self.assertTrue(x[0] <= 1000 and x[-1] >= 1100)

    def test_a_stretch_stands_where_its_samples_do(self) -> None:
        values = np.zeros(4096)
        values[2048:2056] = 1.0
        with mock.patch.object(levels, "MOST_FINEST", 512):
            x, y = Levels.of(values).points(0, 4096, 600)
        self.assertEqual(set(x[y > 0.5].tolist()), {2051.5}, "eight samples a stretch, about its middle")
