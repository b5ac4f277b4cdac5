"""What a bench writes: its figures, the traces and the spectra."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from combe.benching.heard import Heard, Input
from combe.files import json_text, make_folder
from combe.placing import write_files
from combe.signals.figures import density

if TYPE_CHECKING:
    from combe.benching.run import Bench

Array = NDArray[np.float64]
FILES = ("traces.csv", "spectrum.csv", "bench.json")
ROWS = 1 << 14


def write_bench(bench: Bench, folder: str | Path) -> list[Path]:
    """``bench.json``, ``traces.csv`` and ``spectrum.csv`` in a folder, all of them or none."""
    names = ("input", *(heard.name for heard in bench.through))
    columns = [bench.input.values, *(heard.values for heard in bench.through)]
    if any(heard.sample_rate_hz for heard in bench.through):
        return _write_of_two_rates(bench, names, columns, folder)
    return write_while_running(names, [columns], lambda: bench, bench.sample_rate_hz, folder)


def write_while_running(
    names: Sequence[str], traces: Iterable[Sequence[Array]], bench: Callable[[], Bench], rate: float, folder: str | Path
) -> list[Path]:
    """The same of a bench whose traces come piece by piece; ``bench`` gives its figures once all of them have come."""
    target = make_folder(folder)
    contents = (
        _traces(names, traces, rate),
        (spectrum_text(made()).encode("utf-8") for made in (bench,)),
        (json_text(made().document()).encode("utf-8") for made in (bench,)),
    )
    placed = [(target / name, content) for name, content in zip(FILES, contents)]
    write_files(placed)
    return [path for path, _ in placed]


def _traces(names: Sequence[str], traces: Iterable[Sequence[Array]], rate: float) -> Iterator[bytes]:
    """``time_s,input,`` and a column for each output: real values, not shifted by the delay."""
    yield (",".join(("time_s", *names)) + "\n").encode("utf-8")
    first = 0
    for columns in traces:
        for at in range(0, len(columns[0]), ROWS):
            parts = [column[at : at + ROWS] for column in columns]
            time = np.arange(first, first + len(parts[0])) / rate
            yield _rows([time, *parts]).encode("utf-8")
            first += len(time)


def _write_of_two_rates(
    bench: Bench, names: Sequence[str], columns: Sequence[Array], folder: str | Path
) -> list[Path]:  # fmt: skip
    """The same where outputs come at another rate: a row for each moment at which there is a sample, the others left empty."""
    target = make_folder(folder)
    rates = [bench.sample_rate_hz, *(heard.sample_rate_hz or bench.sample_rate_hz for heard in bench.through)]
    moments: dict[float, list[str]] = {}
    for place, (column, rate) in enumerate(zip(columns, rates)):
        for n, value in enumerate(column.tolist()):
            row = moments.setdefault(round(n / rate * bench.sample_rate_hz, 9), [""] * len(columns))
            row[place] = repr(value)
    rows = (f"{at / bench.sample_rate_hz!r},{','.join(row)}\n" for at, row in sorted(moments.items()))
    contents = (
        iter([(",".join(("time_s", *names)) + "\n").encode("utf-8"), *(row.encode("utf-8") for row in rows)]),
        iter([spectrum_text(bench).encode("utf-8")]), iter([json_text(bench.document()).encode("utf-8")]),
    )  # fmt: skip
    placed = [(target / name, content) for name, content in zip(FILES, contents)]
    write_files(placed)
    return [path for path, _ in placed]


def _rows(columns: Sequence[Array]) -> str:
    rows = "\n".join(",".join(map(repr, row)) for row in np.column_stack(columns).tolist())
    return f"{rows}\n" if rows else ""


def spectrum_text(bench: Bench) -> str:
    """``hz``, then the density of each in dB of full scale per Hz: averaged periodograms, Hann window, one-sided."""
    names = ["input", *(heard.name for heard in bench.through)]
    every: tuple[Input | Heard, ...] = (bench.input, *bench.through)
    rates = [bench.sample_rate_hz, *(heard.sample_rate_hz or bench.sample_rate_hz for heard in bench.through)]
    fastest = rates.index(max(rates))
    found = [each.spectrum or density(each.values, rate) for each, rate in zip(every, rates)]
    columns = [found[fastest][0]]
    for each, (hz, power) in zip(every, found):
        if rates[fastest] != 2 * hz[-1]:
            # At a lower rate: on the same frequencies, nothing above half of it.
            power = np.interp(columns[0], hz, power, right=0.0)
        columns.append(np.maximum(10 * np.log10(np.maximum(2 * power / each.full**2, 1e-40)), -400.0))
    return f"{','.join(('hz', *names))}\n{_rows(columns)}"
