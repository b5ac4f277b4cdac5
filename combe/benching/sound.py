"""What went in and what came out as sound, as it is or slowed down: calls far above what ears hear come into their reach."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from combe.errors import FormatError
from combe.files import make_folder
from combe.placing import write_files

if TYPE_CHECKING:
    from combe.benching.run import Bench

MOST_SLOWER, MOST_RATE_HZ = 1000.0, 768_000


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
