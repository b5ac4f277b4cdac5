"""Products of elliptics, and lengths with levels and cut-offs, on dense grids of the tests' own."""

from __future__ import annotations

import itertools
import math
import random
import unittest

import numpy as np

from combe.designing.designed import Design
from combe.designing.file import design_document
from combe.designing.methods import design, design_task
from combe.designing.task import DesignChoice, Task
from combe.errors import DesignError
from combe.filters import rational_of
from tests.support import asked, least_margin_db, plain_gain, some

RATE = 48_000.0
FOUR = asked(
    RATE, (0, 3000, -0.2, 0.2), (4000, 7000, -50), (8000, 12_000, -0.5, 0.5), (13_000, 24_000, -70), phase="any"
)


class ProductsOfElliptics(unittest.TestCase):
    def test_a_brief_of_four_bands_is_kept_with_few_multiplies(self) -> None:
        found = design(FOUR, "elliptic-product")
        self.assertGreaterEqual(least_margin_db(found.filter, FOUR), -1e-9)
        self.assertLessEqual(design_document(found)["cost"]["multiplies"], 35)
        self.assertTrue(rational_of(found.filter).is_stable)  # type: ignore[arg-type]
        self.assertIn(" times ", found.notes[0])

    def test_limits_that_lie_below_zero_are_kept_too(self) -> None:
        below = asked(
            RATE, (0, 3000, -0.6, 0), (4000, 7000, -50), (8000, 12_000, -0.8, -0.1), (13_000, 24_000, -60), phase="any"
        )
        found = design(below, "elliptic-product")
        self.assertGreaterEqual(least_margin_db(found.filter, below), -1e-9)

    def test_direct_optimization_never_ends_worse(self) -> None:
        for seed in some(range(40), 1):
            draw = random.Random(seed)
            edges = [0.0, *sorted(draw.uniform(0.05, 0.95) for _ in range(6)), 1.0]
            if min(b - a for a, b in itertools.pairwise(edges)) < 0.03:
                edges = [0, 0.2, 0.28, 0.42, 0.5, 0.66, 0.74, 1]
            ripples = [draw.uniform(0.1, 1), draw.uniform(0.1, 1)]
            bands = (
                (*edges[0:2], -ripples[0], ripples[0]), (*edges[2:4], -draw.uniform(25, 60)),
                (*edges[4:6], -ripples[1], ripples[1]), (*edges[6:8], -draw.uniform(25, 60)),
            )  # fmt: skip
            requirement = asked(2, *bands, phase="any")
            with self.subTest(seed=seed):
                product, direct = (design(requirement, name) for name in ("elliptic-product", "optimized-iir"))
                for found in (product, direct):
                    self.assertGreaterEqual(least_margin_db(found.filter, requirement), -1e-9)
                costs = [design_document(found)["cost"]["multiplies"] for found in (product, direct)]
                self.assertLessEqual(costs[1], costs[0])

    def test_what_one_elliptic_does_and_what_none_does_is_refused_with_the_way_out(self) -> None:
        low = asked(2, (0, 0.3, -0.1, 0.1), (0.4, 1, -40), phase="any")
        apart = asked(2, (0, 0.2, -0.1, 0.1), (0.3, 0.4, -40), (0.5, 0.6, -6.1, -5.9), (0.7, 1, -40), phase="any")
        for requirement, words in ((low, "take elliptic"), (apart, "no one gain")):
            with self.assertRaises(DesignError) as caught:
                design(requirement, "elliptic-product")
            self.assertIn(words, caught.exception.sentence())


def by_levels(method: str, order: int, cutoffs: tuple[float, ...], shape: str, ripple: float, down: float) -> Design:
    choice = DesignChoice(
        method, order, cutoffs_hz=cutoffs, shape=shape, settings=(("ripple_db", ripple), ("attenuation_db", down))
    )
    return design_task(Task(None, RATE, choice))


class LevelsAndLength(unittest.TestCase):
    def test_levels_are_kept_the_gain_is_halved_at_the_cutoffs_and_the_transition_is_the_narrowest(self) -> None:
        cases = [
            ("lowpass", 60, (6000.0,), 0.2, 60.0), ("lowpass", 41, (9000.0,), 1.0, 40.0), ("highpass", 60, (6000.0,), 0.1, 50.0),
            ("bandpass", 90, (6000.0, 12_000.0), 0.3, 55.0), ("bandstop", 90, (6000.0, 12_000.0), 0.3, 45.0),
        ]  # fmt: skip
        for shape, order, cutoffs, ripple, down in cases:
            with self.subTest(shape=shape, order=order):
                found = by_levels("equiripple", order, cutoffs, shape, ripple, down)
                gain = plain_gain(found.filter, np.array(cutoffs) / RATE)
                self.assertLess(float(np.max(np.abs(gain - 20 * math.log10(0.5)))), 1e-5)
                requirement = found.requirement
                assert requirement is not None
                self.assertIs(found.levels, requirement)
                self.assertGreaterEqual(least_margin_db(found.filter, requirement), -1e-9)
                for band in requirement.bands:
                    if band.is_passband:
                        assert band.lower is not None
                        self.assertAlmostEqual(band.upper.first_db - band.lower.first_db, ripple)
                    else:
                        self.assertAlmostEqual(band.upper.first_db, -down)
                # Chebyshev's theorem: any narrower transition has to miss, at this length, wherever it lies.
                rows = [(b.start_hz, b.stop_hz, b) for b in requirement.bands]
                move = 0.002 * (rows[1][0] - rows[0][1])
                narrower = []
                for k, (start, stop, band) in enumerate(rows):
                    low, high = start - move * (k > 0), stop + move * (k < len(rows) - 1)
                    lower = () if band.lower is None else (band.lower.first_db,)
                    narrower.append((low, high, *lower, band.upper.first_db))
                tight = asked(RATE, *narrower)
                best = design(tight, "equiripple", order)
                self.assertLess(least_margin_db(best.filter, tight), 0)

    def test_least_squares_within_them_has_less_energy_of_error(self) -> None:
        made = [by_levels(m, 60, (6000.0,), "lowpass", 0.2, 60.0) for m in ("equiripple", "constrained-least-squares")]
        f = np.linspace(0, 0.5, 4001)
        ideal = (f < 6000 / RATE).astype(float)
        energy = [float(np.sum((10 ** (plain_gain(d.filter, f) / 20) - ideal) ** 2)) for d in made]
        self.assertLessEqual(energy[1], energy[0] * (1 + 1e-9))
        requirement = made[0].requirement
        assert requirement is not None
        self.assertGreaterEqual(least_margin_db(made[1].filter, requirement), -1e-6)

    def test_what_is_too_short_or_has_the_wrong_parity_is_refused(self) -> None:
        for order, cutoffs, shape, words in (
            (6, (1000.0,), "lowpass", "too short"), (61, (6000.0,), "highpass", "order"), (6000, (6000.0,), "lowpass", "out of reach"),
        ):  # fmt: skip
            with self.subTest(order=order), self.assertRaises(DesignError) as caught:
                by_levels("equiripple", order, cutoffs, shape, 0.2, 60.0)
            self.assertIn(words, caught.exception.sentence())
