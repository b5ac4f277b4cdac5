"""Windowed designs: the least length that keeps every limit, the best of an order, or a cut-off alone."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from combe.designing.designed import Design
from combe.designing.lengths import allowed_lengths, drafted_length, first_guess, least_length
from combe.designing.linear_phase import share
from combe.designing.settings import KAISER_DOWN
from combe.designing.task import Task
from combe.designing.windowed.cutoff import MAXIMUM_TAPS, beta_for, by_cutoff, check_taps
from combe.designing.windowed.ideal import ideal_of
from combe.designing.windowed.shapes import SHAPES, Shape
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Requirement

Array = NDArray[np.float64]
LOOK_BELOW, NEARLY, SHORT = 8, 1.5, 64
"""How far shorter lengths are looked at, the share below which one is worked out in full, and up to where all are."""
RANGES = {"beta": (0.0, 26.0), "attenuation_db": (20.0, 220.0), "sigma": (0.12, 0.8), "taper": (0.0, 1.0)}


def make_named(task: Task) -> Design:
    """The design a task asks of the window its method names."""
    return make(next(shape for shape in SHAPES if shape.method == task.choice.method), task)


def make(shape: Shape, task: Task) -> Design:
    """The design a task asks of a window."""
    started = time.perf_counter()
    fixed = _fixed(shape, task)
    notes: tuple[str, ...] = ()
    if task.choice.cutoffs_hz:
        found, notes = by_cutoff(shape, task, fixed)
    else:
        search = _Search(shape, task.asked, fixed, task.is_stopped)
        if task.choice.order is None:
            found, notes = (search.draft(task.drafted_from) if task.drafted_from else None) or search.least()
        else:
            taps = task.order + 1
            check_taps(task.asked, taps)
            found, notes = search.filter(taps), search.story(taps)
    seconds = time.perf_counter() - started
    return Design(shape.method, found, task.sample_rate_hz, task.requirement, notes, seconds)


def _fixed(shape: Shape, task: Task) -> float | None:
    """The window's parameter where the user sets it."""
    if shape.parameter is None:
        return 0.0
    value = task.choice.setting(shape.parameter.name)
    if value is not None and shape.method == "kaiser" and task.choice.setting("attenuation_db") is not None:
        raise DesignError("beta and attenuation_db both tell the shape of the window", "beta", "give one of them")
    if value is None and shape.method == "kaiser":
        down = KAISER_DOWN.checked(task.choice.setting("attenuation_db"))
        return None if down is None else beta_for(down)
    return shape.parameter.checked(value)


