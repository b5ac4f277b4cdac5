"""One section at a time: notch, peak, comb, shelves and resonator, in closed form.

Source: Regalia & Mitra (1987), "Tunable digital frequency response equalization filters": each is a sum or difference
of the input and an allpass of it, so that center and width are set apart from one another and exactly, the bilinear
transform's warping undone at the center and at the width. Orfanidis (1997) for widths of peaks at given gains.
"""

from __future__ import annotations

import time
from math import cos, pi, sqrt, tan

from combe.designing.designed import Design
from combe.designing.settings import CENTER, CORNER, DEPTH, GAIN, SPACING, WIDTH, Q
from combe.designing.task import Setting, Task
from combe.errors import DesignError
from combe.filters import Cascade, Filter, Fir
from combe.requirement.quantities import frequency_text

Section = tuple[float, float, float, float, float]


def _angle(task: Task, setting: Setting) -> float:
    """A frequency inside (0, half the rate) as an angle."""
    value = setting.checked(task.choice.setting(setting.name))
    if value is None:
        raise DesignError(f"a {task.choice.method} needs {setting.name}", setting.name, setting.summary)
    if not 0 < value < task.sample_rate_hz / 2:
        raise DesignError(f"{frequency_text(value)} is out of reach", setting.name,
                          f"it lies between 0 and half the sample rate, {frequency_text(task.sample_rate_hz / 2)}")  # fmt: skip
    return 2 * pi * value / task.sample_rate_hz


def _half_width(task: Task, center: float) -> float:
    """tan of half the width's angle, from the width or from Q."""
    q = Q.checked(task.choice.setting("q"))
    width = WIDTH.checked(task.choice.setting("width_hz"))
    if width is not None and q is not None:
        raise DesignError("width_hz and q both tell the width", "q", "give one of them")
    if width is None and q is None:
        raise DesignError(f"a {task.choice.method} needs width_hz or q", "width_hz")
    angle = 2 * pi * width / task.sample_rate_hz if width is not None else center / (q or 1.0)
    if not 0 < angle < pi:
        raise DesignError("the width is out of reach", "width_hz",
                          f"it lies between 0 and half the sample rate, {frequency_text(task.sample_rate_hz / 2)}")  # fmt: skip
    return tan(angle / 2)


def _finished(task: Task, started: float, found: Filter, *notes: str) -> Design:
    seconds = time.perf_counter() - started
    return Design(task.choice.method, found, task.sample_rate_hz, task.requirement, notes, seconds)


def make_notch(task: Task) -> Design:
    """Zero at the center, half power at the edges of the width, unit gain at 0 and at half the rate."""
    started = time.perf_counter()
    center = _angle(task, CENTER)
    t = _half_width(task, center)
    scale, middle = 1 / (1 + t), -2 * _cosine(center)
    section: Section = (1.0, middle, 1.0, middle * scale, (1 - t) * scale)
    return _finished(task, started, Cascade((section,), scale))


def make_resonator(task: Task) -> Design:
    """Unit gain at the center, half power at the edges of the width, zeros at 0 and at half the rate."""
    started = time.perf_counter()
    center = _angle(task, CENTER)
    t = _half_width(task, center)
    scale = 1 / (1 + t)
    section: Section = (1.0, 0.0, -1.0, -2 * _cosine(center) * scale, (1 - t) * scale)
    return _finished(task, started, Cascade((section,), t * scale))


def make_peak(task: Task) -> Design:
    """A gain at the center, half of it in dB at the edges of the width, unit gain at 0 and at half the rate."""
    started = time.perf_counter()
    center = _angle(task, CENTER)
    t = _half_width(task, center)
    gain = 10 ** (_gain(task) / 20)
    # With A² the gain, the width at gain A: the pole's bandwidth is t/A for a boost as for a cut.
    root = sqrt(gain)
    up, down = 1 + t * root, 1 + t / root
    middle = -2 * _cosine(center)
    section: Section = (up / down, middle / down, (1 - t * root) / down, middle / down, (1 - t / root) / down)
    return _finished(task, started, Cascade((section,), 1.0))


def _gain(task: Task) -> float:
    gain = GAIN.checked(task.choice.setting("gain_db"))
    assert gain is not None
    return gain


def make_low_shelf(task: Task) -> Design:
    """A gain at 0, unit gain at half the rate, their geometric mean at the corner; first order."""
    return _shelf(task, 1.0)


