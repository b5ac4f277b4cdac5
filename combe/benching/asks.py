"""What a bench must show, as sentences: limits on figures of the bit-true run, with their lines in the ledger."""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec import Struct

from combe.benching.heard import Heard
from combe.benching.run import Bench
from combe.errors import CombeError, FileError
from combe.files import shortened
from combe.ledger import Line
from combe.ledger.words import UNTOLD
from combe.requirement.quantities import duration_text, frequency_text, parse_duration, parse_frequency, short

HEARD = "bit-true"
MOST_ASKS = 20
EXAMPLES = ("signal to noise at least 80 dB", "62.5 kHz at most -55 dB", "delay at most 300 us", "saturated at most 0")
_LEVEL = r"([+−-]?(?:\d+\.?\d*|\.\d+))\s*dB"


class Ask(Struct, frozen=True):
    """One limit. ``figure`` is ``snr``, ``tone``, ``delay`` or ``saturated``; ``side`` 1 for at most, -1 for at least."""

    figure: str
    side: int
    value: float
    hz: float = 0.0

    @property
    def sentence(self) -> str:
        """As people write it."""
        side = "at most" if self.side > 0 else "at least"
        if self.figure == "snr":
            return f"signal to noise {side} {self.value:g} dB"
        if self.figure == "tone":
            return f"{frequency_text(self.hz)} {side} {self.value:g} dB"
        return (
            f"delay {side} {duration_text(self.value)}"
            if self.figure == "delay"
            else f"saturated {side} {self.value:g}"
        )


def ask_from(text: str, rate: float) -> Ask:
    """The limit a sentence states.

    Raises
    ------
    FileError
        If it states none, with how one is written.
    """
    words = " ".join(text.split())
    match = re.fullmatch(r"(.+?) at (most|least) (.+)", words)
    if match is None:
        raise _not_understood(words)
    what, side, value = match[1], 1 if match[2] == "most" else -1, match[3]
    try:
        if what in ("signal to noise", "SNR"):
            return Ask("snr", side, _db(value))
        if what == "delay":
            return Ask("delay", side, parse_duration(value, rate))
        if what == "saturated":
            return Ask("saturated", side, float(int(value)))
        hz = parse_frequency(what, rate)
        if not 0 <= hz <= rate / 2:
            raise FileError(f"{hz:g} Hz can't be sampled at {rate:g} Hz", "bench.asks")
        return Ask("tone", side, _db(value), hz)
    except (CombeError, ValueError):
        raise _not_understood(words) from None


def _db(text: str) -> float:
    match = re.fullmatch(_LEVEL, text)
    if match is None:
        raise ValueError
    return float(match[1].replace("−", "-"))


def _not_understood(words: str) -> FileError:
    return FileError(
        f'"{shortened(words)}" is no limit on a figure of the bench',
        "bench.asks",
        f'write one like "{EXAMPLES[0]}" or "{EXAMPLES[1]}"',
    )


def ask_lines(bench: Bench, asks: Sequence[str]) -> tuple[Line, ...]:
    """A line for each limit, as the bit-true run stands to it; what the signal can't tell is missed altogether."""
    heard = next((each for each in bench.through if each.name == HEARD), None)
    return tuple(_line(ask_from(text, bench.sample_rate_hz), heard, bench.sample_rate_hz) for text in asks)


def _line(ask: Ask, heard: Heard | None, rate: float) -> Line:
    reached = _reached(ask, heard, rate) if heard is not None else None
    side = "max" if ask.side > 0 else "min"
    unit = {"snr": "snr_db", "tone": "tone_db", "delay": "bench_delay_s", "saturated": "saturated"}[ask.figure]
    name = frequency_text(ask.hz) if ask.figure == "tone" else ""
    if reached is None:
        return Line(name, -1, f"{side}_{unit}", ask.value, UNTOLD * ask.side, -UNTOLD, ask.hz or None)
    return Line(name, -1, f"{side}_{unit}", ask.value, reached, ask.side * (ask.value - reached), ask.hz or None)


def _reached(ask: Ask, heard: Heard, rate: float) -> float | None:
    if ask.figure == "snr":
        # Where nothing differs there is no error to be seen.
        return heard.snr_db if heard.snr_db is not None else (400.0 if heard.rms_error == 0 else None)
    if ask.figure == "delay":
        return heard.delay_samples / rate if heard.delay_samples is not None else None
    if ask.figure == "saturated":
        return float(heard.saturated) if heard.saturated is not None else None
    near = [tone for tone in heard.tones if abs(tone.hz - ask.hz) <= 1e-6 * rate]
    return near[0].gain_db if near else None


def told(line: Line) -> str:
    """A line of a bench in words, for those who read it without a table."""
    return f"{short(line.reached, 5)}, asked {short(line.asked, 5)}"
