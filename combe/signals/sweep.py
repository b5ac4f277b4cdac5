"""Measuring a running filter with tones, as on a bench: each limit at the frequency where it is closest."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.exact import exact_filter
from combe.files import FLOOR_DB
from combe.filters import Fir
from combe.ledger import Line
from combe.realization.formats import Format
from combe.realization.stages import Realization, TapSum
from combe.responses.time import ringing_length
from combe.running.simulate import simulate
from combe.signals.stimuli import tone
from combe.values import replace

Integers = NDArray[np.int64]
Array = NDArray[np.float64]
SETTLED_SAMPLES = 4096
INSET = 64
MOST_SAMPLES = 1 << 17
MOST_SETTLING = 1 << 14
MANY_COPIES = 32
"""Of a tone, from which on they are told apart phase by phase."""
LEAST_FITTED, ROWS_PER_COPY = 1 << 16, 40
"""Outputs that copies are fitted to at once."""


class Sweep(Struct, frozen=True, eq=False):
    """One tone after the other, each long enough to settle and then be measured."""

    frequencies_hz: tuple[float, ...]
    samples: Integers
    settling: int
    settled: int


def sweep_for(realization: Realization, lines: tuple[Line, ...]) -> Sweep:
    """Tones at the worst frequency of every gain limit."""
    length = settling_of(realization)
    wanted = [line.at_hz for line in lines if line.unit == "db" and line.at_hz is not None]
    if realization.changes_rate:
        return _rate_sweep(realization, wanted, length)
    frequencies = tuple(dict.fromkeys(_off_the_ends(hz, realization.sample_rate_hz, length) for hz in wanted))
    moved = any(hz not in wanted for hz in frequencies)
    settled = min(max(SETTLED_SAMPLES, 2 * INSET * length), MOST_SAMPLES) if moved else SETTLED_SAMPLES
    turn = 2 * np.pi / realization.sample_rate_hz
    tones = [tone(length + settled, realization.input, hz * turn) for hz in frequencies]
    samples = np.concatenate(tones) if tones else np.zeros(0, dtype=np.int64)
    return Sweep(frequencies, samples, length, settled)


def _rate_sweep(realization: Realization, wanted: list[float], length: int) -> Sweep:
    """Where the rate changes: the tone of the input whose copy lies at the frequency of the prototype. Stretches are so long that
    as many outputs belong to each."""
    rate, down = realization.sample_rate_hz, realization.ratio[1]
    length = -(-length // down) * down
    settled = max(SETTLED_SAMPLES, 2 * INSET * length, 64 * down)
    settled = -(-min(settled, max(MOST_SAMPLES, 64 * down)) // down) * down
    frequencies = tuple(dict.fromkeys(_clear_of_ends(hz, realization, length) for hz in wanted))
    tones = [tone(length + settled, realization.input, folded(hz, rate) * 2 * np.pi / rate) for hz in frequencies]
    samples = np.concatenate(tones) if tones else np.zeros(0, dtype=np.int64)
    return Sweep(frequencies, samples, length, settled)


def folded(hz: float, rate: float) -> float:
    """Where a frequency lands between 0 and half a rate."""
    return abs(hz - rate * round(hz / rate))


def _clear_of_ends(hz: float, realization: Realization, length: int) -> float:
    """A frequency of the prototype moved a little where it lands on zero or half of the input's or the output's rate."""
    rates = realization.sample_rate_hz, realization.output_rate_hz
    inset = min(rates) / (INSET * length)
    top = realization.sample_rate_hz * realization.ratio[0] / 2
    for moved in (hz, hz - inset, hz + inset, hz - 2 * inset, hz + 2 * inset):
        lands = [(folded(moved, rate), rate) for rate in rates]
        if 0 <= moved <= top and all(0.9 * inset <= at <= rate / 2 - 0.9 * inset for at, rate in lands):
            return moved
    return hz


def settling_of(realization: Realization) -> int:
    """Samples until the answer to a tone that starts is a tone: all taps, or until the slowest pole has died away."""
    if realization.changes_rate:
        source = exact_filter(realization)
        return (len(source.taps) if isinstance(source, Fir) else 0) // realization.ratio[0] + 2
    length = sum(len(stage.coefficients) for stage in realization.stages if isinstance(stage, TapSum)) + 1
    if realization.is_recursive:
        source = exact_filter(realization)
        if not isinstance(source, Fir):
            length = min(length + ringing_length(source), MOST_SETTLING)
    return length


def measured_lines(
    sweep: Sweep, realization: Realization, output: NDArray[Any], lines: tuple[Line, ...]
) -> tuple[Line, ...]:
    """The ledger's lines with the gains measured on ``output``, the filter's answer to the sweep.

    The gain at a frequency is the ratio of the two sinusoids that fit input and output best (least squares,
    with the offset fitted along), once the filter has settled.
    """
    if realization.changes_rate:
        return _rate_lines(sweep, realization, output, lines)
    found = {}
    block = sweep.settling + sweep.settled
    rate = realization.sample_rate_hz
    for index, hz in enumerate(sweep.frequencies_hz):
        part = slice(index * block + sweep.settling, (index + 1) * block)
        omega = 2 * np.pi * hz / rate
        heard = _amplitude(output[part], realization.output, omega)
        played = _amplitude(sweep.samples[part], realization.input, omega)
        found[hz] = 20 * np.log10(heard / played) if heard > 0 else FLOOR_DB
    return _read(found, lines, lambda hz: _off_the_ends(hz, rate, sweep.settling))


def _rate_lines(
    sweep: Sweep, realization: Realization, output: NDArray[Any], lines: tuple[Line, ...]
) -> tuple[Line, ...]:
    """The same where the rate changes: all copies of the tone are fitted at once, and the one that is meant is read."""
    (up, down), rate, out_rate = realization.ratio, realization.sample_rate_hz, realization.output_rate_hz
    block, skip = (sweep.settling + sweep.settled) * up // down, sweep.settling * up // down
    found = {}
    for index, hz in enumerate(sweep.frequencies_hz):
        played = folded(hz, rate)
        copies = {played, *(abs(k * rate + sign * played) for k in range(1, up // 2 + 2) for sign in (-1, 1))}
        lands = {round(folded(copy, out_rate), 6) for copy in copies if copy <= rate * up / 2 * (1 + 1e-12)}
        own = round(folded(hz, out_rate), 6)
        every = [own, *sorted(lands - {own})]
        part = output[index * block + skip : (index + 1) * block]
        if up >= MANY_COPIES and _is_apart(up, played / out_rate, len(part)):
            heard = _amplitude_by_phase(part, realization.output, up, played / out_rate, hz / out_rate)
        else:
            part = part[: max(LEAST_FITTED, ROWS_PER_COPY * len(every))]
            heard = _first_amplitude(part, realization.output, [2 * np.pi * at / out_rate for at in every])
        given = sweep.samples[index * (sweep.settling + sweep.settled) + sweep.settling :][: sweep.settled]
        sent = _amplitude(given, realization.input, 2 * np.pi * played / rate)
        found[hz] = 20 * np.log10(heard / sent) if heard > 0 else FLOOR_DB
    return _read(found, lines, lambda hz: _clear_of_ends(hz, realization, sweep.settling))


def _read(found: dict[float, Any], lines: tuple[Line, ...], place_of: Callable[[float], float]) -> tuple[Line, ...]:
    """Lines with the gain that was heard where each is tightest; ``place_of`` tells the tone that stands for a frequency."""
    result = []
    for line in lines:
        place = None if line.at_hz is None else place_of(line.at_hz)
        if line.unit == "db" and place in found:
            reached = float(found[place])
            sign = 1 if line.limit == "max_db" else -1
            line = replace(line, reached=reached, margin=sign * (line.asked - reached), within_db=None)
        result.append(line)
    return tuple(result)


def _first_amplitude(raw: NDArray[Any], entry: Format, omegas: list[float]) -> float:
    """Amplitude of the first of several sinusoids that fit best together, in units of value."""
    time = np.arange(len(raw))
    columns = [np.ones(len(raw))]
    for omega in omegas:
        columns += [np.cos(omega * time), np.sin(omega * time)]
    fitted = np.linalg.lstsq(np.column_stack(columns), raw.astype(np.float64), rcond=None)[0]
    return float(np.hypot(fitted[1], fitted[2]) * entry.step)


def _is_apart(up: int, played: float, count: int) -> bool:
    """Whether no two copies land so near each other that one phase alone couldn't tell them apart."""
    turns = 2 * up * played
    return abs(turns - round(turns)) > 4 * up / count


