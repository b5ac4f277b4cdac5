"""Every setting of every method does what its summary says: it has an effect, alone and beside every other."""

from __future__ import annotations

import itertools
import unittest

import numpy as np

from combe.designing.methods import METHODS, Method, design_task
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError
from combe.filters import Cascade, Filter
from tests.support import IS_CAMPAIGN, asked, some

RATE = 48_000.0
LOW = asked(RATE, (0, 6000, -0.5, 0.5), (9000, 24_000, -40))
WIDE = asked(RATE, (0, 6000, -0.5, 0.5), (9000, 24_000, -40), phase="any")
PULSES = asked(RATE, (0, 1500, -0.3, 0.3), (9500, 24_000, -40))
BY_CUTOFF = {"chebyshev", "inverse-chebyshev", "elliptic", "equiripple", "constrained-least-squares"}
FREE = {"fractional-delay", "raised-cosine", "root-raised-cosine", "savitzky-golay", "differentiator", "notch", "peak",
        "resonator", "low-shelf", "high-shelf", "comb"}  # fmt: skip
VALUES = {
    "ripple_db": (0.2, 1.0), "attenuation_db": (45.0, 70.0), "beta": (2.0, 7.0), "sigma": (0.3, 0.5), "taper": (0.2, 0.9),
    "delay_samples": (11.0, 14.3), "stop_hz": (15_000.0, 20_000.0), "bands": (3, 4), "degree": (2, 4), "derivative": (0, 1),
    "samples_per_symbol": (4.0, 6.0), "roll_off": (0.2, 0.5), "start_hz": (800.0, 2000.0), "stretch": (2, 3),
    "equalizer_sections": (1, 2), "largest_radius": (0.7, 0.9), "fir_order": (40, 60), "center_hz": (3000.0, 5000.0),
    "width_hz": (200.0, 700.0), "q": (2.0, 9.0), "gain_db": (-6.0, 9.0), "corner_hz": (2000.0, 5000.0),
    "spacing_hz": (2000.0, 3000.0), "depth": (0.4, 0.9), "error_vector_db": (-30.0, -60.0),
}  # fmt: skip
APART = {frozenset(("width_hz", "q")), frozenset(("beta", "attenuation_db"))}
"""Two ways to say one thing: together they are refused."""
ORDERS = {
    "from-points": 60,
    "savitzky-golay": 20,
    "fractional-delay": 24,
    "raised-cosine": 40,
    "root-raised-cosine": 40,
}


def response(source: Filter) -> np.ndarray:
    """By plain sums and products, at frequencies no null falls on."""
    z = np.exp(-1j * np.linspace(0.013, 3.1, 997))
    if isinstance(source, Cascade):
        rows = [(b0 + b1 * z + b2 * z * z) / (1 + a1 * z + a2 * z * z) for b0, b1, b2, a1, a2 in source.sections]
        return np.asarray(source.gain * np.prod(rows, axis=0))
    return np.asarray(np.polyval(np.array(source.taps)[::-1], z))  # type: ignore[union-attr]


def task_of(method: Method, settings: dict[str, float]) -> Task:
    """The plainest task of a method with these settings; what others it needs has its first value."""
    name = method.name
    needed = {"notch": ("center_hz",), "peak": ("center_hz", "gain_db"), "resonator": ("center_hz",), "comb": ("spacing_hz",),
              "low-shelf": ("corner_hz",), "high-shelf": ("corner_hz",), "hilbert": ("start_hz", "stop_hz"),
              "differentiator": ("stop_hz",), "fractional-delay": ("delay_samples",), "low-delay": ("delay_samples",)}.get(name, ())  # fmt: skip
    every = {key: VALUES[key][0] for key in needed} | settings
    if name in ("notch", "peak", "resonator") and not {"width_hz", "q"} & set(every):
        every["q"] = 5.0
    cutoffs = (5000.0,) if name in BY_CUTOFF else ()
    order = (6 if method.kind == "iir" else 60) if name in BY_CUTOFF else ORDERS.get(name)
    if name in ("hilbert", "differentiator"):
        order = None
    asks = (
        None
        if name in FREE or cutoffs or name == "hilbert"
        else PULSES
        if name == "pulse-shaping"
        else WIDE
        if "iir" in method.kind or name == "low-delay"
        else LOW
    )
    return Task(asks, RATE, DesignChoice(name, order, cutoffs_hz=cutoffs, settings=tuple(every.items())))


class Effects(unittest.TestCase):
    def differs(self, method: Method, base: dict[str, float], name: str) -> int:
        """How many of two values could be made; the filters of both differ."""
        found, made = [], 0
        for value in VALUES[name]:
            try:
                found.append(response(design_task(task_of(method, base | {name: value})).filter))
                made += 1
            except CombeError as error:
                self.assertTrue(error.sentence(), (method.name, name, value))
                found.append(np.full(997, value))  # refused for a reason: that is an effect too
        self.assertGreater(float(np.max(np.abs(found[0] - found[1]))), 1e-6, f"{method.name}: {name} beside {base}")
        return made

    def test_each_alone_and_beside_each_other(self) -> None:
        tried = 0
        for method in some(METHODS, (len(METHODS) + 1) // 2):
            names = [setting.name for setting in method.settings]
            for name in names:
                with self.subTest(method=method.name, setting=name):
                    self.assertGreater(self.differs(method, {}, name), 0)
                    tried += 1
            pairs = list(itertools.permutations(names, 2))
            for first, second in some(pairs, (len(pairs) + 47) // 48):
                if frozenset((first, second)) in APART or (method.name, second) == ("hilbert", "ripple_db"):
                    continue
                with self.subTest(method=method.name, beside=first, setting=second):
                    self.differs(method, {first: VALUES[first][1]}, second)
        self.assertGreater(tried, 30 if IS_CAMPAIGN else 10)

    def test_two_ways_to_say_one_thing_are_refused_together(self) -> None:
        for method in METHODS:
            names = {setting.name for setting in method.settings}
            for pair in APART:
                if pair <= names:
                    both = {name: VALUES[name][0] for name in pair}
                    with self.assertRaisesRegex(CombeError, "give one of them"):
                        design_task(task_of(method, both))

    def test_a_shallow_comb_with_a_width(self) -> None:
        """Teeth of (1 − depth)/(1 + depth), the power at the width's edges halfway to the rest; depth 1 blocks."""
        for depth, width in ((1.0, 300.0), (0.5, 300.0), (0.25, 900.0), (0.9, 20.0)):
            choice = DesignChoice("comb", settings=(("spacing_hz", 3000.0), ("depth", depth), ("width_hz", width)))
            made = design_task(Task(None, RATE, choice)).filter
            assert isinstance(made, Cascade)

            def power(hz: float, made: Cascade = made) -> float:
                z = np.exp(-2j * np.pi * hz / RATE)
                rows = [(b0 + b1 * z + b2 * z * z) / (1 + a1 * z + a2 * z * z) for b0, b1, b2, a1, a2 in made.sections]
                return float(abs(made.gain * np.prod(rows)) ** 2)

            tooth = ((1 - depth) / (1 + depth)) ** 2
            for k in (1, 3, 7):
                self.assertAlmostEqual(power(3000.0 * k), tooth, places=9)
                self.assertAlmostEqual(power(3000.0 * k + 1500.0), 1.0, places=9)
                for side in (-1, 1):
                    self.assertAlmostEqual(power(3000.0 * k + side * width / 2), (1 + tooth) / 2, places=8)


if __name__ == "__main__":
    unittest.main()
