"""What several tests need: requirements in a line, and an evaluator that shares no code with Combe."""

from __future__ import annotations

import math
import os
import unittest
from collections.abc import Sequence
from typing import Any, TypeVar
from unittest import mock

import numpy as np

from combe.designing.methods import METHODS
from combe.project.document import Project
from combe.project.file import project_document
from combe.requirement import Requirement, requirement_from

T = TypeVar("T")
IS_CAMPAIGN = bool(os.environ.get("COMBE_CAMPAIGN"))
"""Set by ``make proof``: every case is gone through, not only those that ``some`` leaves for every day."""

in_campaign = unittest.skipUnless(IS_CAMPAIGN, "in a campaign")
"""A decorator for what takes seconds, and whose every part has a quicker test of its own that runs every day."""


def some(cases: Sequence[T], count: int) -> Sequence[T]:
    """So many of the cases, spread evenly from the first to the last; all of them in a campaign."""
    if IS_CAMPAIGN or count >= len(cases):
        return cases
    return [cases[round(k * (len(cases) - 1) / max(count - 1, 1))] for k in range(count)]


def examples(count: int) -> int:
    """So many of a property's examples in a campaign, a quarter of them on every other day."""
    return count if IS_CAMPAIGN else (count + 3) // 4


def few_methods() -> Any:
    """A decorator: some methods of each kind race and not all, for tests of what is made of a race. All in a campaign."""
    names = ("equiripple", "elliptic", "chebyshev", "butterworth", "kaiser", "hann-window", "half-band")
    fewer = METHODS if IS_CAMPAIGN else tuple(method for method in METHODS if method.name in names)
    return mock.patch("combe.designing.contenders.METHODS", fewer)


def fewer_vectors() -> None:
    """For ``setUpModule``: circuits are simulated with a quarter of the samples that users get, but in a campaign."""
    if IS_CAMPAIGN:
        return
    for name, value in (
        ("MOST_CLOCKS", {"verilog": 15_000, "vhdl": 10_000}),
        ("LEAST_SAMPLES", 100),  # its first half holds the 41 over which clocks are measured
        ("MOST_SAMPLES", 600),
    ):
        patched = mock.patch(f"combe.delivery.hdl.vectors.{name}", value)
        patched.start()
        unittest.addModuleCleanup(patched.stop)


def document(rate: float, *bands: tuple[Any, ...], **more: Any) -> dict[str, Any]:
    """A requirement document; a band is (start, stop, max_db) or (start, stop, min_db, max_db)."""
    entries = []
    for index, band in enumerate(bands):
        entry: dict[str, Any] = {"name": f"b{index}", "start_hz": band[0], "stop_hz": band[1], "max_db": band[-1]}
        if len(band) == 4:
            entry["min_db"] = band[2]
        entries.append(entry)
    head = {"format": "combe-requirement", "version": 1, "name": "test", "sample_rate_hz": rate}
    return head | {"bands": entries} | more


def asked(rate: float, *bands: tuple[Any, ...], **more: Any) -> Requirement:
    """The same as a value."""
    return requirement_from(document(rate, *bands, **more))


LOWPASS = asked(2, (0, 0.3, -0.1, 0.1), (0.4, 1, -60))
BAT = asked(250_000, (0, 12_000, -60), (18_000, 110_000, -0.1, 0.1), (118_000, 125_000, -60))


