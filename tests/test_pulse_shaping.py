"""Pulses against a mask and an error vector: heard by a receiver that shares no code, and no other taps do better."""

from __future__ import annotations

import math
import unittest
from unittest import mock

import numpy as np
from scipy.optimize import nnls

import combe
from combe.benching.run import run_bench
from combe.designing.designed import Design
from combe.designing.fir import pulse_shaping
from combe.designing.methods import design_task
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError
from combe.filters import Fir
from combe.requirement import Requirement, requirement_from
from combe.signals.spec import signal_document, signal_from, signal_from_sentence
from tests.support import asked, document, some, worst_margin_db

SPAN = 32


def receiver(times: np.ndarray, roll_off: float) -> np.ndarray:
    """The root-raised-cosine pulse by its spectrum: the integral of √(raised cosine)·cos(2πft), f in symbols."""
    f = np.linspace(0, (1 + roll_off) / 2, 1601)
    ramp = np.clip((f - (1 - roll_off) / 2) / max(roll_off, 1e-12), 0, 1)
    spectrum = np.cos(np.pi / 2 * ramp)
    weight = np.full(len(f), f[1])
    weight[[0, -1]] /= 2
    return 2 * np.cos(2 * np.pi * np.outer(times, f)) @ (spectrum * weight)


def heard(taps: np.ndarray, samples: int, roll_off: float) -> np.ndarray:
    """What the receiver has at the times of symbols, for one symbol sent."""
    times = (np.arange(len(taps)) - (len(taps) - 1) / 2) / samples
    symbols = np.arange(-SPAN, SPAN + 1)
    return receiver((symbols[:, None] - times[None, :]).ravel(), roll_off).reshape(len(symbols), -1) @ taps


def error_vector(taps: np.ndarray, samples: int, roll_off: float) -> float:
    """Rms of what all other symbols leave against the own one, in dB."""
    found = heard(taps, samples, roll_off)
    own = found[SPAN]
    return 10 * math.log10((np.sum(found**2) - own**2) / own**2)


def link(samples: int, roll_off: float, down_db: float, gap: float = 1.08) -> Requirement:
    """A mask at ``samples`` a symbol: flat where the spectrum is, blocked a little beyond its end."""
    flat, end = 0.9 * (1 - roll_off) / 2, gap * (1 + roll_off) / 2
    return asked(samples, (0, flat, -0.4, 0.4), (end, samples / 2, -down_db))


def shaped(
    requirement: Requirement, samples: int, roll_off: float, most: float = -50.0, order: int | None = None
) -> Fir:
    settings = (("samples_per_symbol", float(samples)), ("roll_off", roll_off), ("error_vector_db", most))
    found = design_task(
        Task(requirement, requirement.sample_rate_hz, DesignChoice("pulse-shaping", order, settings=settings))
    ).filter
    assert isinstance(found, Fir)
    return found


CASES = ((4, 0.25, 40.0), (2, 0.35, 45.0), (8, 0.5, 50.0), (3, 0.22, 35.0), (4, 0.15, 50.0))


