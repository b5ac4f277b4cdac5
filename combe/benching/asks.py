"""What a bench must show, as sentences: limits on figures of the bit-true run, with their lines in the ledger."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from itertools import pairwise
from math import isfinite
from typing import TYPE_CHECKING

import numpy as np
from msgspec import Struct

from combe.errors import CombeError, FileError
from combe.files import read_text, shortened
from combe.ledger import Line
from combe.ledger.words import UNTOLD
from combe.requirement.quantities import duration_text, frequency_text, parse_duration, parse_frequency, short
from combe.requirement.rates import MOST_RATIO
from combe.signals.figures import density
from combe.values import replace

if TYPE_CHECKING:
    from combe.benching.heard import Heard
    from combe.benching.run import Bench

HEARD = "bit-true"
MOST_ASKS, MOST_MASK = 20, 1 << 16
EXAMPLES = (
    "signal to noise at least 80 dB", "62.5 kHz at most -55 dB", "delay at most 300 us", "saturated at most 0",
    "noise and distortion at least 60 dB", "spurious-free at least 70 dB", "distortion at most -60 dB", "effective bits at least 11",
    "error vector at most -40 dB", "spectrum from 40 kHz to 60 kHz at most -50 dB",
)  # fmt: skip
_LEVEL = r"([+−-]?(?:\d+\.?\d*|\.\d+))\s*dB"


class _Figure(Struct, frozen=True):
    """A figure that can be limited: its words, what its limit is called in the ledger, and where an output has it."""

    words: str
    limit: str
    reached: Callable[[Heard, float], float | None]


def _pure(name: str) -> Callable[[Heard, float], float | None]:
    return lambda heard, _: getattr(heard.purity, name) if heard.purity is not None else None


FIGURES = {
    # Where nothing differs there is no error to be seen.
    "snr": _Figure("signal to noise", "snr_db", lambda heard, _: heard.snr_db if heard.snr_db is not None else (400.0 if heard.rms_error == 0 else None)),
    "delay": _Figure("delay", "bench_delay_s", lambda heard, rate: heard.delay_samples / rate if heard.delay_samples is not None else None),
    "saturated": _Figure("saturated", "saturated", lambda heard, _: float(heard.saturated) if heard.saturated is not None else None),
    "sinad": _Figure("noise and distortion", "sinad_db", _pure("sinad_db")),
    "spurious_free": _Figure("spurious-free", "spurious_free_db", _pure("spurious_free_db")),
    "distortion": _Figure("distortion", "distortion_db", _pure("distortion_db")),
    "effective_bits": _Figure("effective bits", "effective_bits", _pure("effective_bits")),
    "error_vector": _Figure("error vector", "error_vector_db", lambda heard, _: heard.evm_db),
}  # fmt: skip
"""By the name an ``Ask`` has for it; ``tone``, which needs a frequency, isn't among them."""
_BY_WORDS = {figure.words: name for name, figure in FIGURES.items()} | {"SNR": "snr", "spurious free": "spurious_free"}


class Ask(Struct, frozen=True):
    """One limit. ``figure`` is ``tone``, with its frequency, ``spectrum``, from ``hz`` to ``until_hz`` with a level that goes from
    ``value`` to ``end`` along a straight line, or one of ``FIGURES``; ``side`` 1 for at most, -1 for at least."""

    figure: str
    side: int
    value: float
    hz: float = 0.0
    until_hz: float = 0.0
    end: float = 0.0

    @property
    def sentence(self) -> str:
        """As people write it."""
        side = "at most" if self.side > 0 else "at least"
        if self.figure == "tone":
            return f"{frequency_text(self.hz)} {side} {self.value:g} dB"
        if self.figure == "spectrum":
            level = f"{self.value:g}" if self.value == self.end else f"{self.value:g} to {self.end:g}"
            return f"spectrum from {frequency_text(self.hz)} to {frequency_text(self.until_hz)} {side} {level} dB"
        figure = FIGURES[self.figure]
        value = duration_text(self.value) if figure.limit.endswith("_s") else f"{self.value:g}"
        return f"{figure.words} {side} {value}{' dB' if figure.limit.endswith('_db') else ''}"


def altered(ask: Ask, **changes: float) -> Ask:
    """The same limit with another place or level."""
    return replace(ask, **changes)


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
        name = _BY_WORDS.get(what)
        if name is not None:
            limit = FIGURES[name].limit
            if limit.endswith("_s"):
                return Ask(name, side, parse_duration(value, rate))
            return Ask(name, side, _db(value) if limit.endswith("_db") else _number(value, name))
        if what.startswith("spectrum "):
            return _mask_from(what, side, value, rate)
        hz = parse_frequency(what, rate)
        if not 0 <= hz <= rate / 2:
            raise FileError(f"{hz:g} Hz can't be sampled at {rate:g} Hz", "bench.asks")
        return Ask("tone", side, _db(value), hz)
    except (CombeError, ValueError):
        raise _not_understood(words) from None


