"""The bench's figures: a row for the input and every output, what each means, and the ways to copy them."""

from __future__ import annotations

import html
from typing import TYPE_CHECKING

from combe.app.shown import PIN_ROLES
from combe.app.theme.palette import THEME
from combe.benching.nodes import told
from combe.ledger.goodness import Table
from combe.requirement.quantities import duration_text, frequency_text, level_text, short

if TYPE_CHECKING:
    from combe.benching.heard import Heard, Tone
    from combe.benching.run import Bench
    from combe.signals.purity import Purity

LOOKS = {
    "input": ("muted", 1.0, False), "ideal": ("river", 1.6, False), "rounded": ("ochre", 1.4, True), "bit-true": ("heather", 1.4, False),
    "code": ("moss", 1.2, True), "core": ("moss", 1.2, False), "circuit": ("clay", 1.2, True),
}  # fmt: skip
OTHER = ("amber", 1.2, False)
SHOWN_DB = 5e-4
MEANINGS = {
    "level": "rms, in dB of a sine of full scale",
    "peak": "the largest magnitude",
    "error rms": "of the difference from the exact filter, all samples",
    "signal to error": "power of the exact filter's output to that of the difference from it",
    "sinad": "power of the tones to that of everything else but a constant: noise and distortion",
    "distortion": "power of the second to tenth harmonic to that of a single tone, wherever sampling folds them",
    "spurious-free": "the largest tone to the largest other line",
    "bits": "effective bits: what a converter of so many bits leaves beside a tone of full scale, (sinad − level − 1.76 dB)/6.02 dB",
    "delay": "in samples of the input and in seconds, by correlation; empty where the signal can't tell it",
    "tones": "of the input: level; of an output: gain and phase against the input, and how far noise may throw the gain off",
}
HEAD = ("", *MEANINGS, "")


def look_of(name: str) -> tuple[str, float, bool]:
    """Role, width and dashes of a curve by its name."""
    if name.startswith("pin "):
        return PIN_ROLES[(int(name.split(":")[0].removeprefix("pin ")) - 1) % len(PIN_ROLES)], 1.2, True
    return LOOKS.get(name, OTHER)


def rows_of(bench: Bench) -> list[tuple[str, ...]]:
    """A row of figures for the input and every output."""
    given = bench.input.document()
    clipped = f"{bench.clipped} clipped" if bench.clipped else ""
    tones = ", ".join(f"{frequency_text(t['hz'])} at {level_text(t['dbfs'])}" for t in given["tones"])
    pure = _pure(bench.input.purity)
    rows = [("input", level_text(given["rms_dbfs"]), short(given["peak"], 4), "", "", *pure, "", tones, clipped)]
    return rows + [_row(heard, bench.sample_rate_hz) for heard in bench.through]


def _pure(purity: Purity | None) -> tuple[str, str, str, str]:
    if purity is None:
        return "", "", "", ""
    distortion = "" if purity.distortion_db is None else _db(purity.distortion_db)
    return _db(purity.sinad_db), distortion, _db(purity.spurious_free_db), f"{purity.effective_bits:.1f}"


def _db(value: float) -> str:
    return f"{value:.1f} dB".replace("-", "−")


def _tone(tone: Tone) -> str:
    """Gain and phase, with how far noise may have thrown the gain off where that shows."""
    sure = f" ±{tone.error_db:.1g}" if tone.error_db is not None and tone.error_db > SHOWN_DB else ""
    return f"{tone.gain_db:+.3f}{sure} dB {tone.phase_deg:+.1f}°"


def _row(heard: Heard, rate_hz: float) -> tuple[str, ...]:
    row = heard.document()
    tones = ", ".join(_tone(tone) for tone in heard.tones)
    remarks = []
    if heard.identical is not None:
        remarks.append("identical" if heard.identical else "DIFFERS")
    if heard.saturated:
        remarks.append(f"{heard.saturated} saturated, from sample {heard.first_saturated or 0:,} on")
    if heard.evm_db is not None:
        remarks.append(f"error vector {_db(heard.evm_db)}")
    is_exact = heard.name == "ideal"
    return (
        heard.name, level_text(row["rms_dbfs"]), short(row["peak"], 4), "" if is_exact else f"{heard.rms_error:.3g}",
        "" if heard.snr_db is None else _db(heard.snr_db), *_pure(heard.purity),
        _delay(heard, rate_hz), tones.replace("-", "−"), ", ".join(remarks),
    )  # fmt: skip


def _delay(heard: Heard, rate_hz: float) -> str:
    """In samples of the input and in seconds."""
    late = heard.delay_samples
    return "" if late is None else f"{late:.2f} = {duration_text(float(f'{late / rate_hz:.4g}'))}".replace("-", "−")


def _without_empty(rows: list[tuple[str, ...]]) -> tuple[tuple[str, ...], list[tuple[str, ...]]]:
    """Heads and rows without the columns in which nothing stands."""
    used = [k for k in range(len(HEAD)) if k == 0 or any(row[k] for row in rows)]
    return tuple(HEAD[k] for k in used), [tuple(row[k] for k in used) for row in rows]


def figures_text(bench: Bench, form: str = "text") -> str:
    """The figures as ``text`` (tabs between them), ``csv`` or ``markdown``; nodes below."""
    nodes = [
        (node.name, str(node.least), str(node.most), f"{node.share:.4f}", str(node.overflows)) for node in bench.nodes
    ]
    names = ("least", "most", "share of its range", "left its range")
    rows = rows_of(bench)
    if form == "text":
        every = (HEAD, *rows, *((("node", *names), *nodes) if nodes else ()))
        return "\n".join("\t".join(row) for row in every) + "\n"
    heads = (*HEAD[:-1], "remarks")
    tables = [Table(heads[1:], tuple(rows)), *([Table(names, tuple(nodes), "node")] if nodes else [])]
    return "\n\n".join(table.csv() if form == "csv" else table.markdown() for table in tables) + "\n"


def figures_html(bench: Bench) -> str:
    """The figures as a small table."""
    muted = THEME.colors.muted
    heads, rows = _without_empty(rows_of(bench))
    head = "".join(f'<td style="color:{muted};padding-right:12px">{cell}</td>' for cell in heads)
    body = ""
    for row in rows:
        color = THEME.colors.clay if "DIFFERS" in row[-1] else THEME.color(look_of(row[0])[0]).name()
        cells = "".join(f'<td style="padding-right:12px">{cell}</td>' for cell in row[1:])
        body += f'<tr><td style="color:{color};padding-right:12px"><b>{row[0]}</b></td>{cells}</tr>'
    inside = (
        f'<div style="color:{muted};font-size:11px">inside: {html.escape(told(bench.nodes))}</div>'
        if bench.nodes
        else ""
    )
    return f'<table style="font-size:11px"><tr>{head}</tr>{body}</table>{inside}'


def meanings_html() -> str:
    """What each figure is, for a tip."""
    rows = "".join(f"<tr><td><b>{name}</b>&nbsp;</td><td>{words}</td></tr>" for name, words in MEANINGS.items())
    return f"<table width=460>{rows}</table>"