def make_high_shelf(task: Task) -> Design:
    """A gain at half the rate, unit gain at 0, their geometric mean at the corner; first order."""
    return _shelf(task, -1.0)


def _shelf(task: Task, side: float) -> Design:
    started = time.perf_counter()
    corner = _angle(task, CORNER)
    root = sqrt(10 ** (_gain(task) / 20))
    t = tan(corner / 2) if side > 0 else 1 / tan(corner / 2)
    # Low: (s + t·√g)/(s + t/√g) in the prewarped plane; high: the same with z → −z.
    bottom = 1 + t / root
    b0, b1, a1 = (1 + t * root) / bottom, (t * root - 1) / bottom, (t / root - 1) / bottom
    section: Section = (b0, side * b1, 0.0, side * a1, 0.0)
    return _finished(task, started, Cascade((section,), 1.0))


def make_comb(task: Task) -> Design:
    """Teeth at all multiples of the spacing, 0 included: without a width a FIR, with one a narrow recursive notch."""
    started = time.perf_counter()
    spacing = SPACING.checked(task.choice.setting("spacing_hz"))
    depth = DEPTH.checked(task.choice.setting("depth"))
    if not spacing or depth is None:
        raise DesignError("a comb needs spacing_hz, above zero", "spacing_hz")
    ratio = task.sample_rate_hz / spacing
    period = round(ratio)
    if not 1 <= period <= 2000:
        raise DesignError(f"a spacing of {frequency_text(spacing)} is out of reach", "spacing_hz",
                          f"it lies between {frequency_text(task.sample_rate_hz / 2000)} and {frequency_text(task.sample_rate_hz)}")  # fmt: skip
    notes = [] if abs(ratio - period) < 1e-9 * ratio else [
        f"the teeth stand {task.sample_rate_hz / period:.6g} Hz apart, the nearest to {frequency_text(spacing)}"]  # fmt: skip
    width = WIDTH.checked(task.choice.setting("width_hz"))
    if width is None:
        taps = [0.0] * (period + 1)
        taps[0], taps[-1] = 1 / (1 + depth), -depth / (1 + depth)
        return _finished(task, started, Fir(tuple(taps)), *notes)
    if not 0 < width < task.sample_rate_hz / period:
        raise DesignError("the width is out of reach", "width_hz",
                          f"it lies between 0 and the spacing, {frequency_text(task.sample_rate_hz / period)}")  # fmt: skip
    # With w = z⁻ᴺ: (1 − λ) + λ·g·(1 − w)/(1 − r·w). At the width's edges the power is halfway between teeth and the rest.
    t = tan(pi * width * period / task.sample_rate_hz / 2)
    r = (1 - t) / (1 + t)
    share, g = 2 * depth / (1 + depth), (1 + r) / 2
    top, back = 1 - share + share * g, (1 - share) * r + share * g
    return _finished(task, started, _comb_cascade(period, back / top if depth < 1 else 1.0, r, top), *notes)


def _cosine(angle: float) -> float:
    """cos, exactly zero at a quarter turn."""
    value = cos(angle)
    return 0.0 if abs(value) < 1e-15 else value


def _comb_cascade(period: int, zero: float, pole: float, gain: float) -> Cascade:
    """(1 − zero·z⁻ᴺ)/(1 − pole·z⁻ᴺ) as sections: roots at the Nth roots of either number."""
    pad = period // 2 + 1
    tops, bottoms = (_nth_roots(period, value) for value in (zero, pole))
    tops, bottoms = (rows + [(0.0, 0.0)] * (pad - len(rows)) for rows in (tops, bottoms))
    return Cascade(tuple((1.0, *top, *bottom) for top, bottom in zip(tops, bottoms)), gain)


def _nth_roots(period: int, value: float) -> list[tuple[float, float]]:
    """The factors 1 + c1·z⁻¹ + c2·z⁻² of 1 − value·z⁻ᴺ, by rising angle; on the unit circle where the value is 1."""
    radius = abs(value) ** (1 / period)
    rows: list[tuple[float, float]] = []
    for k in range(period // 2 + 1):
        angle = 2 * pi * k / period + (0.0 if value >= 0 else pi / period)
        if angle > pi + 1e-12:
            break
        if min(angle, abs(angle - pi)) < 1e-12:
            rows.append((-radius * round(cos(angle)) + 0.0, 0.0))
        else:
            rows.append((-2 * radius * _cosine(angle), radius * radius))
    return rows
