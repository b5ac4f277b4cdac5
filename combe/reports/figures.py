"""Figures of a report: the brief as hatched ground a curve must not enter, curves told apart without colour."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from combe.filters import Filter
from combe.ledger import Line
from combe.requirement import Requirement
from combe.responses import frequency_response, gain_db, group_delay, impulse_response
from combe.responses.curves import magnitude_curve

if TYPE_CHECKING:
    from matplotlib.figure import Figure

Array = NDArray[np.float64]
POINTS, TIMES, FLOOR_DB = 6000, 160, -200.0
INK, RIVER, OCHRE, CLAY, HEATHER, GROUND = "#20302a", "#175b8c", "#9a6012", "#a33f32", "#6d4a86", "#c9c4b4"
STYLES = ((RIVER, "-", 1.7), (OCHRE, (0, (5, 2)), 1.2), (HEATHER, (0, (1, 1.5)), 1.3))
"""Colour, dashes and width: any one of them tells curves apart."""
Named = Sequence[tuple[str, Filter]]


def _sheet(height: float, rows: int = 1, ratios: tuple[float, ...] = (1.0,)) -> tuple[Figure, list[Any]]:
    from matplotlib.figure import Figure as Sheet

    sheet = Sheet(figsize=(8.2, height), facecolor="white")
    # Margins in inches: laying out by trial takes as long as drawing.
    sheet.subplots_adjust(left=0.08, right=0.985, bottom=0.45 / height, top=1 - 0.08 / height, hspace=0.16)
    axes = sheet.subplots(rows, 1, squeeze=False, gridspec_kw={"height_ratios": ratios})[:, 0]
    for each in axes:
        each.grid(alpha=0.3, linewidth=0.5)
        each.tick_params(labelsize=8, colors=INK)
        for side in ("top", "right"):
            each.spines[side].set_visible(False)
    return sheet, list(axes)


def unit_of(rate: float) -> tuple[float, str]:
    """By what frequencies are divided, and what they are called then."""
    for factor, name in ((1e9, "GHz"), (1e6, "MHz"), (1e3, "kHz")):
        if rate / 2 >= factor:
            return factor, name
    return 1.0, "Hz"


def _frequencies(source: Filter, rate: float) -> tuple[Array, Array]:
    """Angular frequencies dense enough for every lobe, and those of the curve's own turning points."""
    even = np.linspace(0, np.pi, POINTS)
    own, _ = magnitude_curve(source)
    omega = np.unique(np.concatenate([even, np.asarray(own, dtype=np.float64)]))
    return omega, omega * rate / (2 * np.pi)


def magnitude(curves: Named, rate: float, asked: Requirement | None, lines: Sequence[Line] = ()) -> Figure:
    """Gain over frequency with the brief as ground; below it the passbands close up, the worst points ringed and numbered."""
    passes = asked.passbands if asked is not None else ()
    sheet, axes = _sheet(5.2 if passes else 3.4, 2 if passes else 1, (1.7, 1.0) if passes else (1.0,))
    scale, unit = unit_of(rate)
    lowest = 0.0
    for (name, source), (color, dashes, width) in zip(curves, STYLES):
        omega, hz = _frequencies(source, rate)
        values = np.maximum(gain_db(frequency_response(source, omega)), FLOOR_DB)
        for each in axes:
            each.plot(hz / scale, values, color=color, linestyle=dashes, linewidth=width, label=name)
        lowest = min(lowest, float(np.quantile(values, 0.1)))
    levels = [db for band in (asked.bands if asked else ()) for _, db in band.upper.points]
    bottom = min([*levels, -20.0]) * 1.5 if asked is not None else max(lowest * 1.2, -160.0)
    top = max([*levels, 0.0]) + 0.08 * -bottom
    axes[0].set_ylim(bottom, top)
    _ground(axes[0], asked, bottom, top, scale)
    axes[0].legend(frameon=False, fontsize=8, loc="lower center", ncols=3)
    axes[0].set_ylabel("dB", fontsize=8)
    if passes:
        _close_up(axes[1], asked, scale)
    _ring(axes, lines, scale)
    axes[-1].set_xlabel(unit, fontsize=8)
    for each in axes:
        each.set_xlim(0, rate / 2 / scale)
    return sheet


