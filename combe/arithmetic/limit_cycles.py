"""Zero-input limit cycles of a section: proved away, or found and shown.

With no input a section's state is its last two outputs, and rounding moves it over a finite set. Any cycle lies within
the bound below, so that following every state in that square until it repeats decides the question (Claasen,
Mecklenbräuker & Peek 1976, "Effects of quantization and overflow in recursive digital filters"). Where the square is
too large for that, cycles are searched for from random states: a cycle found is a fact, none found is not a proof.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from combe.arithmetic.section import Section
from combe.arithmetic.run import requantized_integer
from combe.arithmetic.stages import Requantize

MOST_STATES = 40_000
RANDOM_STARTS = 200
LONGEST_FOLLOWED = 4000


@dataclass(frozen=True, slots=True)
class LimitCycles:
    """``is_proved`` says that every state was followed. ``cycle`` holds one period of the loudest cycle found, in raw
    outputs; empty where the output always dies away to zero."""

    is_proved: bool
    cycle: tuple[int, ...]

    @property
    def amplitude(self) -> int:
        """The largest raw output of the cycle."""
        return max((abs(value) for value in self.cycle), default=0)

    def sentence(self) -> str:
        """What was found, in words."""
        if self.cycle:
            period = len(self.cycle)
            shown = ", ".join(str(value) for value in self.cycle[:6]) + (", …" if period > 6 else "")
            still = "a constant" if period == 1 else f"a cycle of {period} samples"
            return f"Without input its output can stay at {still} of up to {self.amplitude} steps ({shown})."
        if self.is_proved:
            return "Without input its output always dies away: every state was followed."
        return f"Without input its output died away from {RANDOM_STARTS} random states; that is no proof."


def cycle_bound(stage: Section) -> int:
    """No zero-input cycle is larger: the error of a rounding, at most 1 step (½ to nearest), times Σ|h| of 1/A(z)."""
    a1, a2 = (value * stage.denominator.step for value in stage.a)
    poles = np.roots([1.0, a1, a2])
    radius = float(np.max(np.abs(poles), initial=0.0))
    if radius >= 1:
        return 1 << 62
    count = int(min(200_000, 32 + np.ceil(np.log(1e-9) / np.log(max(radius, 1e-9))))) if radius else 3
    y1 = y2 = 0.0
    total = 0.0
    for n in range(count):
        y = (1.0 if n == 0 else 0.0) - a1 * y1 - a2 * y2
        y2, y1 = y1, y
        total += abs(y)
    step = 0.5 if stage.rounding.startswith("nearest") else 1.0
    return int(np.floor(step * total * (1 + 1e-6))) + 1


@lru_cache(maxsize=128)
def zero_input_cycles(stage: Section) -> LimitCycles:
    """The loudest zero-input cycle of a section, or the proof that there is none."""
    if not any(stage.a):
        return LimitCycles(True, ())
    free = replace(stage, b=(0, 0, 0))
    bound = cycle_bound(stage)
    top = min(bound, stage.result.most)
    side = 2 * top + 1
    if side * side <= MOST_STATES:
        return LimitCycles(True, _loudest(free, [(p, q) for p in range(-top, top + 1) for q in range(-top, top + 1)]))
    source = np.random.default_rng(1)
    starts = source.integers(-top, top + 1, (RANDOM_STARTS, 2)).tolist()
    return LimitCycles(False, _loudest(free, [(p, q) for p, q in starts]))


def _loudest(stage: Section, starts: list[tuple[int, int]]) -> tuple[int, ...]:
    """Follow each state until it repeats; states seen before lead nowhere new."""
    last = Requantize(stage.accumulator, stage.result, stage.rounding, stage.overflow)
    shift = stage.accumulator.fraction - stage.result.fraction - stage.denominator.fraction
    a1, a2 = (value << shift for value in stage.a)
    seen: set[tuple[int, int]] = set()
    best: tuple[int, ...] = ()
    for start in starts:
        path: dict[tuple[int, int], int] = {}
        state = start
        while state not in seen and state not in path and len(path) < LONGEST_FOLLOWED:
            path[state] = len(path)
            y = requantized_integer(last, -a1 * state[0] - a2 * state[1])
            state = (y, state[0])
        if state in path:
            states = [each for each, at in path.items() if at >= path[state]]
            cycle = tuple(each[0] for each in states)
            if max(abs(value) for value in cycle) > max((abs(value) for value in best), default=0):
                best = cycle
        seen.update(path)
    return best
