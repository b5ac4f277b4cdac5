"""Windowed designs: the least length that keeps every limit, the best of an order, or a cut-off alone."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from combe.designing.classic.method import cutoff_edges
from combe.designing.designed import Design
from combe.designing.lengths import allowed_lengths, first_guess, least_length
from combe.designing.linear_phase import share
from combe.designing.task import Task
from combe.designing.windowed.ideal import Ideal, ideal_between, ideal_of
from combe.designing.windowed.shapes import SHAPES, Shape
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Requirement

Array = NDArray[np.float64]
MAXIMUM_TAPS = 5000
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
        found = _by_cutoff(shape, task, fixed)
    else:
        search = _Search(shape, task.asked, fixed, task.is_stopped)
        if task.choice.order is None:
            found, notes = search.least()
        else:
            taps = task.order + 1
            check_taps(task.asked, taps)
            found, notes = search.filter(taps), search.story(taps)
    seconds = time.perf_counter() - started
    return Design(shape.method, found, task.sample_rate_hz, task.requirement, notes, seconds)


def check_taps(requirement: Requirement | None, taps: int) -> None:
    """Refuse lengths out of reach or with a zero where a passband is asked."""
    if not 1 <= taps <= MAXIMUM_TAPS:
        raise DesignError(f"order {taps - 1} is out of reach", "order", f"orders run from 0 to {MAXIMUM_TAPS - 1}")
    if requirement is not None and not allowed_lengths(requirement)(taps):
        what = "an even number of symmetric taps has a zero at half the sample rate, where a passband is asked"
        raise DesignError(what, "order", f"use order {taps - 2} or {taps}" if taps > 1 else "use order 0")


def _fixed(shape: Shape, task: Task) -> float | None:
    """The window's parameter where the user sets it."""
    if shape.parameter is None:
        return 0.0
    value = task.choice.setting(shape.parameter.name)
    if value is None and shape.method == "kaiser":
        down = task.choice.setting("attenuation_db")
        return None if down is None else beta_for(down)
    return shape.parameter.checked(value)


def beta_for(attenuation_db: float) -> float:
    """Kaiser's (1974) fit of β to the attenuation beside a step."""
    if attenuation_db > 50:
        return 0.1102 * (attenuation_db - 8.7)
    if attenuation_db > 21:
        return float(0.5842 * (attenuation_db - 21) ** 0.4 + 0.07886 * (attenuation_db - 21))
    return 0.0


class _Search:
    """Windows of several lengths over one ideal response, the parameter fitted to each."""

    def __init__(
        self, shape: Shape, requirement: Requirement, fixed: float | None, is_stopped: Callable[[], bool]
    ) -> None:
        self.shape, self.requirement, self.fixed, self.is_stopped = shape, requirement, fixed, is_stopped
        self.ideal = ideal_of(requirement)
        self.known: dict[int, tuple[float, float]] = {}

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
                self.known[taps] = self._fitted(used, RANGES[self.shape.parameter.name])
        return self.known[taps]

    def _fitted(self, used: Callable[[float], float], limits: tuple[float, float]) -> tuple[float, float]:
        """Scan coarsely around the last parameter found, then close in."""
        # Imported late: the window opens without it.
        from scipy.optimize import minimize_scalar

        near = [parameter for _, parameter in self.known.values()]
        low, high = limits
        if near:
            width = (high - low) / 16
            low, high = max(low, near[-1] - width), min(high, near[-1] + width)
        else:
            grid = np.linspace(low, high, 13)
            at = int(np.argmin([used(float(x)) for x in grid]))
            low, high = float(grid[max(at - 1, 0)]), float(grid[min(at + 1, 12)])
        found = minimize_scalar(used, bounds=(low, high), method="bounded", options={"xatol": 1e-3, "maxiter": 9})
        return float(found.fun), float(found.x)

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
        taps = least_length(lambda n: self.best(n)[0], guess, allowed, MAXIMUM_TAPS)
        if taps is None:
            raise self._hopeless(MAXIMUM_TAPS)
        for _ in range(20):
            found = self.filter(taps)
            if all(line.margin >= 0 for line in gain_lines(found, self.requirement)):
                return found, self.story(taps)
            taps += max(1, taps // 500)
            taps += 0 if allowed(taps) else 1
        raise self._hopeless(taps)

    def _check_reach(self, guess: int, allowed: Callable[[int], bool]) -> None:
        """A window's ripples beside a step don't shrink with length: see whether they are low enough at all."""
        for times in (2.0, 4.0, 7.0):
            long = min(round(times * self.shape.lobe * guess) | 1, MAXIMUM_TAPS - 1)
            if self.best(long)[0] <= 1:
                return
            self.known.pop(long)
        raise self._hopeless(long)

    def _hopeless(self, taps: int) -> DesignError:
        used = self.best(taps)[0]
        what = (
            f"the ripples a {self.shape.name} window leaves don't shrink with its length: even {taps} taps use the "
            f"tolerances {used:.3g} times over"
        )
        return DesignError(what, "bands", "take a window with lower ripples, such as kaiser")


def _by_cutoff(shape: Shape, task: Task, fixed: float | None) -> Fir:
    """A given length whose ideal response steps at the cut-offs: the gain there is −6.02 dB."""
    name, _ = cutoff_edges(task)
    taps = task.order + 1
    check_taps(None, taps)
    if taps % 2 == 0 and name in ("highpass", "bandstop"):
        what = f"an even number of symmetric taps has a zero at half the sample rate, where a {name} passes"
        raise DesignError(what, "order", f"use order {task.order - 1} or {task.order + 1}")
    parameter = fixed
    if parameter is None:
        parameter = {"beta": beta_for(60.0), "attenuation_db": 60.0, "sigma": 0.4, "taper": 0.5}[
            shape.parameter.name if shape.parameter else "beta"
        ]
    turn = 2 * np.pi / task.sample_rate_hz
    ideal: Ideal = ideal_between(name, [cutoff * turn for cutoff in sorted(task.choice.cutoffs_hz)])
    found = ideal.taps(taps) * shape.make(taps, parameter)
    found = (found + found[::-1]) / 2
    return Fir(tuple((found / _gain_at(found, name, task)).tolist()))


def _gain_at(taps: Array, shape: str, task: Task) -> float:
    """The gain in the middle of the passband, to be made 1."""
    at = {"lowpass": 0.0, "bandstop": 0.0, "highpass": np.pi}.get(shape)
    if at is None:
        at = np.pi * sum(task.choice.cutoffs_hz) / task.sample_rate_hz
    offset = np.arange(len(taps)) - (len(taps) - 1) / 2
    return float(np.cos(at * offset) @ taps)