def _mask_from(what: str, side: int, value: str, rate: float) -> Ask:
    """A piece of a mask that the output's spectrum stays under."""
    band, level = re.fullmatch(r"spectrum from (.+) to (.+)", what), re.fullmatch(rf"(.+?)(?: dB)? to {_LEVEL}", value)
    if band is None or side < 0:
        raise ValueError
    start, stop = (parse_frequency(text, rate) for text in band.groups())
    if not 0 <= start < stop <= MOST_RATIO * rate:
        raise ValueError
    first, last = (_db(f"{level[1]} dB"), _db(f"{level[2]} dB")) if level is not None else (_db(value), _db(value))
    return Ask("spectrum", side, first, start, stop, last)


def _db(text: str) -> float:
    match = re.fullmatch(_LEVEL, text)
    if match is None:
        raise ValueError
    return float(match[1].replace("−", "-"))


def _number(text: str, name: str) -> float:
    """A count, or a number of bits."""
    value = float(int(text)) if name == "saturated" else float(text)
    if not 0 <= value < 1e15:
        raise ValueError
    return value


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
    if ask.figure == "spectrum":
        return _mask_line(ask, heard, rate)
    reached = _reached(ask, heard, rate) if heard is not None else None
    side = "max" if ask.side > 0 else "min"
    unit = "tone_db" if ask.figure == "tone" else FIGURES[ask.figure].limit
    name = frequency_text(ask.hz) if ask.figure == "tone" else ""
    if reached is None:
        return Line(name, -1, f"{side}_{unit}", ask.value, UNTOLD * ask.side, -UNTOLD, ask.hz or None)
    return Line(name, -1, f"{side}_{unit}", ask.value, reached, ask.side * (ask.value - reached), ask.hz or None)


def _mask_line(ask: Ask, heard: Heard | None, rate: float) -> Line:
    """The output's density against its highest one, where it comes nearest to the mask or leaves it furthest."""
    name = f"{frequency_text(ask.hz)} to {frequency_text(ask.until_hz)}"
    missing = Line(name, -1, "max_spectrum_db", ask.value, UNTOLD, -UNTOLD, ask.hz)
    if heard is None:
        return missing
    hz, power = heard.spectrum if heard.spectrum is not None else density(heard.values, heard.sample_rate_hz or rate)
    inside = (hz >= ask.hz) & (hz <= ask.until_hz)
    if not np.any(inside) or not np.any(power > 0):
        return missing
    level = 10 * np.log10(np.maximum(power[inside] / np.max(power), 1e-40))
    limit = ask.value + (ask.end - ask.value) * (hz[inside] - ask.hz) / (ask.until_hz - ask.hz)
    worst = int(np.argmin(limit - level))
    asked, reached, place = float(limit[worst]), float(level[worst]), float(hz[inside][worst])
    return Line(name, -1, "max_spectrum_db", asked, reached, asked - reached, place)


def mask_asks(text: str, rate: float) -> tuple[str, ...]:
    """The sentences of a mask: lines of a frequency in Hz and a level in dB below the highest density, straight between two
    of them; a frequency that stands there twice is a step. A first line of words is skipped, what follows a # too.

    Raises
    ------
    FileError
        If a line isn't two numbers, or frequencies fall, with its number.
    """
    points: list[tuple[float, float]] = []
    for number, line in enumerate(text.splitlines(), 1):
        words = re.split(r"[,;\s]+", line.split("#")[0].strip())
        if words == [""] or (not points and len(words) == 2 and not re.match(r"[-+.\d]", words[0])):
            continue
        try:
            hz, level = (float(word) for word in words)
        except ValueError:
            raise FileError(
                f"line {number} is not a frequency and a level", "--mask", "write lines like 40000, -50"
            ) from None
        if not (isfinite(hz) and isfinite(level)) or hz < (points[-1][0] if points else 0.0):
            raise FileError(f"line {number} goes back, or is out of reach", "--mask", "let frequencies in Hz rise")
        points.append((hz, level))
    pairs = [(one, other) for one, other in pairwise(points) if other[0] > one[0]]
    if not 1 <= len(pairs) <= MOST_ASKS:
        raise FileError(
            f"a mask of {len(pairs)} pieces can't be had", "--mask", f"give 2 points, up to {MOST_ASKS + 1}"
        )
    asks = [Ask("spectrum", 1, first[1], first[0], last[0], last[1]) for first, last in pairs]
    return tuple(ask_from(ask.sentence, rate).sentence for ask in asks)


def mask_from_file(path: str, rate: float) -> tuple[str, ...]:
    """The same of a file."""
    return mask_asks(read_text(path, MOST_MASK), rate)


def _reached(ask: Ask, heard: Heard, rate: float) -> float | None:
    if ask.figure != "tone":
        return FIGURES[ask.figure].reached(heard, rate)
    near = [tone for tone in heard.tones if abs(tone.hz - ask.hz) <= 1e-6 * rate]
    return near[0].gain_db if near else None


def told(line: Line) -> str:
    """A line of a bench in words, for those who read it without a table."""
    return f"{short(line.reached, 5)}, asked {short(line.asked, 5)}"
