"""A requirement line as a sentence whose figures can be typed over."""

from __future__ import annotations

import re

from msgspec import Struct

from combe.errors import RequirementError
from combe.requirement.bands import Band, Limit, Requirement
from combe.requirement.quantities import (
    duration_text,
    frequency_text,
    parse_attenuation,
    parse_duration,
    parse_frequency,
    parse_ripple,
    short,
)
from combe.values import replace

USUAL_CLOCK_HZ = 40e6


class Word(Struct, frozen=True):
    """A piece of a sentence: plain text, or a figure with the name of what it changes."""

    text: str
    figure: str = ""


def band_sentence(band: Band, requirement: Requirement, counted: str = "hz") -> list[Word]:
    """``Block 0 Hz to 12 kHz, 60 dB down`` or ``Keep 18 kHz to 110 kHz at ±0.1 dB``."""
    rate = requirement.sample_rate_hz
    words = [
        Word("Keep" if band.is_passband else "Block"), Word(frequency_text(band.start_hz, rate, counted), "start"),
        Word("to"), Word(frequency_text(band.stop_hz, rate, counted), "stop"),
    ]  # fmt: skip
    if band.is_passband:
        return [*words, Word("at"), Word(ripple_text(band), "ripple")]
    if band.upper.flat:
        return [*words, Word("by"), Word(f"{short(abs(band.upper.first_db), 5)} dB", "attenuation")]
    return [*words, Word("by"), Word(_span_text(band.upper), "attenuation")]


def ripple_text(band: Band) -> str:
    """The limits of a passband in words."""
    assert band.lower is not None
    if not (band.upper.flat and band.lower.flat):
        return f"{_span_text(band.lower)} and {_span_text(band.upper)}"
    low, high = band.lower.first_db, band.upper.first_db
    if low == -high:
        return f"±{short(high, 5)} dB"
    return f"{short(low, 5)} to {short(high, 5)} dB"


def _span_text(limit: Limit) -> str:
    levels = [db for _, db in limit.points]
    return (
        f"{short(min(levels), 4)}…{short(max(levels), 4)} dB"
        if min(levels) < max(levels)
        else f"{short(levels[0], 4)} dB"
    )


def with_figure(requirement: Requirement, index: int, figure: str, text: str) -> Requirement:
    """The requirement with one figure of band ``index`` typed over.

    Raises
    ------
    RequirementError
        If the text isn't such a figure, or the requirement would contradict itself.
    """
    band = requirement.bands[index]
    if figure in ("start", "stop"):
        hz = parse_frequency(text, requirement.sample_rate_hz)
        edges = (hz, band.stop_hz) if figure == "start" else (band.start_hz, hz)
        return with_edges(requirement, index, *edges)
    if figure == "attenuation":
        return with_levels(requirement, index, None, parse_attenuation(text))
    if figure == "ripple":
        low, high = parse_ripple(text)
        return with_levels(requirement, index, low, high)
    raise RequirementError(f'"{figure}" is not a figure of a band')


def with_edges(requirement: Requirement, index: int, start_hz: float, stop_hz: float) -> Requirement:
    """The requirement with the edges of one band moved."""
    if not stop_hz > start_hz:
        raise RequirementError("a band has to end above its start")
    return with_band(requirement, index, requirement.bands[index].with_edges(start_hz, stop_hz))


def with_levels(requirement: Requirement, index: int, low_db: float | None, high_db: float) -> Requirement:
    """The requirement with one band's limits made level at new values."""
    band = requirement.bands[index]
    lower = None if low_db is None else Limit.level(low_db, band.start_hz, band.stop_hz)
    return with_band(
        requirement, index, replace(band, upper=Limit.level(high_db, band.start_hz, band.stop_hz), lower=lower)
    )


def with_band(requirement: Requirement, index: int, band: Band) -> Requirement:
    """The requirement with one band replaced."""
    return replace(requirement, bands=requirement.bands[:index] + (band,) + requirement.bands[index + 1 :])


def with_band_name(requirement: Requirement, index: int, name: str) -> Requirement:
    """Another name for a band."""
    return with_band(requirement, index, replace(requirement.bands[index], name=name.strip()))