def _ground(axes: Any, asked: Requirement | None, bottom: float, top: float, scale: float) -> None:
    """Where no curve may be: hatched, so that it is seen without colour, too."""
    for band in asked.bands if asked is not None else ():
        for limit, edge in ((band.upper, top), (band.lower, bottom)):
            if limit is None:
                continue
            hz = [x / scale for x, _ in limit.points]
            db = [y for _, y in limit.points]
            axes.fill_between(hz, db, edge, facecolor="none", edgecolor=GROUND, hatch="////", linewidth=0)
            axes.plot(hz, db, color=INK, linewidth=0.9)


def _close_up(axes: Any, asked: Requirement | None, scale: float) -> None:
    assert asked is not None
    levels = [db for band in asked.passbands for limit in (band.lower, band.upper) if limit for _, db in limit.points]
    room = max(0.6 * (max(levels) - min(levels)), 0.05)
    bottom, top = min(levels) - room, max(levels) + room
    axes.set_ylim(bottom, top)
    _ground(axes, asked, bottom, top, scale)
    axes.set_ylabel("passbands, dB", fontsize=8)


def _ring(axes: Sequence[Any], lines: Sequence[Line], scale: float) -> None:
    """The worst point of every gain limit, numbered as in the ledger."""
    for number, line in enumerate(lines, 1):
        if line.unit != "db" or line.at_hz is None or line.reached < FLOOR_DB:
            continue
        for each in axes:
            bottom, top = each.get_ylim()
            if bottom <= line.reached <= top:
                each.plot(
                    [line.at_hz / scale],
                    [line.reached],
                    "o",
                    markersize=5,
                    markerfacecolor="none",
                    color=CLAY,
                    markeredgewidth=1,
                )
                each.annotate(
                    str(number),
                    (line.at_hz / scale, line.reached),
                    xytext=(4, 4),
                    textcoords="offset points",
                    fontsize=7,
                    color=CLAY,
                )


def delay(curves: Named, rate: float, asked: Requirement | None) -> Figure:
    """Group delay in samples; the passbands are marked along the foot."""
    sheet, (axes,) = _sheet(2.6)
    scale, unit = unit_of(rate)
    highest = lowest = 0.0
    for (name, source), (color, dashes, width) in zip(curves, STYLES):
        omega, hz = _frequencies(source, rate)
        values = group_delay(source, omega)
        axes.plot(hz / scale, values, color=color, linestyle=dashes, linewidth=width, label=name)
        kept = _inside(hz, asked)
        highest = max(highest, float(np.max(values[kept], initial=0.0)))
        lowest = min(lowest, float(np.min(values[kept], initial=0.0)))
    room = 0.15 * max(highest - lowest, 1.0)
    axes.set_ylim(lowest - room, highest + room)
    for band in asked.passbands if asked is not None else ():
        axes.axvspan(
            band.start_hz / scale, band.stop_hz / scale, ymin=0.0, ymax=0.03, color=INK, alpha=0.6, linewidth=0
        )
    axes.set_xlim(0, rate / 2 / scale)
    axes.set_xlabel(unit, fontsize=8)
    axes.set_ylabel("samples", fontsize=8)
    return sheet


def _inside(hz: Array, asked: Requirement | None) -> NDArray[np.bool_]:
    bands = asked.passbands if asked is not None else ()
    if not bands:
        return np.ones(len(hz), dtype=bool)
    return np.asarray(np.any([(hz >= band.start_hz) & (hz <= band.stop_hz) for band in bands], axis=0), dtype=np.bool_)


def impulse(curves: Named) -> Figure:
    """The answers to an impulse."""
    sheet, (axes,) = _sheet(2.4)
    for (name, source), (color, dashes, width) in zip(curves, STYLES):
        answer = impulse_response(source, TIMES)
        axes.plot(
            np.arange(len(answer)),
            answer,
            marker=".",
            markersize=3,
            color=color,
            linestyle=dashes,
            linewidth=width * 0.6,
            label=name,
        )
    axes.set_xlabel("samples", fontsize=8)
    return sheet
