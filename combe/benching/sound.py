"""What went in and what came out as sound, as it is or slowed down: calls far above what ears hear come into their reach."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from combe.errors import FormatError
from combe.files import make_folder
from combe.placing import write_files

if TYPE_CHECKING:
    from combe.benching.run import Bench

Array = NDArray[np.float64]
MOST_SLOWER, MOST_RATE_HZ = 1000.0, 768_000
FASTEST_HZ, SLOWED_HZ, SLOWEST_HZ = 96_000.0, 32_000.0, 4000.0
"""Rates of sound end here; what is faster is slowed to the second at most, what is slower than the third played faster."""
STEPS = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000)
FADE_S = 0.004


def usual_slowness(rate_hz: float) -> float:
    """How many times slower a signal is played so that ears hear it: 1 at the rates of sound, more above, less below."""
    if rate_hz > FASTEST_HZ:
        return next(step for step in STEPS if rate_hz / step <= SLOWED_HZ or step == STEPS[-1])
    if rate_hz < SLOWEST_HZ:
        return 1 / next(step for step in STEPS if rate_hz * step >= 2 * SLOWEST_HZ or step == STEPS[-1])
    return 1.0


def slowness_words(slower: float) -> str:
    """For people: ``10 times slower``, nothing where time isn't changed."""
    if slower == 1:
        return ""
    return f"{slower:g} times slower" if slower > 1 else f"{1 / slower:g} times faster"


def resampled(values: Array, rate_hz: float, target_hz: float) -> Array:
    """The same sound at another rate, its spectrum cut at half of the lower one; both ends faded over ``FADE_S``.

    The whole stretch is one period of a trigonometric polynomial, which is evaluated at the new places (by two FFTs).
    """
    from scipy import fft

    if not len(values):
        return values
    fade = np.minimum(np.arange(len(values)) / max(FADE_S * rate_hz, 1.0), 1.0)
    faded = values * fade * fade[::-1]
    count = max(round(len(values) * target_hz / rate_hz), 1)
    return np.asarray(fft.irfft(fft.rfft(faded), count) * (count / len(values)), dtype=np.float64)


def write_sound(bench: Bench, folder: str | Path, slower: float = 1.0) -> list[Path]:
    """``input.wav`` and one file an output: 24 bits, full scale as the format's, played so many times slower.

    Of a signal that went through piece by piece it is the stretch that was kept.

    Raises
    ------
    FormatError
        If no sound file has the rate that comes of it.
    """
    import soundfile  # type: ignore[import-untyped]

    if not 1.0 <= slower <= MOST_SLOWER:
        raise FormatError(f"{slower:g} times slower is out of reach", "sound", f"take 1 to {MOST_SLOWER:g}")
    rate = round(bench.sample_rate_hz / slower)
    if not 1 <= rate <= MOST_RATE_HZ:
        what = f"{bench.sample_rate_hz:g} Hz, {slower:g} times slower, is no rate of a sound file"
        raise FormatError(what, "sound", f"1 to {MOST_RATE_HZ:,} Hz are")
    target = make_folder(folder)
    files = []
    outputs = [(heard.name, heard.values, heard.full) for heard in bench.through]
    for name, values, full in (("input", bench.input.values, bench.input.full), *outputs):
        held = io.BytesIO()
        # One step below full scale is the most that 24 bits hold.
        soundfile.write(held, np.clip(values / full, -1.0, 1 - 2.0**-23), rate, format="WAV", subtype="PCM_24")
        files.append((target / f"{_safe(name)}.wav", held.getvalue()))
    write_files(files)
    return [path for path, _ in files]


def _safe(name: str) -> str:
    """A file's name from a runner's."""
    return re.sub(r"[^A-Za-z0-9]+", "-", name).strip("-")[:60] or "output"
