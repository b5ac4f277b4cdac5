"""Limits, and how they are kept, in words: for rows of contenders, steps of the chain and the ledger."""

from __future__ import annotations

from combe.ledger import Line, worst_line
from combe.requirement.quantities import duration_text, level_text, short

NAMES = {
    "min_db": "not below", "max_db": "not above", "max_delay_s": "Delay", "max_delay_spread_s": "Delay spread",
    "max_multiplies": "Multiplies", "max_cycles": "Cycles a sample", "max_multipliers": "Multipliers",
    "min_snr_db": "Signal to noise", "max_snr_db": "Signal to noise", "min_tone_db": "tone", "max_tone_db": "tone", "max_bench_delay_s": "Delay on the bench",
    "min_bench_delay_s": "Delay on the bench", "max_saturated": "Saturated", "min_saturated": "Saturated",
    "min_sinad_db": "Noise and distortion", "max_sinad_db": "Noise and distortion", "min_spurious_free_db": "Spurious-free",
    "max_spurious_free_db": "Spurious-free", "min_distortion_db": "Distortion", "max_distortion_db": "Distortion",
    "min_effective_bits": "Effective bits", "max_effective_bits": "Effective bits", "min_error_vector_db": "Error vector",
    "max_error_vector_db": "Error vector", "max_spectrum_db": "spectrum",
}  # fmt: skip
LEAST_SHOWN_DB = 0.0005
"""Half a step of the last digit shown: a limit missed by less is told with digits enough to see it."""


def limit_name(line: Line) -> str:
    """What is limited, and in which band."""
    if line.band and line.band_index < 0 and line.limit == "max_db":
        return line.band
    return f"{line.band} {NAMES[line.limit]}" if line.band else NAMES[line.limit]


UNTOLD = 999.0
"""A figure of a bench that its signal can't tell, and with the other sign its margin: missed, and no number."""


def is_untold(line: Line) -> bool:
    """Whether a limit is missed for want of a figure."""
    return line.margin == -UNTOLD and abs(line.reached) == UNTOLD


def figure_text(line: Line, value: float) -> str:
    """A figure of a limit with its unit."""
    if value == line.reached and is_untold(line):
        return "can't be told"
    if line.unit == "db":
        return level_text(value, 3 if abs(line.asked) < 10 else 2) if value != line.asked else f"{short(value, 6)} dB"
    return duration_text(value) if line.unit == "s" else short(value, 6)


def signed_margin(db: float) -> str:
    """A margin with its sign, never as a zero that is missed; nothing where none can be told."""
    if db == -UNTOLD:
        return ""
    return f"+{db:.3f}" if db >= 0 else f"−{_amount(-db)}"


def margin_words(lines: tuple[Line, ...]) -> str:
    """How the worst limit stands: ``0.021 dB spare``, ``missed by 1.18 dB``, ``delay missed by 0.4 ms``."""
    worst = worst_line(lines)
    untold = next((line for line in lines if is_untold(line)), None)
    if untold is not None:
        return f"{limit_name(untold)}: can't be told"
    if worst is not None and worst.margin < 0:
        return f"missed by {_amount(-worst.margin)} dB"
    missed = next((line for line in lines if line.margin < 0), None)
    if missed is not None:
        name = limit_name(missed)
        return f"{name[:1].lower()}{name[1:]} missed by {figure_text(missed, -missed.margin)}"
    return f"{level_text(worst.margin, 3)} spare" if worst is not None else ""


def tightest(lines: tuple[Line, ...]) -> str:
    """The limit that stands worst, and by how much: ``wind not above: 0.021 dB spare``."""
    worst = worst_line(lines)
    missed = next((line for line in lines if line.margin < 0), None)
    named = worst if worst is not None and (worst.margin < 0 or missed is None) else missed
    return f"{limit_name(named)}: {margin_words(lines)}" if named is not None else ""


def _amount(db: float) -> str:
    return short(db, 1) if db < LEAST_SHOWN_DB else f"{db:.3f}"
