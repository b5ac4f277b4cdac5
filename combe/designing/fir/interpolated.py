"""Interpolated FIR: a short model filter stretched by an integer, and a second one that removes its images.

Source: Neuvo, Dong & Mitra (1984), "Interpolated finite impulse response filters". Narrow bands cost a fraction of the
multiplies; the two parts run one after the other and are kept as such beside their product.
"""

from __future__ import annotations

import time

import numpy as np

from combe.designing import equiripple
from combe.designing.classic.plan import shape_of
from combe.designing.designed import Design
from combe.designing.settings import STRETCH
from combe.designing.task import Task
from combe.errors import CombeError, DesignError, Stopped
from combe.filters import Fir
from combe.ledger import cost_of, gain_lines
from combe.requirement import Band, Limit, Requirement
from combe.values import replace

TIGHTER_DB = (0.0, 0.02, 0.1, 0.5)
LONGEST = 2000


def make(task: Task) -> Design:
    """The cheapest pair of filters that keeps a narrow lowpass or highpass."""
    started = time.perf_counter()
    requirement = task.asked
    shape = shape_of(requirement)
    if shape not in ("lowpass", "highpass"):
        raise DesignError(f"interpolated FIR is for a lowpass or highpass, and this is {shape or 'neither'}", "bands")
    if task.choice.order is not None:
        raise DesignError("interpolated FIR finds its own order", "order", "leave it out, or set the stretch")
    low = requirement if shape == "lowpass" else mirrored(requirement)
    asked = STRETCH.checked(task.choice.setting("stretch"))
    stretches = [round(asked)] if asked else _promising(low)
    best: tuple[float, Fir, Fir, int] | None = None
    for stretch in stretches:
        if task.is_stopped():
            raise Stopped
        try:
            model, images = _pair(task, low, stretch, shape == "highpass")
        except CombeError:
            continue
        multiplies = cost_of(model).multiplies + cost_of(images).multiplies
        if best is None or multiplies < best[0]:
            best = multiplies, model, images, stretch
    if best is None:
        what = "the band isn't narrow enough to stretch a filter over it"
        raise DesignError(what, "bands", "its stopband has to start well below a quarter of the sample rate")
    _, model, images, stretch = best
    parts = [stretched(model, stretch), images]
    if shape == "highpass":
        parts = [_alternated(part) for part in parts]
    whole = np.convolve(parts[0].array, parts[1].array)
    whole = (whole + whole[::-1]) / 2
    found = Fir(tuple(whole.tolist()))
    notes = (
        f"a model of {len(model.taps)} taps stretched {stretch} times, and {len(images.taps)} taps against its images",
    )
    seconds = time.perf_counter() - started
    return Design("interpolated-fir", found, task.sample_rate_hz, requirement, notes, seconds, (), tuple(parts))


def _promising(low: Requirement) -> list[int]:
    """Stretches around the best one by the count of multiplies (Neuvo, Dong & Mitra 1984)."""
    edge = low.passbands[-1].stop_hz / low.sample_rate_hz
    stop = min(band.start_hz for band in low.stopbands) / low.sample_rate_hz
    most = int(0.5 / stop) if stop > 0 else 1
    best = 1 / (edge + stop + np.sqrt(max(stop - edge, 1e-12)))
    return sorted({k for k in (int(best) - 1, int(best), int(best) + 1, int(best) + 2) if 2 <= k <= most})


def _pair(task: Task, low: Requirement, stretch: int, is_odd: bool) -> tuple[Fir, Fir]:
    """Model and image filter whose product keeps the limits, drawn in until it does."""
    rate = low.sample_rate_hz
    edge, stop = low.passbands[-1].stop_hz, min(band.start_hz for band in low.stopbands)
    high = min(db for band in low.passbands for _, db in band.upper.points)
    bottom = max(db for band in low.passbands if band.lower for _, db in band.lower.points)
    middle, half = (high + bottom) / 2, (high - bottom) / 2
    level = min(db for band in low.stopbands for _, db in band.upper.points) - max(middle, 0.0)
    nyquist = rate / 2
    for tighter in TIGHTER_DB:
        share = half / 2 * (1 - min(tighter, 0.3))
        down = level - half - tighter
        model_requirement = Requirement("model", rate, (
            _keep("pass", 0.0, edge * stretch, middle - share, middle + share),
            _block("stop", stop * stretch, nyquist, down),
        ))  # fmt: skip
        walls = [(k * rate / stretch - stop, min(k * rate / stretch + stop, nyquist))
                 for k in range(1, stretch // 2 + 1)]  # fmt: skip
        image_requirement = Requirement("images", rate, (
            _keep("pass", 0.0, edge, -share, share),
            *(_block(f"image {k}", start, end, down) for k, (start, end) in enumerate(walls)),
        ))  # fmt: skip
        model, images = (_shortest(asked, task, is_odd) for asked in (model_requirement, image_requirement))
        if len(model.taps) * stretch + len(images.taps) > LONGEST:
            raise DesignError("the product would be too long", "bands")
        whole = np.convolve(stretched(model, stretch).array, images.array)
        if all(line.margin >= 0 for line in gain_lines(Fir(tuple(whole.tolist())), low)):
            return model, images
    raise DesignError("the two parts don't fit together", "bands")


def _shortest(requirement: Requirement, task: Task, is_odd: bool) -> Fir:
    """The shortest part; an odd number of taps where it is to be mirrored, which keeps it symmetric."""
    found = equiripple.roughly_shortest(requirement, task.is_stopped)
    if is_odd and found.order % 2:
        found = equiripple.design(requirement, found.order + 1, 1, task.is_stopped)
    assert isinstance(found.filter, Fir)
    return found.filter


def stretched(model: Fir, stretch: int) -> Fir:
    """H(z^L): zeros put between the taps."""
    taps = np.zeros((len(model.taps) - 1) * stretch + 1)
    taps[::stretch] = model.taps
    return Fir(tuple(taps.tolist()))


def mirrored(requirement: Requirement) -> Requirement:
    """The requirement seen from half the sample rate downward."""
    nyquist = requirement.nyquist_hz

    def flipped(limit: Limit) -> Limit:
        return Limit(tuple((nyquist - hz, db) for hz, db in reversed(limit.points)), limit.flat)

    bands = tuple(
        Band(b.name, nyquist - b.stop_hz, nyquist - b.start_hz, flipped(b.upper), flipped(b.lower) if b.lower else None)
        for b in reversed(requirement.bands)
    )
    return replace(requirement, bands=bands)


def _alternated(part: Fir) -> Fir:
    sign = (-1.0) ** (np.arange(len(part.taps)) - len(part.taps) // 2)
    return Fir(tuple((part.array * sign).tolist()))


def _keep(name: str, start: float, stop: float, low: float, high: float) -> Band:
    return Band(name, start, stop, Limit.level(high, start, stop), Limit.level(low, start, stop))


def _block(name: str, start: float, stop: float, db: float) -> Band:
    return Band(name, start, stop, Limit.level(db, start, stop))
