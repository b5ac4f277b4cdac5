"""Windows by length and cut-off: the ideal response steps where it must for the gain to be halved at the cut-offs."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from combe.designing.classic.method import cutoff_edges
from combe.designing.lengths import allowed_lengths
from combe.designing.task import Task
from combe.designing.windowed.ideal import ideal_between
from combe.designing.windowed.shapes import Shape
from combe.errors import DesignError
from combe.filters import Fir
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text, level_text

Array = NDArray[np.float64]
MAXIMUM_TAPS = 5000
HALF = 0.5
"""The gain at a cut-off, −6.02 dB: what an ideal step between 1 and 0 has in its middle."""
CLOSE = 1e-9


def check_taps(requirement: Requirement | None, taps: int) -> None:
    """Refuse lengths out of reach or with a zero where a passband is asked."""
    if not 1 <= taps <= MAXIMUM_TAPS:
        raise DesignError(f"order {taps - 1} is out of reach", "order", f"orders run from 0 to {MAXIMUM_TAPS - 1}")
    if requirement is not None and not allowed_lengths(requirement)(taps):
        what = "an even number of symmetric taps has a zero at half the sample rate, where a passband is asked"
        raise DesignError(what, "order", f"use order {taps - 2} or {taps}" if taps > 1 else "use order 0")


def beta_for(attenuation_db: float) -> float:
    """Kaiser's (1974) fit of β to the attenuation beside a step."""
    if attenuation_db > 50:
        return 0.1102 * (attenuation_db - 8.7)
    if attenuation_db > 21:
        return float(0.5842 * (attenuation_db - 21) ** 0.4 + 0.07886 * (attenuation_db - 21))
    return 0.0


def by_cutoff(shape: Shape, task: Task, fixed: float | None) -> tuple[Fir, tuple[str, ...]]:
    """A given length whose gain at the cut-offs is half that of the passband, where the length can; else a note."""
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
    wanted = 2 * np.pi / task.sample_rate_hz * np.sort(task.choice.cutoffs_hz)
    window = shape.make(taps, parameter)

    def made(edges: Array) -> Array:
        found = ideal_between(name, edges.tolist()).taps(taps) * window
        found = (found + found[::-1]) / 2
        return np.asarray(found / _amplitude(found, _middle(name, wanted))[0])

    edges = _placed(lambda edges: _amplitude(made(edges), wanted) - HALF, wanted)
    if edges is not None:
        return Fir(tuple(made(edges).tolist())), ()
    found = made(wanted)
    return Fir(tuple(found.tolist())), (_told(found, wanted, task),)


def _placed(missed: Callable[[Array], Array], wanted: Array) -> Array | None:
    """Where the ideal response has to step, looked for from the cut-offs themselves; None if nowhere."""
    # Imported late: the window opens without it.
    from scipy.optimize import root

    def bounded(edges: Array) -> Array:
        inside = np.clip(edges, 1e-6, np.pi - 1e-6)
        # Outside of the axis, or out of order, nothing is found: it is led back.
        back = edges - inside
        if len(inside) == 2 and inside[1] - inside[0] < 1e-6:
            return np.asarray(missed(wanted) + 1.0 + back)
        return np.asarray(missed(inside) + back)

    with np.errstate(all="ignore"):
        for start in (wanted, wanted * 0.9 + 0.05 * np.pi * (wanted > np.pi / 2)):
            found = root(bounded, start, tol=1e-13)
            edges = np.asarray(found.x)
            inside = bool(np.all(edges > 0) and np.all(edges < np.pi) and np.all(np.diff(edges) > 0))
            if inside and float(np.max(np.abs(missed(edges)))) < CLOSE:
                return edges
    return None


def _middle(shape: str, cutoffs: Array) -> Array:
    """A frequency in the middle of the passband, where the gain is made 1."""
    at = {"lowpass": 0.0, "bandstop": 0.0, "highpass": np.pi}.get(shape)
    return np.array([np.sum(cutoffs) / 2 if at is None else at])


def _amplitude(taps: Array, omega: Array) -> Array:
    """The real amplitude of symmetric taps."""
    offset = np.arange(len(taps)) - (len(taps) - 1) / 2
    return np.asarray(np.cos(np.outer(omega, offset)) @ taps)


def _told(taps: Array, wanted: Array, task: Task) -> str:
    """What the gain at the cut-offs is instead, and why."""
    levels = 20 * np.log10(np.maximum(np.abs(_amplitude(taps, wanted)), 1e-20))
    places = " and ".join(
        f"{level_text(float(level), 2)} at {frequency_text(float(hz), task.sample_rate_hz)}"
        for level, hz in zip(levels, np.sort(task.choice.cutoffs_hz))
    )
    return f"the gain is {places}, not −6.02 dB: order {task.order} is too short to fall so steeply there"