class _Search:
    """Windows of several lengths over one ideal response, the parameter fitted to each."""

    def __init__(
        self, shape: Shape, requirement: Requirement, fixed: float | None, is_stopped: Callable[[], bool]
    ) -> None:
        self.shape, self.requirement, self.fixed, self.is_stopped = shape, requirement, fixed, is_stopped
        self.ideal = ideal_of(requirement)
        self.known: dict[int, tuple[float, float]] = {}
        self.roughly: dict[int, tuple[float, float]] = {}

    def best(self, taps: int) -> tuple[float, float]:
        """The least share at a length, and the parameter that reaches it."""
        if self.is_stopped():
            raise Stopped
        if taps not in self.known:
            bare = self.ideal.taps(taps)

            def used(parameter: float) -> float:
                return share(bare * self.shape.make(taps, parameter), self.requirement)

            if self.fixed is not None:
                self.known[taps] = used(self.fixed), self.fixed
            else:
                assert self.shape.parameter is not None
                self.known[taps] = _fitted(used, *RANGES[self.shape.parameter.name])
        return self.known[taps]

    def rough(self, taps: int) -> float:
        """The least share at a length, the parameter looked for near where it was last."""
        if self.fixed is not None or taps in self.known:
            return self.best(taps)[0]
        if self.is_stopped():
            raise Stopped
        if taps not in self.roughly:
            assert self.shape.parameter is not None
            bare = self.ideal.taps(taps)
            low, high = RANGES[self.shape.parameter.name]
            count = 13
            if self.roughly:
                near, width = next(reversed(self.roughly.values()))[1], (high - low) / 16
                low, high, count = max(low, near - width), min(high, near + width), 5
            best = (np.inf, low)
            for _ in range(3):
                tried = [
                    (share(bare * self.shape.make(taps, float(each)), self.requirement), float(each))
                    for each in np.linspace(low, high, count)
                ]
                step = (high - low) / (count - 1)
                best = min(best, *tried)
                low, high, count = best[1] - 2 * step / 3, best[1] + 2 * step / 3, 5
                low, high = (
                    max(low, RANGES[self.shape.parameter.name][0]),
                    min(high, RANGES[self.shape.parameter.name][1]),
                )
            self.roughly[taps] = best
        return self.roughly[taps][0]

    def quick(self, taps: int) -> float:
        """About the least share at a length: around the parameters that were best for its neighbors."""
        alike = [count for count in self.known if count % 2 == taps % 2]
        if taps in self.known or self.fixed is not None or not alike or taps < SHORT:
            return self.best(taps)[0]
        near = sorted(alike, key=lambda count: abs(count - taps))[:2]
        assert self.shape.parameter is not None
        low, high = RANGES[self.shape.parameter.name]
        step = (high - low) / 100
        middles = {self.known[count][1] for count in near}
        tried = {min(max(middle + k * step, low), high) for middle in middles for k in (-2, -1, 0, 1, 2)}
        bare = self.ideal.taps(taps)
        return min(share(bare * self.shape.make(taps, each), self.requirement) for each in tried)

    def filter(self, taps: int) -> Fir:
        """The taps of a length."""
        found = self.ideal.taps(taps) * self.shape.make(taps, self.best(taps)[1])
        return Fir(tuple(((found + found[::-1]) / 2).tolist()))

    def story(self, taps: int) -> tuple[str, ...]:
        """Which parameter was taken."""
        if self.shape.parameter is None:
            return ()
        unit = f" {self.shape.parameter.unit}" if self.shape.parameter.unit else ""
        return (f"{self.shape.parameter.name.replace('_db', '')} is {self.best(taps)[1]:.4g}{unit}",)

    def least(self) -> tuple[Fir, tuple[str, ...]]:
        """The shortest that keeps every limit, verified on its true extremes."""
        guess = first_guess(self.requirement)
        if guess > MAXIMUM_TAPS:
            raise DesignError(
                f"this would take about {guess:,} taps, and {MAXIMUM_TAPS} is the most", "bands", "widen a transition"
            )
        allowed = allowed_lengths(self.requirement)
        self._check_reach(guess, allowed)
        taps = least_length(self.rough, guess, allowed, MAXIMUM_TAPS)
        if taps is None:
            raise self._hopeless(MAXIMUM_TAPS)
        found = self.kept(taps)
        for _ in range(20):
            if found is not None:
                break
            taps += max(1, taps // 500)
            taps += 0 if allowed(taps) else 1
            found = self.kept(taps)
        if found is None:
            raise self._hopeless(taps)
        return self._shorter(taps, found, allowed)

    def draft(self, near: int) -> tuple[Fir, tuple[str, ...]] | None:
        """About the shortest, looked for from a length that did nearby; None where the least must be looked for from the start."""
        allowed = allowed_lengths(self.requirement)
        taps = drafted_length(self.rough, near, allowed, MAXIMUM_TAPS)
        if taps is None:
            return None
        self.known.setdefault(taps, self.roughly.get(taps, (0.0, 0.0)))
        return self.filter(taps), self.story(taps)

    def kept(self, taps: int) -> Fir | None:
        """The filter of a length if it keeps every limit over the whole of each band."""
        if self.best(taps)[0] > 1 + 1e-3:
            return None
        found = self.filter(taps)
        return found if all(line.margin >= 0 for line in gain_lines(found, self.requirement)) else None

    def _shorter(self, taps: int, found: Fir, allowed: Callable[[int], bool]) -> tuple[Fir, tuple[str, ...]]:
        """A window's ripples move against the edges as its length grows, so that what a length keeps the next may
        miss: all below are tried, until a stretch of them is far from it."""
        missed = 0
        for count in range(taps - 1, 0, -1):
            if missed >= min(max(LOOK_BELOW, taps // 10), 3 * LOOK_BELOW):
                break
            missed += 1
            if allowed(count) and self.quick(count) < NEARLY:
                shorter = self.kept(count)
                if shorter is not None:
                    taps, found, missed = count, shorter, 0
        return found, self.story(taps)

    def _check_reach(self, guess: int, allowed: Callable[[int], bool]) -> None:
        """A window's ripples beside a step don't shrink with length: see whether they are low enough at all."""
        for times in (2.0, 4.0, 7.0):
            long = min(round(times * self.shape.lobe * guess) | 1, MAXIMUM_TAPS - 1)
            if self.rough(long) <= 1.02:
                return
        raise self._hopeless(long)

    def _hopeless(self, taps: int) -> DesignError:
        used = self.best(taps)[0]
        what = (
            f"the ripples a {self.shape.name} window leaves don't shrink with its length: even {taps} taps use the "
            f"tolerances {used:.3g} times over"
        )
        return DesignError(what, "bands", "take a window with lower ripples, such as kaiser")


def _fitted(used: Callable[[float], float], low: float, high: float) -> tuple[float, float]:
    """The least share and its parameter: scanned coarsely, then closed in on beside the two best points."""
    # Imported late: the window opens without it.
    from scipy.optimize import minimize_scalar

    grid = np.linspace(low, high, 13)
    tried = [used(float(x)) for x in grid]
    best = (float(min(tried)), float(grid[int(np.argmin(tried))]))
    at = int(np.argmin(tried))
    low, high = float(grid[max(at - 1, 0)]), float(grid[min(at + 1, 12)])
    found = minimize_scalar(used, bounds=(low, high), method="bounded", options={"xatol": 1e-4 * (high - low)})
    return min(best, (float(found.fun), float(found.x)))
