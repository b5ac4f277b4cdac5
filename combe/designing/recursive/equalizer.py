"""Delay equalizers: allpass sections that even out the group delay of a filter over its passbands.

Source: Deczky (1972), "Synthesis of recursive digital filters using the minimum p-error criterion"; here the largest
deviation itself is brought down, by sequential linear programs over radii and angles with the radii held below one.
"""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from combe.designing.classic.families import FAMILIES
from combe.designing.classic.method import make as make_classic
from combe.designing.designed import Design
from combe.designing.recursive.slp import Linear, least_maximum
from combe.designing.settings import EQUALIZER_SECTIONS as SECTIONS
from combe.designing.settings import MOST_SECTIONS
from combe.designing.task import DesignChoice, Task
from combe.errors import DesignError, Stopped
from combe.filters import Cascade, Filter, Fir, Roots, rational_of, sections_of
from combe.ledger import delay_over_passbands
from combe.requirement.quantities import duration_text
from combe.responses import group_delay
from combe.values import replace

Section = tuple[float, float, float, float, float]
Array = NDArray[np.float64]
LARGEST_RADIUS = 0.9995
POINTS = 96
GAINED = 0.98
"""What more sections have to bring the spread down to, as a share, to count as a gain."""
FLAT_RADIUS = 0.3
START_RADII = (0.6, 0.82)


def make(task: Task) -> Design:
    """An elliptic filter and the fewest allpass sections that bring its delay spread within the limit, or a number."""
    started = time.perf_counter()
    requirement = task.asked
    source = _base(task)
    bands = [(band.start_hz, band.stop_hz) for band in requirement.passbands]
    rate = requirement.sample_rate_hz
    before = delay_over_passbands(source, bands, rate)
    asked = SECTIONS.checked(task.choice.setting(SECTIONS.name))
    if asked is not None:
        found = equalized(source, bands, rate, int(asked), task)
    else:
        limit = requirement.max_delay_spread_s
        if limit is None:
            raise DesignError("no spread of the delay is limited, so there is nothing to even out", "max_delay_spread_s",
                              "limit it, or set equalizer_sections")  # fmt: skip
        if (before.most - before.least) / rate <= limit:
            raise DesignError("the filter keeps the spread of the delay as it is", "max_delay_spread_s",
                              "no equalizer is needed")  # fmt: skip
        found = _fewest(source, bands, rate, limit * rate, task)
    after = delay_over_passbands(found, bands, rate)
    count = len(found.sections) - len(source.sections)
    notes = (f"{count} allpass sections bring the spread from {before.most - before.least:.3g} to "
             f"{after.most - after.least:.3g} samples, the delay to {after.mean:.4g}",)  # fmt: skip
    return Design("delay-equalized", found, rate, requirement, notes, time.perf_counter() - started)


def _base(task: Task) -> Cascade:
    """The filter whose delay is to be evened out: one given by hand, else an elliptic one."""
    given = task.choice.given
    if isinstance(given, Fir):
        raise DesignError("the equalizer follows filters with sections, and this one has taps", "given",
                          "give sections, roots, or b and a")  # fmt: skip
    if given is not None:
        return given if isinstance(given, Cascade) else sections_of(rational_of(given))
    made = make_classic(FAMILIES[3], replace(task, choice=DesignChoice("elliptic", order=task.choice.order))).filter
    assert isinstance(made, Cascade)
    return made


def _fewest(base: Cascade, bands: list[tuple[float, float]], rate: float, limit: float, task: Task) -> Cascade:
    """More and more until the spread is small enough, then halved in between.

    Spread falls slowly at first and fast later: only where two more sections gain nothing, and four more neither, is
    there nothing to be had.
    """
    known: dict[int, tuple[Cascade, float]] = {}

    def spread(count: int) -> float:
        if count not in known:
            fewer = [known[other][0] for other in sorted(known) if other < count]
            found = equalized(base, bands, rate, count, task, fewer[-1].sections[len(base.sections) :] if fewer else ())
            span = delay_over_passbands(found, bands, rate)
            known[count] = found, span.most - span.least
        return known[count][1]

    tried = [0, 1]
    while spread(tried[-1]) > limit:
        high = tried[-1]
        best = min(known, key=lambda count: (known[count][1], count))
        if high >= MOST_SECTIONS or (high >= best + 4 and spread(high) > GAINED * spread(best)):
            least = known[best][1]
            what = f"{best} allpass sections bring the spread of the delay down to {duration_text(least / rate)}"
            more = ", the most there may be" if high >= MOST_SECTIONS and best == high else ", and more gain nothing"
            raise DesignError(
                what + more, "max_delay_spread_s", f"allow {duration_text(least / rate)}, or take linear phase"
            )
        tried.append(min(high + (1 if high < 2 else 2), MOST_SECTIONS))
    low, high = tried[-2:]
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if spread(middle) <= limit else (middle, high)
    return known[high][0]