def with_other_phase(requirement: Requirement) -> Requirement:
    """Any phase instead of linear, or the other way round."""
    return replace(requirement, phase="any" if requirement.phase == "linear" else "linear")


def without_band(requirement: Requirement, index: int) -> Requirement:
    """The requirement with one band taken out."""
    return replace(requirement, bands=requirement.bands[:index] + requirement.bands[index + 1 :])


def turned_band(requirement: Requirement, index: int) -> Requirement:
    """The requirement with one band kept instead of blocked, or the other way round."""
    band = requirement.bands[index]
    if band.is_passband:
        return with_levels(requirement, index, None, -60.0)
    return with_levels(requirement, index, -0.1, 0.1)


def turned(requirement: Requirement) -> Requirement:
    """Every band kept that was blocked and blocked that was kept: low- to highpass, band- to notch-like.

    The tightest ripple and the deepest attenuation change sides with the bands.
    """
    ripples = [band for band in requirement.passbands if band.lower is not None]
    tightest = min(ripples, key=lambda band: band.upper.first_db - band.lower.first_db if band.lower else 0.0)
    assert tightest.lower is not None
    low, high = tightest.lower.first_db, tightest.upper.first_db
    down = min((db for band in requirement.stopbands for _, db in band.upper.points), default=-60.0)
    if not requirement.stopbands:
        raise RequirementError("no band is blocked, so that nothing would be kept", "bands", "add a band first")
    bands = []
    for band in requirement.bands:
        start, stop = band.start_hz, band.stop_hz
        if band.is_passband:
            bands.append(replace(band, upper=Limit.level(down, start, stop), lower=None))
        else:
            bands.append(replace(band, upper=Limit.level(high, start, stop), lower=Limit.level(low, start, stop)))
    return replace(requirement, bands=tuple(bands))


def with_new_band(requirement: Requirement) -> tuple[Requirement, int]:
    """A band added in the middle of the widest free stretch, and its index.

    Raises
    ------
    RequirementError
        If no stretch is free.
    """
    free = requirement.transitions()
    if not free:
        raise RequirementError("the bands leave no room for another", instead="make one of them narrower")
    start, stop = max(free, key=lambda stretch: stretch[1] - stretch[0])
    width = stop - start
    low = start if start == 0 else start + width / 3
    high = stop if stop == requirement.nyquist_hz else stop - width / 3
    low, high = (float(f"{edge:.3g}") for edge in (low, high))
    inside = [band for band in requirement.bands if band.start_hz < low]
    names = {band.name for band in requirement.bands}
    name = next(f"band {k}" for k in range(len(names) + 1, 200) if f"band {k}" not in names)
    near = requirement.bands[len(inside) - 1] if inside else requirement.bands[0]
    level = Limit.level(-60.0, low, high) if near.is_passband else Limit.level(0.1, low, high)
    lower = None if near.is_passband else Limit.level(-0.1, low, high)
    bands = (*inside, Band(name, low, high, level, lower), *requirement.bands[len(inside) :])
    return replace(requirement, bands=bands), len(inside)


def with_sample_rate(requirement: Requirement, rate_hz: float) -> Requirement:
    """The requirement at another sample rate of the input: frequencies in Hz stay while they fit, else all scale along."""
    if requirement.rate is not None:
        rate_hz *= requirement.rate.up
        low = min(rate_hz / requirement.rate.up, rate_hz / requirement.rate.down) / 2
        if any(band.stop_hz >= low for band in requirement.passbands):
            scale = rate_hz / requirement.sample_rate_hz
            scaled = tuple(_scaled(band, scale) for band in requirement.bands)
            return replace(requirement, sample_rate_hz=rate_hz, bands=scaled)
    if (
        max(band.stop_hz for band in requirement.bands) == requirement.nyquist_hz
        and requirement.sample_rate_hz != rate_hz
    ):
        last = requirement.bands[-1]
        if last.start_hz < rate_hz / 2:
            bands = (*requirement.bands[:-1], last.with_edges(last.start_hz, rate_hz / 2))
            return replace(requirement, sample_rate_hz=rate_hz, bands=bands)
    if requirement.bands[-1].stop_hz <= rate_hz / 2:
        return replace(requirement, sample_rate_hz=rate_hz)
    scale = rate_hz / requirement.sample_rate_hz
    return replace(requirement, sample_rate_hz=rate_hz, bands=tuple(_scaled(band, scale) for band in requirement.bands))


