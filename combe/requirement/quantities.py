"""Figures as engineers type and read them: ``12k``, ``0.25fs``, ``60 dB``, ``0.1 %``, ``400 us``."""

from __future__ import annotations

import math
import re

from combe.errors import RequirementError

PREFIXES = {"": 1.0, "k": 1e3, "K": 1e3, "M": 1e6, "G": 1e9, "m": 1e-3}
NUMBER = r"([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)"


def parse_frequency(text: str, sample_rate_hz: float) -> float:
    """A frequency in Hz from ``12k``, ``12 kHz``, ``0.25fs`` (of the sample rate) or ``0.5fn`` (of half of it).

    Raises
    ------
    RequirementError
        With a sentence that says what is understood.
    """
    word = _plain(text)
    match = re.fullmatch(NUMBER + r"(?:fs|Fs|FS)", word)
    if match:
        return float(match[1]) * sample_rate_hz
    match = re.fullmatch(NUMBER + r"(?:fn|Fn|FN)", word)
    if match:
        return float(match[1]) * sample_rate_hz / 2
    match = re.fullmatch(NUMBER + r"([kKMGm]?)(?:[hH][zZ])?", word)
    if match is None:
        raise RequirementError(f'"{text.strip()}" is not a frequency', instead="type one like 12k, 12 kHz or 0.25fs")
    return _finite(float(match[1]) * PREFIXES[match[2]], text)


def parse_sample_rate(text: str) -> float:
    """A sample rate in Hz: ``48k``, ``250 kHz``, ``250 kS/s``; 1 or 2 for normalized frequencies."""
    word = re.sub(r"[sS](?:/s|ps|PS)$", "", _plain(text))
    rate = parse_frequency(word, math.nan) if not re.search("f[sn]$", word) else math.nan
    if not rate > 0:
        raise RequirementError(f'"{text.strip()}" is not a sample rate', instead="type one like 48k or 250 kHz")
    return rate


def parse_attenuation(text: str) -> float:
    """A stopband limit in dB (zero or below) from ``60``, ``-60``, ``60 dB down`` or ``0.1 %`` of full gain."""
    word = re.sub(r"(down|below)$", "", _plain(text))
    match = re.fullmatch(NUMBER + "%", word)
    if match:
        share = float(match[1]) / 100
        if not 0 < share <= 1:
            raise RequirementError(
                f"{text.strip()} is no share of the gain", instead="type one above 0 and up to 100 %"
            )
        return 20 * math.log10(share)
    match = re.fullmatch(NUMBER + r"(?:[dD][bB])?", word)
    if match is None:
        raise RequirementError(f'"{text.strip()}" is not an attenuation', instead="type one like 60, -60 dB or 0.1 %")
    return _finite(-abs(float(match[1])), text)


def parse_ripple(text: str) -> tuple[float, float]:
    """Passband limits in dB, lower then upper, from ``0.1``, ``±0.1 dB``, ``1 %`` or ``-0.2 to 0.1``."""
    word = _plain(text).removeprefix("±").removeprefix("+-").removeprefix("+/-")
    match = re.fullmatch(NUMBER + "%", word)
    if match:
        share = abs(float(match[1])) / 100
        if not 0 < share < 1:
            raise RequirementError(f"{text.strip()} leaves no gain", instead="type one above 0 and below 100 %")
        return 20 * math.log10(1 - share), 20 * math.log10(1 + share)
    pair = re.fullmatch(NUMBER + r"(?:[dD][bB])?(?:to|\.\.|/|,|;)" + NUMBER + r"(?:[dD][bB])?", word)
    if pair:
        low, high = sorted((float(pair[1]), float(pair[2])))
        if low == high:
            raise RequirementError("both limits are the same", instead="leave room between them")
        return _finite(low, text), _finite(high, text)
    match = re.fullmatch(NUMBER + r"(?:[dD][bB])?", word)
    if match is None or float(match[1]) == 0:
        raise RequirementError(f'"{text.strip()}" is not a ripple', instead="type one like 0.1, 1 % or -0.2 to 0.1")
    ripple = _finite(abs(float(match[1])), text)
    return -ripple, ripple


def parse_duration(text: str, sample_rate_hz: float) -> float:
    """A time in seconds from ``400 us``, ``0.4 ms``, ``1 s`` or ``50 samples``."""
    word = _plain(text)
    match = re.fullmatch(NUMBER + r"(samples?|Sa|s|ms|us|µs|μs|ns)", word)
    if match is None:
        raise RequirementError(f'"{text.strip()}" is not a time', instead="type one like 400 us, 0.4 ms or 50 samples")
    scale = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "µs": 1e-6, "μs": 1e-6, "ns": 1e-9}.get(match[2], 1 / sample_rate_hz)
    value = float(match[1]) * scale
    if value < 0:
        raise RequirementError("a time can't be negative", instead="type one like 400 us")
    return _finite(value, text)


def frequency_text(hz: float, sample_rate_hz: float = math.inf, counted: str = "hz") -> str:
    """A frequency as it's read: ``62.5 kHz``.

    Counted in "fs" it is a share of the sample rate (``0.25 fs``), in "fn" of half of it (``0.5 fn``).
    """
    if counted == "fs":
        return f"{short(hz / sample_rate_hz, 6)} fs"
    if counted == "fn":
        return f"{short(2 * hz / sample_rate_hz, 6)} fn"
    if sample_rate_hz <= 2 or hz == 0:
        return short(hz, 7)
    for size, unit in ((1e9, "GHz"), (1e6, "MHz"), (1e3, "kHz")):
        if abs(hz) >= size:
            return f"{short(hz / size, 7)} {unit}"
    return f"{short(hz, 7)} Hz"


def rate_text(hz: float) -> str:
    """A sample rate as it's read."""
    if hz in (1.0, 2.0):
        return "1 (of the rate)" if hz == 1 else "2 (half the rate is 1)"
    return frequency_text(hz)


def level_text(db: float, digits: int = 2) -> str:
    """A level with a true minus sign; a zero has none."""
    if db <= -399.9:
        return "−∞ dB"
    word = f"{db:.{digits}f}"
    return f"{word.removeprefix('-') if float(word) == 0 else word.replace('-', '−')} dB"


def duration_text(seconds: float) -> str:
    """A time with the unit that suits it."""
    for size, unit in ((1.0, "s"), (1e-3, "ms"), (1e-6, "µs")):
        if abs(seconds) >= size:
            return f"{short(seconds / size, 4)} {unit}"
    return f"{short(seconds * 1e9, 4)} ns"


def short(value: float, digits: int) -> str:
    """A number with at most so many significant digits and no trailing zeros."""
    text = f"{value:.{digits}g}"
    if "e" in text and 1e-6 <= abs(value) < 1e15:
        text = f"{value:.{max(0, digits - 1 - math.floor(math.log10(abs(value))))}f}"
    return text.replace("-", "−") if "e" not in text else text


def _plain(text: str) -> str:
    """Spaces out, a typographic minus and a decimal comma made plain."""
    word = text.replace("−", "-").replace("\u00a0", "").replace(" ", "").strip()
    if word.count(",") == 1 and "." not in word and re.search(r"\d,\d", word):
        word = word.replace(",", ".")
    return word


def _finite(value: float, text: str) -> float:
    if not math.isfinite(value):
        raise RequirementError(f"{text.strip()} is out of reach")
    return value
