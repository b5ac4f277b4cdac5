"""Roots found together, against closed forms, roots that were multiplied out in many digits, and the polynomial itself."""

from __future__ import annotations

import random
import unittest
from unittest import mock

import mpmath
import numpy as np

from combe.filters import simultaneous
from combe.filters.simultaneous import roots_of
from tests.support import examples

EPS = 2.0**-52


def farthest(found: np.ndarray, known: np.ndarray) -> float:
    """Of a matching that takes the nearest first: how far a root lies from where it should be, as a share of its size."""
    assert len(found) == len(known) and np.all(np.isfinite(found))
    left, worst = list(known), 0.0
    for root in found:
        nearest = min(range(len(left)), key=lambda k: abs(left[k] - root))
        worst = max(worst, float(abs(left[nearest] - root) / abs(left[nearest])))
        del left[nearest]
    return worst


def worst_residual(taps: np.ndarray, found: np.ndarray) -> float:
    """In fifty digits: the polynomial at each root over the sum of its terms' sizes, in units of a double's rounding."""
    worst = 0.0
    with mpmath.workdps(50):
        for root in found:
            z, size = mpmath.mpc(root), abs(mpmath.mpc(root))
            terms = [mpmath.mpf(float(tap)) * z ** (len(taps) - 1 - k) for k, tap in enumerate(taps)]
            sizes = [abs(float(tap)) * size ** (len(taps) - 1 - k) for k, tap in enumerate(taps)]
            worst = max(worst, float(abs(mpmath.fsum(terms)) / mpmath.fsum(sizes)))
    return worst / EPS


class Closed(unittest.TestCase):
    def test_roots_of_one(self) -> None:
        for degree in (1, 2, 3, 17, 112, 399):
            taps = np.zeros(degree + 1)
            taps[0], taps[-1] = 1.0, -1.0
            known = np.exp(2j * np.pi * np.arange(degree) / degree)
            self.assertLess(farthest(roots_of(taps), known), 40 * EPS, degree)

    def test_nothing_and_a_constant_have_none(self) -> None:
        for none in ([2.5], [], [0.0, 0.0], [0.0, 3.0]):
            self.assertEqual(len(roots_of(np.array(none))), 0)

    def test_zeros_at_the_ends_and_pairs(self) -> None:
        """At its start they are no powers at all, at its end roots at the origin; halves of pairs are each other's mirror images."""
        found = roots_of(np.array([0.0, 1.0, 0.0, 0.25, 0.0, 0.0]))
        self.assertLess(np.max(np.abs(found - np.array([0.5j, -0.5j, 0, 0]))), EPS)
        source = random.Random(8)
        for _ in range(examples(40)):
            found = roots_of(np.array([source.gauss(0, 1) for _ in range(source.randrange(2, 40))]))
            upper, lower = found[found.imag > 0], found[found.imag < 0]
            self.assertEqual(sorted(upper.tolist(), key=repr), sorted(lower.conj().tolist(), key=repr))
            self.assertTrue(np.all(np.diff(np.angle(upper)) >= 0))

    def test_sizes_far_apart(self) -> None:
        """A companion matrix loses the small ones."""
        for sizes in ((1e-12, 1e-6, 1e-2, 1.0, 1e5, 1e9), (20.0, 4e3, 5e5, 7e7), (3e-2, 2e-4, 1e-6)):
            with mpmath.workdps(60):
                taps = [mpmath.mpf(1)]
                for size in sizes:
                    taps = [a - mpmath.mpf(size) * b for a, b in zip([*taps, 0], [0, *taps])]
                given = np.array([float(tap) for tap in taps])
            with mock.patch.object(simultaneous, "_newton", side_effect=simultaneous._newton) as rounds:
                self.assertLess(farthest(roots_of(given), np.array(sizes)), 1e-13)
            self.assertLess(rounds.call_count, 9)  # the points begin where the roots are

    def test_many_in_one_place_are_near_it(self) -> None:
        """A root of order m moves by the m-th root of a rounding."""
        taps = np.array([1.0])
        for _ in range(3):
            taps = np.convolve(taps, np.ones(16))
        known = np.repeat(np.exp(2j * np.pi * np.arange(1, 16) / 16), 3)
        self.assertLess(farthest(roots_of(taps), known), 20 * (40 * EPS) ** (1 / 3))


class Random(unittest.TestCase):
    def test_the_polynomial_is_nothing_but_rounding_there(self) -> None:
        source = random.Random(5)
        for trial in range(examples(24)):
            count = source.choice((3, 8, 21, 64, 65))
            shape = trial % 3
            taps = np.array([source.gauss(0, 1) for _ in range(count)])
            if shape:  # as filters are: a few large ones in the middle, the same from both ends
                taps = np.sinc(0.3 * (np.arange(count) - (count - 1) / 2)) * np.kaiser(count, source.uniform(2, 9))
            if shape == 2:
                taps = np.trim_zeros(np.round(taps * 2**12))
            found = roots_of(taps)
            self.assertEqual(len(found), len(taps) - 1)
            self.assertLess(worst_residual(taps, found), 60)

    def test_known_roots_are_found(self) -> None:
        source = random.Random(6)
        for _ in range(examples(40)):
            pairs = [
                source.uniform(0.3, 1.4) * np.exp(1j * source.uniform(0.1, 3.0)) for _ in range(source.randrange(1, 6))
            ]
            known = np.array([*pairs, *np.conj(pairs), source.uniform(-2, -0.2)])
            with mpmath.workdps(40):
                taps = [mpmath.mpc(1)]
                for root in known:
                    taps = [a - mpmath.mpc(root) * b for a, b in zip([*taps, 0], [0, *taps])]
                given = np.array([float(tap.real) for tap in taps])
            spread = min(abs(a - b) for k, a in enumerate(known) for b in known[:k])
            if spread > 0.05:
                self.assertLess(farthest(roots_of(given), known), 1e-9)

    def test_a_real_root_that_rounding_moves_off_the_axis(self) -> None:
        """One half of no pair: a billionth beside the axis, whose place the taps hardly tell."""
        for count, cutoff, window in (
            (30, 0.0896292677568763, np.kaiser(30, 13.80690601513176)),
            (146, 0.030672462322084922, np.hanning(148)[1:-1]),
            (156, 0.08849056996560939, np.blackman(158)[1:-1]),
        ):
            taps = 2 * cutoff * np.sinc(2 * cutoff * (np.arange(count) - (count - 1) / 2)) * window
            with mock.patch.object(simultaneous.np, "roots", side_effect=AssertionError("eigenvalues")):
                found = roots_of(taps)
            self.assertEqual(len(found), count - 1)
            complex_ones = found[found.imag != 0]
            self.assertEqual(sorted(complex_ones.tolist(), key=str), sorted(complex_ones.conj().tolist(), key=str))
            on_axis = found[found.imag == 0]
            self.assertGreater(len(on_axis), 2)
            self.assertLess(worst_residual(taps, np.append(on_axis, complex_ones[::60])), 4 * count)

    def test_points_that_do_not_settle_are_found_another_way(self) -> None:
        taps = np.array([1.0, -1.5, 0.7, 0.2])
        with mock.patch.object(simultaneous, "MOST_ROUNDS", 1):
            self.assertLess(farthest(roots_of(taps), np.roots(taps)), 1e-12)
        with mock.patch.object(simultaneous, "_start", lambda _: np.full(3, np.nan + 0j)):
            self.assertLess(farthest(roots_of(taps), np.roots(taps)), 1e-12)


if __name__ == "__main__":
    unittest.main()