def _scaled(band: Band, scale: float) -> Band:
    def limit(old: Limit) -> Limit:
        return Limit(tuple((hz * scale, db) for hz, db in old.points), old.flat)

    return Band(
        band.name,
        band.start_hz * scale,
        band.stop_hz * scale,
        limit(band.upper),
        limit(band.lower) if band.lower else None,
    )


def whole_words(requirement: Requirement) -> list[tuple[str, str]]:
    """The limits of the whole filter as (key, value in words)."""
    found = []
    if requirement.max_delay_s is not None:
        found.append(("max_delay_s", duration_text(requirement.max_delay_s)))
    if requirement.max_delay_spread_s is not None:
        found.append(("max_delay_spread_s", duration_text(requirement.max_delay_spread_s)))
    if requirement.max_multiplies is not None:
        found.append(("max_multiplies", str(requirement.max_multiplies)))
    if requirement.max_cycles is not None:
        found.append(("max_cycles", f"{requirement.max_cycles:g}"))
    if requirement.max_multipliers is not None:
        found.append(("max_multipliers", f"{requirement.max_multipliers} at {(requirement.clock_hz or 0) / 1e6:g} MHz"))
    return found


def with_whole(requirement: Requirement, key: str, value: float | None) -> Requirement:
    """The requirement with one limit of the whole filter set, or taken away with None."""
    if key == "max_multiplies":
        return replace(requirement, max_multiplies=None if value is None else int(value))
    if key == "max_cycles":
        return replace(requirement, max_cycles=value)
    if key == "max_multipliers":
        clock = None if value is None else requirement.clock_hz or USUAL_CLOCK_HZ
        return replace(requirement, max_multipliers=None if value is None else int(value), clock_hz=clock)
    if key == "max_delay_s":
        return replace(requirement, max_delay_s=value)
    if key == "max_delay_spread_s":
        return replace(requirement, max_delay_spread_s=value)
    raise RequirementError(f'"{key}" is not a limit of the whole filter')


def with_whole_figure(requirement: Requirement, key: str, text: str) -> Requirement:
    """The requirement with one limit of the whole filter typed over."""
    if key == "max_multiplies":
        if not text.strip().isdigit():
            raise RequirementError(f'"{text.strip()}" is not a number of multiplies', instead="type one like 64")
        return with_whole(requirement, key, int(text))
    if key == "max_cycles":
        return with_whole(requirement, key, _cycles(text, requirement.sample_rate_hz))
    if key == "max_multipliers":
        found = re.fullmatch(r"(\d+)(?:\s*(?:at|@)\s*([\d.]+)\s*MHz)?", text.strip(), re.IGNORECASE)
        if found is None:
            raise RequirementError(
                f'"{text.strip()}" is not a number of multipliers', instead="type one like 8 at 40 MHz"
            )
        clock = float(found[2]) * 1e6 if found[2] else requirement.clock_hz or USUAL_CLOCK_HZ
        return replace(requirement, max_multipliers=int(found[1]), clock_hz=clock)
    return with_whole(requirement, key, parse_duration(text, requirement.sample_rate_hz))


def _cycles(text: str, sample_rate_hz: float) -> float:
    """Cycles a sample, or a share of a processor: ``64``, or ``20 % of 80 MHz``."""
    share = re.fullmatch(r"([\d.]+)\s*%\s*(?:of|at)?\s*([\d.]+)\s*MHz", text.strip(), re.IGNORECASE)
    try:
        if share is not None:
            return float(f"{float(share[1]) / 100 * float(share[2]) * 1e6 / sample_rate_hz:.4g}")
        value = float(text)
    except ValueError:
        value = -1.0
    if not 0 <= value < 1e12:
        what = f'"{text.strip()}" is not a number of cycles'
        raise RequirementError(what, instead="type one like 64, or 20 % of 80 MHz")
    return value