def plain_gain_db(taps: Any, frequencies: Any) -> np.ndarray:
    """|H| in dB by the defining sum at frequencies in cycles per sample, turns taken modulo one in extended precision."""
    h = np.asarray(taps, dtype=np.float64)
    f = np.atleast_1d(np.asarray(frequencies, dtype=np.longdouble))
    gains = np.empty(len(f))
    rows = max(1, 200_000 // len(h))
    for start in range(0, len(f), rows):
        turns = np.outer(f[start : start + rows], np.arange(len(h), dtype=np.longdouble)) % 1
        angle = 2 * math.pi * np.asarray(turns, dtype=np.float64)
        gains[start : start + rows] = np.hypot(np.cos(angle) @ h, np.sin(angle) @ h)
    return 20 * np.log10(np.maximum(gains, 1e-20))


def worst_margin_db(taps: Any, requirement: Requirement, density: int = 24) -> float:
    """The least margin over a fine grid of every band, flat limits only, by a zero-padded FFT and the band edges."""
    size = 1 << math.ceil(math.log2(density * len(taps) + 1024))
    grid = np.fft.rfftfreq(size)
    level = 20 * np.log10(np.maximum(np.abs(np.fft.rfft(taps, size)), 1e-20))
    worst = math.inf
    for band in requirement.bands:
        low, high = band.start_hz / requirement.sample_rate_hz, band.stop_hz / requirement.sample_rate_hz
        values = np.concatenate([level[(grid >= low) & (grid <= high)], plain_gain_db(taps, [low, high])])
        worst = min(worst, band.upper.first_db - float(values.max()))
        if band.lower is not None:
            worst = min(worst, float(values.min()) - band.lower.first_db)
    return worst


def plain_section_gain_db(sections: Any, gain: float, frequencies: Any) -> np.ndarray:
    """|H| in dB of second-order sections in extended precision, each evaluated about its own frequency."""
    f = np.asarray(frequencies, dtype=np.longdouble)
    z = np.exp(-2j * np.pi * f.astype(np.clongdouble))
    two_pi = 2 * np.longdouble("3.14159265358979323846264338327950288")
    z = np.cos(two_pi * f) - 1j * np.sin(two_pi * f)
    level = np.full(f.shape, 20 * np.log10(np.abs(np.longdouble(gain))))
    for section in sections:
        b0, b1, b2, a1, a2 = (np.longdouble(value) for value in section)
        top, bottom = np.abs(b0 + b1 * z + b2 * z * z), np.abs(1 + a1 * z + a2 * z * z)
        level = level + 20 * np.log10(np.maximum(top, np.longdouble(1e-300))) - 20 * np.log10(bottom)
    return np.asarray(level, dtype=np.float64)


def plain_gain(source: Any, frequencies: Any) -> np.ndarray:
    """The same of any filter with taps or sections."""
    if hasattr(source, "taps"):
        return plain_gain_db(source.taps, frequencies)
    return plain_section_gain_db(source.sections, source.gain, frequencies)


def least_margin_db(source: Any, requirement: Requirement, points: int = 400) -> float:
    """The least margin over a grid of every band, crowded at its edges; sloped limits are followed."""
    worst = math.inf
    for band in requirement.bands:
        spread = (1 - np.cos(np.linspace(0, np.pi, points))) / 2
        hz = band.start_hz + (band.stop_hz - band.start_hz) * spread
        level = plain_gain(source, hz / requirement.sample_rate_hz)
        upper = np.interp(hz, *np.array(band.upper.points).T)
        worst = min(worst, float(np.min(upper - level)))
        if band.lower is not None:
            worst = min(worst, float(np.min(level - np.interp(hz, *np.array(band.lower.points).T))))
    return worst


def first_version(project: Project) -> dict[str, Any]:
    """The document of a project as files of version 1 have it: a single filter, its keys beside the project's."""
    document = project_document(project)
    return {"format": "combe-project", "version": 1, "name": project.name} | document["filters"][0]


def both_versions(project: Project, key: str, value: object) -> tuple[tuple[dict[str, Any], str], ...]:
    """A project of one filter with a key of that filter changed, in files of both versions, and what stands before its keys."""
    document = project_document(project)
    changed = document | {"filters": [document["filters"][0] | {key: value}]}
    return (first_version(project) | {key: value}, ""), (changed, "filters[0].")


def application_for(case: unittest.TestCase) -> Any:
    """The one application of this process, for a test of a part of the window among tests of the core; skipped without Qt."""
    try:
        from PyQt6.QtWidgets import QApplication
    except ImportError as error:  # pragma: no cover - depends on the machine
        case.skipTest(f"Qt is missing here: {error}")
    return QApplication.instance() or QApplication(["combe"])