class Shaped(unittest.TestCase):
    def test_mask_and_error_vector_are_kept_and_shorter_pulses_do_not(self) -> None:
        for samples, roll_off, down in some(CASES, 2):
            brief = link(samples, roll_off, down)
            with self.subTest(samples=samples, roll_off=roll_off):
                found = shaped(brief, samples, roll_off)
                taps = found.array
                np.testing.assert_allclose(taps, taps[::-1], atol=1e-12)
                self.assertGreaterEqual(worst_margin_db(taps, brief), 0)
                self.assertLessEqual(error_vector(taps, samples, roll_off), -50 + 0.1)
                for order in (found.order - 1, found.order - 2):
                    try:
                        other = shaped(brief, samples, roll_off, order=order)
                    except CombeError:
                        continue
                    self.assertGreater(error_vector(other.array, samples, roll_off), -50 - 0.1, order)

    def test_no_taps_of_the_length_interfere_less(self) -> None:
        """At the least point the slope of the interference is a sum of slopes of limits that are touched, none of them against
        its own direction, and of that of the own symbol, whose level is held (Karush, Kuhn and Tucker)."""
        samples, roll_off = 4, 0.25
        brief = link(samples, roll_off, 45.0, 1.04)
        taps = shaped(brief, samples, roll_off, order=36).array
        size = (len(taps) + 1) // 2
        each = np.zeros((len(taps), size))
        for k in range(size):
            each[[k, -1 - k], k] = 1.0
        times = (np.arange(len(taps)) - (len(taps) - 1) / 2) / samples
        symbols = np.arange(-SPAN, SPAN + 1)
        rows = receiver((symbols[:, None] - times[None, :]).ravel(), roll_off).reshape(len(symbols), -1) @ each
        own, others = rows[SPAN], np.delete(rows, SPAN, 0)
        x = taps[:size]
        self.assertAlmostEqual(float(own @ x), 1.0, delta=1e-3)
        slope = 2 * others.T @ (others @ x)
        edges = [band * 2 * np.pi / samples for band in (0.9 * (1 - roll_off) / 2, 1.04 * (1 + roll_off) / 2)]
        omega = np.concatenate([np.linspace(0, edges[0], 2000), np.linspace(edges[1], np.pi, 4000)])
        waves = np.cos(np.outer(omega, np.arange(len(taps)) - (len(taps) - 1) / 2)) @ each
        gain = waves @ x
        top, low, most = 10 ** (0.4 / 20), 10 ** (-0.4 / 20), 10 ** (-45 / 20)
        touched = [own, -own]
        for row, value, w in zip(waves, gain, omega):
            if w <= edges[0]:
                touched += [row] if value > top * 0.998 else [-row] if value < low * 1.002 else []
            elif abs(value) > most * 0.985:
                touched.append(row * np.sign(value))
        self.assertGreater(len(touched), 4)
        _, rest = nnls(np.array(touched).T, -slope, maxiter=5000)
        # The distance from a plain pulse, weighted by a thousandth, decides what interference leaves free.
        self.assertLess(rest, 0.03 * float(np.linalg.norm(slope)))

    def test_a_plain_pulse_of_the_length_does_worse(self) -> None:
        samples, roll_off = 4, 0.25
        brief = link(samples, roll_off, 40.0)
        found = shaped(brief, samples, roll_off)
        plain = receiver((np.arange(len(found.taps)) - found.order / 2) / samples, roll_off) / samples
        self.assertLess(worst_margin_db(plain, brief), -3)
        self.assertGreater(error_vector(plain, samples, roll_off), -50)

    def test_what_can_not_be_is_refused(self) -> None:
        tight = asked(4, (0, 0.3, -0.4, 0.4), (0.52, 2, -60))
        with mock.patch.object(pulse_shaping, "MAXIMUM_TAPS", 61), self.assertRaises(CombeError) as caught:
            shaped(tight, 4, 0.25, -70.0)
        self.assertIn("begin the mask further out", caught.exception.sentence())
        with self.assertRaises(CombeError):
            shaped(link(4, 0.25, 40.0), 4, 0.25, order=4)
        with self.assertRaises(CombeError):
            shaped(link(4, 0.25, 40.0), 4, 1.5)


class Link(unittest.TestCase):
    def test_symbols_go_in_and_arrive(self) -> None:
        """Four samples a symbol by themselves, as integers, through the receiver of the bench."""
        head = document(62_500, (0, 22_000, -0.3, 0.3), (42_000, 62_000, -40), (66_000, 125_000, -55))
        brief = requirement_from(head | {"rate": {"up": 4}})
        settings = {"error_vector_db": -58.0}
        found = combe.design(brief, method="pulse-shaping", settings=settings, holds_with_bits=14)
        self.assertEqual(found.stages[0].up, 4)
        self.assertLess(error_vector(np.array(found.filter.taps), 4, 0.25), -57.9)  # type: ignore[union-attr]
        made = combe.realize(found, 14)
        self.assertTrue(all(line["margin_db"] >= 0 for line in made.lines), made.lines)
        bench = combe.bench(made, "symbols points 4 -9 dB", samples=6000, through=["ideal", "bit-true"])
        for each in bench.through:
            assert each.evm_db is not None
            self.assertLess(each.evm_db, -55)
            self.assertEqual(each.saturated or 0, 0)

    def test_symbols_are_even_levels_of_the_power_asked(self) -> None:
        for points in (2, 4, 8):
            signal = signal_from_sentence(f"symbols points {points} rolloff 0.3 -6 dB", 1000.0, 20_000)
            self.assertEqual(signal_from(signal_document(signal)), signal)
            made = combe.realize(Design("given", Fir((1.0,)), 1000.0), 16)
            values = run_bench(made.realization, None, signal, ["ideal"]).input.values
            levels = np.unique(values)
            self.assertEqual(len(levels), points)
            self.assertAlmostEqual(float(np.sum(levels)), 0.0, delta=1e-3)
            np.testing.assert_allclose(np.diff(levels), np.diff(levels)[0], atol=2e-4)
            self.assertAlmostEqual(20 * math.log10(math.sqrt(2 * float(np.mean(values**2)))), -6, delta=0.01)
        for wrong in (
            "symbols points 3 -6 dB",
            "symbols -6 dB",
            "symbols points 128 -6 dB",
            "symbols points 4 rolloff 2",
        ):
            with self.assertRaises(CombeError):
                signal_from_sentence(wrong, 1000.0)


if __name__ == "__main__":
    unittest.main()
