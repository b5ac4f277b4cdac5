"""What a bench writes: its figures, the traces and the spectra."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from combe.benching.run import Bench
from combe.files import json_text, make_folder
from combe.placing import write_files
from combe.signals.figures import density

FILES = ("bench.json", "traces.csv", "spectrum.csv")


def write_bench(bench: Bench, folder: str | Path) -> list[Path]:
    """``bench.json``, ``traces.csv`` and ``spectrum.csv`` in a folder, all of them or none."""
    target = make_folder(folder)
    texts = (json_text(bench.document()), traces_text(bench), spectrum_text(bench))
    placed = [(target / name, text.encode("utf-8")) for name, text in zip(FILES, texts)]
    write_files(placed)
    return [path for path, _ in placed]


def traces_text(bench: Bench) -> str:
    """``time_s,input,`` and a column for each output: real values, not shifted by the delay."""
    columns = [np.arange(bench.samples) / bench.sample_rate_hz, bench.input.values]
    columns += [heard.values for heard in bench.through]
    head = ",".join(("time_s", "input", *(heard.name for heard in bench.through)))
    rows = "\n".join(",".join(map(repr, row)) for row in np.column_stack(columns).tolist())
    return f"{head}\n{rows}\n"


def spectrum_text(bench: Bench) -> str:
    """``hz``, then the density of each in dB of full scale per Hz: averaged periodograms, Hann window, one-sided."""
    names = ["input", *(heard.name for heard in bench.through)]
    every = [(bench.input.values, bench.input.full), *((heard.values, heard.full) for heard in bench.through)]
    columns = []
    for values, full in every:
        hz, power = density(values, bench.sample_rate_hz)
        columns.append(np.maximum(10 * np.log10(np.maximum(2 * power / full**2, 1e-40)), -400.0))
    rows = "\n".join(",".join(map(repr, row)) for row in np.column_stack([hz, *columns]).tolist())
    return f"{','.join(('hz', *names))}\n{rows}\n"
