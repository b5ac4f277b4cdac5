"""Measured goodness: the figures of merit of several filters side by side, with or without a requirement."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from combe.files import cell as plain
from combe.filters import Filter
from combe.ledger.cost import cost_of
from combe.ledger.delay import delay_over_passbands
from combe.requirement.quantities import frequency_text, short
from combe.responses.measures import measures


class Table(Struct, frozen=True):
    """Rows of words: a name for each figure, then one cell for each filter."""

    names: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    corner: str = ""
    """What the first column is called."""

    def text(self) -> str:
        """Columns lined up by blanks."""
        every = [(self.corner, *self.names), *self.rows]
        widths = [max(len(row[k]) for row in every) for k in range(len(every[0]))]
        return "\n".join("  ".join(cell.ljust(width) for cell, width in zip(row, widths)).rstrip() for row in every)

    def csv(self) -> str:
        """Comma-separated, every cell in quotes."""
        every = [(self.corner, *self.names), *self.rows]
        return "\n".join(",".join('"' + plain(cell).replace('"', '""') + '"' for cell in row) for row in every)

    def markdown(self) -> str:
        """A Markdown table."""
        every = [(self.corner, *self.names), *self.rows]
        lines = ["| " + " | ".join(cell.replace("|", "\\|") for cell in row) + " |" for row in every]
        return "\n".join([lines[0], "|" + " --- |" * len(every[0]), *lines[1:]])


MOST_BANDS = 24


def goodness(source: Filter, sample_rate_hz: float) -> dict[str, Any]:
    """All figures of one filter: those of ``measures``, and transitions, delay over the passbands found, and cost."""
    found = measures(source, sample_rate_hz)
    bands = found["bands"]
    passes = [(band["start_hz"], band["stop_hz"]) for band in bands if band["kind"] == "passband"]
    found["transitions"] = [
        {"start_hz": left["stop_hz"], "stop_hz": right["start_hz"], "width_hz": right["start_hz"] - left["stop_hz"]}
        for left, right in zip(bands, bands[1:]) if left["kind"] != right["kind"]
    ]  # fmt: skip
    # Noise among the taps makes thousands of bands; their delay is that of the whole axis.
    span = delay_over_passbands(source, passes if len(passes) <= MOST_BANDS else [], sample_rate_hz)
    found["delay_samples"] = {"mean": span.mean, "least": span.least, "most": span.most}
    cost = cost_of(source)
    found["cost"] = cost.document()
    return found


def table_of(filters: list[tuple[str, Filter]], sample_rate_hz: float) -> Table:
    """The figures of several filters side by side."""
    columns = [_column(goodness(source, sample_rate_hz), sample_rate_hz) for _, source in filters]
    keys: list[str] = []
    for column in columns:
        keys += [key for key in column if key not in keys]
    rows = tuple((key, *(column.get(key, "–") for column in columns)) for key in sorted(keys, key=_place))
    return Table(tuple(name for name, _ in filters), rows)


ORDER = ("passband", "ripple", "stopband", "attenuation", "transition", "−3 dB", "−6 dB", "gain at 0", "peak", "delay",
         "delay spread", "noise bandwidth", "settling", "overshoot", "multiplies", "memory", "stable")  # fmt: skip


def _place(key: str) -> tuple[int, int]:
    """Figures in the order in which they are read, the bands numbered."""
    if key in ORDER:
        return ORDER.index(key), 0
    base = key.rstrip(" 0123456789")
    number = key.rsplit(" ", 1)[-1]
    return ORDER.index(base) if base in ORDER else len(ORDER), int(number) if number.isdigit() else 0


def _column(found: dict[str, Any], rate: float) -> dict[str, str]:
    def hz(value: float) -> str:
        return frequency_text(float(f"{value:.5g}"), rate)

    words: dict[str, str] = {}
    for kind, figure, key in (("passband", "ripple", "ripple_db"), ("stopband", "attenuation", "attenuation_db")):
        bands = [band for band in found["bands"] if band["kind"] == kind]
        for number, band in enumerate(bands, 1):
            tail = f" {number}" if len(bands) > 1 else ""
            words[f"{kind}{tail}"] = f"{hz(band['start_hz'])} to {hz(band['stop_hz'])}"
            words[f"{figure}{tail}"] = f"{short(round(band[key], 6), 4)} dB"
    for number, entry in enumerate(found["transitions"], 1):
        words[f"transition {number}" if len(found["transitions"]) > 1 else "transition"] = hz(abs(entry["width_hz"]))
    for name, key in (("−3 dB", "edges_3db_hz"), ("−6 dB", "edges_6db_hz")):
        words[name] = ", ".join(hz(value) for value in found[key][:6]) or "nowhere"
    words["gain at 0"] = f"{short(found['dc_gain_db'], 4)} dB"
    words["peak"] = f"{short(found['peak_gain_db'], 4)} dB at {hz(found['peak_hz'])}"
    delay = found["delay_samples"]
    words["delay"] = f"{short(delay['mean'], 5)} samples"
    words["delay spread"] = f"{short(delay['most'] - delay['least'], 4)} samples"
    if "noise_bandwidth_hz" in found:
        words["noise bandwidth"] = hz(found["noise_bandwidth_hz"])
        words["settling"] = f"{found['settling_samples']} samples"
        overshoot = found["overshoot_percent"]
        words["overshoot"] = "–" if overshoot is None else f"{short(overshoot, 4)} %"
    words["multiplies"] = str(found["cost"]["multiplies"])
    words["memory"] = f"{found['cost']['delays']} words"
    words["stable"] = "yes" if found["stable"] else "NO"
    return words