def equalized(
    source: Filter,
    bands: list[tuple[float, float]],
    rate: float,
    count: int,
    task: Task,
    fewer: tuple[Section, ...] = (),
) -> Cascade:
    """A filter followed by ``count`` second-order allpass sections with the least spread of delay found.

    Looked for from evenly placed sections, and from ``fewer`` that were found before with some put in between.
    """
    if isinstance(source, Fir):
        raise DesignError("the equalizer follows filters with sections, and this one has taps", "equalizer_sections")
    cascade = sections_of(rational_of(source)) if isinstance(source, Roots) else source
    omega = np.concatenate([
        2 * np.pi / rate * (low + (high - low) * (1 - np.cos(np.linspace(0, np.pi, POINTS))) / 2) for low, high in bands
    ])  # fmt: skip
    own = group_delay(cascade, omega)
    scale = max(float(np.ptp(own)), 1e-6)
    best: tuple[Array, float] | None = None
    starts = [_start(bands, rate, count, radius, own, omega) for radius in START_RADII]
    if fewer:
        starts.append(_filled_up(fewer, starts[0], own, omega))
    for start in starts:
        if task.is_stopped():
            raise Stopped
        found = least_maximum(
            lambda x: _deviation(x, own, omega) / scale,
            lambda x, rows: _slopes(x, omega, rows) / scale,
            start, _limits(count), np.concatenate([[scale], np.full(count, 0.05), np.full(count, 0.1)]), 40,
            is_stopped=task.is_stopped,
        )  # fmt: skip
        if best is None or found[1] < best[1]:
            best = found
    assert best is not None
    x = best[0]
    radii, angles = x[1 : 1 + count], x[1 + count :]
    allpass = tuple(_section(float(r), float(t)) for r, t in zip(radii, angles))
    return Cascade((*cascade.sections, *allpass), cascade.gain)


def _section(radius: float, angle: float) -> Section:
    a1, a2 = -2 * radius * float(np.cos(angle)), radius * radius
    return a2, a1, 1.0, a1, a2


def _start(bands: list[tuple[float, float]], rate: float, count: int, radius: float, own: Array, omega: Array) -> Array:
    """Angles spread over the bands by width; the level to aim at above the largest delay there is."""
    widths = np.array([high - low for low, high in bands])
    edges = np.concatenate([[0.0], np.cumsum(widths)])
    places = (np.arange(count) + 0.5) / count * edges[-1]
    angles = []
    for place in places:
        at = min(int(np.searchsorted(edges, place)) - 1, len(bands) - 1)
        angles.append(2 * np.pi / rate * (bands[at][0] + place - edges[at]))
    x = np.concatenate([[0.0], np.full(count, radius), angles])
    x[0] = float(np.mean(own + _delay(x, omega)))
    return x


def _filled_up(fewer: tuple[Section, ...], even: Array, own: Array, omega: Array) -> Array:
    """Sections found before, and flat ones where an even spread of them is furthest from any."""
    count = (len(even) - 1) // 2
    radii = [float(np.sqrt(a2)) for _, _, _, _, a2 in fewer]
    angles = [float(np.arccos(np.clip(-a1 / (2 * r), -1, 1))) for (_, _, _, a1, _), r in zip(fewer, radii)]
    while len(radii) < count:
        free = max(even[1 + count :].tolist(), key=lambda angle: min(abs(angle - other) for other in angles))
        radii, angles = [*radii, FLAT_RADIUS], [*angles, free]
    x = np.concatenate([[0.0], radii, angles])
    x[0] = float(np.mean(own + _delay(x, omega)))
    return x


def _limits(count: int) -> Linear:
    rows, bounds = [], []
    for k in range(count):
        for at, sign, bound in (
            (1 + k, 1, LARGEST_RADIUS),
            (1 + k, -1, -0.05),
            (1 + count + k, 1, np.pi),
            (1 + count + k, -1, 0.0),
        ):
            row = np.zeros(1 + 2 * count)
            row[at] = sign
            rows.append(row)
            bounds.append(bound)
    return Linear(np.array(rows), np.array(bounds))


def _delay(x: Array, omega: Array) -> Array:
    """Group delay of all allpass sections: Σ (1 − r²)/|1 − r e^{j(ω∓θ)}|²."""
    count = (len(x) - 1) // 2
    r, theta = x[1 : 1 + count], x[1 + count :]
    total = np.zeros(len(omega))
    for side in (1, -1):
        q = 1 - 2 * r * np.cos(omega[:, None] - side * theta) + r * r
        total += np.sum((1 - r * r) / q, axis=1)
    return total


def _deviation(x: Array, own: Array, omega: Array) -> Array:
    away = own + _delay(x, omega) - x[0]
    return np.concatenate([away, -away])


def _slopes(x: Array, omega: Array, rows: NDArray[np.intp]) -> Array:
    count = (len(x) - 1) // 2
    r, theta = x[1 : 1 + count], x[1 + count :]
    at = rows % len(omega)
    found = np.zeros((len(rows), len(x)))
    found[:, 0] = -1
    for side in (1, -1):
        phi = omega[at][:, None] - side * theta
        q = 1 - 2 * r * np.cos(phi) + r * r
        found[:, 1 : 1 + count] += (-2 * r * q - (1 - r * r) * (2 * r - 2 * np.cos(phi))) / q**2
        found[:, 1 + count :] += side * (1 - r * r) * 2 * r * np.sin(phi) / q**2
    return np.asarray(found * np.where(rows < len(omega), 1.0, -1.0)[:, None])