def _amplitude_by_phase(raw: NDArray[Any], entry: Format, up: int, played: float, meant: float) -> float:
    """The same where there are many copies, all of them ``up`` apart in one turn of the output's rate: cycles per output sample.

    Copies at j/up + played for all j are one sinusoid whose amplitude and phase differ from phase to phase: these are fitted one by one,
    and a transform over the phases tells the copies apart again.
    """
    found = np.zeros(up, dtype=np.complex128)
    for phase in range(up):
        own = raw[phase::up].astype(np.float64)
        turned = 2 * np.pi * played * (phase + up * np.arange(len(own)))
        columns = np.column_stack([np.cos(turned), -np.sin(turned), np.ones(len(own))])
        real, imaginary, _ = np.linalg.lstsq(columns, own, rcond=None)[0]
        found[phase] = complex(real, imaginary)
    copies = np.fft.fft(found) / up
    numbers = [(sign * meant - played) * up for sign in (1, -1)]
    nearest = min(numbers, key=lambda number: abs(number - round(number)))
    return float(abs(copies[round(nearest) % up]) * entry.step)


def gain_at(realization: Realization, hz: float) -> complex:
    """Gain and phase of the bit-true run at one frequency, from the sinusoids that fit a tone and its answer best."""
    length = settling_of(realization)
    omega = 2 * np.pi * hz / realization.sample_rate_hz
    samples = tone(length + SETTLED_SAMPLES, realization.input, omega)
    output = simulate(realization, samples)
    heard, played = (_phasor(each[length:], omega) for each in (output, samples))
    return complex(heard / played * realization.output.step / realization.input.step)


def _phasor(raw: NDArray[Any], omega: float) -> complex:
    time = np.arange(len(raw))
    columns = np.column_stack([np.cos(omega * time), np.sin(omega * time), np.ones(len(raw))])
    a, b, _ = np.linalg.lstsq(columns, raw.astype(np.float64), rcond=None)[0]
    return complex(a, -b)


def _off_the_ends(hz: float, sample_rate_hz: float, length: int) -> float:
    """Zero and half the sample rate, moved in by a small part of a ripple: a tone there repeats itself so soon that
    rounding would act as an error of gain, and the gain is flat there anyway."""
    inset = sample_rate_hz / (INSET * length)
    return min(max(hz, inset), sample_rate_hz / 2 - inset)


def _amplitude(raw: NDArray[Any], entry: Format, omega: float) -> float:
    """Amplitude of the best-fitting sinusoid, in units of value."""
    time = np.arange(len(raw))
    columns = np.column_stack([np.cos(omega * time), np.sin(omega * time), np.ones(len(raw))])
    fitted = np.linalg.lstsq(columns, raw.astype(np.float64), rcond=None)[0]
    return float(np.hypot(fitted[0], fitted[1]) * entry.step)
