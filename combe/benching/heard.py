"""What came out of one runner, and its figures."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.benching.levels import Levels
from combe.realization.formats import Format
from combe.realization.stages import Realization
from combe.signals.figures import Tones, delay_by_correlation, fit_tones, tone_errors
from combe.signals.modulation import Modulated, Received, received
from combe.signals.purity import BESIDE_TONES, NOT_TOLD, Purity, purity_of
from combe.signals.spec import Signal
from combe.values import replace

Array = NDArray[np.float64]
FLOOR_DB = -400.0
TOLD_DB, TOLD_DEG = 1e-4, 1e-2
"""Below it what noise throws off isn't told beside the figure."""


class Input(Struct, frozen=True, eq=False):
    """What went in, as real values; ``hz`` are the tones in it, ``tones`` what they are over the settled part."""

    values: Array
    full: float
    hz: tuple[float, ...]
    tones: Tones | None
    step: float
    rms: float
    peak: float
    levels: Levels
    purity: Purity | None = None
    spectrum: tuple[Array, Array] | None = None

    def document(self) -> dict[str, Any]:
        """As a file has it."""
        found = [] if self.tones is None else [
            {"hz": hz, "dbfs": level_db(float(a), self.full)} for hz, a in zip(self.hz, self.tones.amplitudes)
        ]  # fmt: skip
        told = NOT_TOLD if self.purity is None else self.purity.document()
        return {"rms_dbfs": level_db(np.sqrt(2) * self.rms, self.full), "peak": self.peak, "tones": found} | told


class Tone(Struct, frozen=True):
    """One tone at an output: its level, and gain and phase against the input."""

    hz: float
    dbfs: float
    gain_db: float
    phase_deg: float
    error_db: float | None = None
    error_deg: float | None = None
    """How far noise may have thrown gain and phase off, as standard deviations; None where it isn't known."""

    def document(self) -> dict[str, Any]:
        """As a file has it."""
        return {
            "hz": self.hz, "dbfs": self.dbfs, "gain_db": self.gain_db, "phase_deg": self.phase_deg,
            "gain_error_db": self.error_db, "phase_error_deg": self.error_deg,
        }  # fmt: skip

    def words(self) -> str:
        """Gain and phase, and how sure they are where the last figure that is told isn't."""
        gain, phase = f"{self.gain_db:+.4f} dB", f"{self.phase_deg:+.2f} degrees"
        if self.error_db is not None and self.error_db > TOLD_DB:
            gain += f" ± {self.error_db:.1g}"
        if self.error_deg is not None and self.error_deg > TOLD_DEG:
            phase += f" ± {self.error_deg:.1g}"
        return f"{gain}, {phase}"


class Heard(Struct, frozen=True, eq=False):
    """One output as real values, and its figures; errors are against the exact filter, over all samples."""

    name: str
    values: Array
    full: float
    saturated: int | None
    identical: bool | None
    tones: tuple[Tone, ...]
    are_tones_sure: bool
    rms_error: float
    peak_error: float
    snr_db: float | None
    delay_samples: float | None
    evm_db: float | None
    received: tuple[Received, ...]
    rms: float
    peak: float
    levels: Levels
    off: Levels
    """The whole output, and its error, to be drawn in any part."""
    purity: Purity | None = None
    """Of tones; None where there are none, or the signal went through piece by piece."""
    first_saturated: int | None = None
    """The first sample at an end of the format."""
    spectrum: tuple[Array, Array] | None = None
    sample_rate_hz: float | None = None
    """Where it isn't the input's."""

    def document(self) -> dict[str, Any]:
        """As a file has it."""
        found: dict[str, Any] = {
            "name": self.name, "rms_dbfs": level_db(np.sqrt(2) * self.rms, self.full), "peak": self.peak,
            "saturated": self.saturated, "first_saturated": self.first_saturated,
        }  # fmt: skip
        if self.sample_rate_hz is not None:
            found["sample_rate_hz"] = self.sample_rate_hz
        if self.identical is not None:
            found["identical"] = self.identical
        found["tones"] = [tone.document() for tone in self.tones]
        if not self.are_tones_sure:
            found["note"] = "the tones lie too close to be told apart in so few samples"
        return found | {
            "rms_error": self.rms_error, "peak_error": self.peak_error, "snr_db": self.snr_db,
            "delay_samples": self.delay_samples, "evm_db": self.evm_db,
        } | (NOT_TOLD if self.purity is None else self.purity.document())  # fmt: skip


def full_scale(entry: Format) -> float:
    """The value of full scale: 2^(bits−1) steps."""
    return float(2.0 ** (entry.bits - 1) * entry.step)


def level_db(amplitude: float, full: float) -> float:
    """A sine's amplitude in dB of full scale."""
    return max(float(20 * np.log10(amplitude / full)), FLOOR_DB) if amplitude > 0 else FLOOR_DB


def tones_in(signal: Signal) -> tuple[float, ...]:
    """The frequencies of a signal's sines."""
    return tuple(dict.fromkeys(part.hz for part in signal.parts if part.kind == "sine" and part.hz is not None))


def input_of(signal: Signal, realization: Realization, given: Array, settled: int) -> Input:
    """The quantized input with its tones, fitted over the same part as the outputs'."""
    hz = tones_in(signal)
    tones, omegas = None, np.zeros(0)
    if hz and len(given) - settled > 2 * len(hz) + 1:
        omegas = np.array(hz) * 2 * np.pi / realization.sample_rate_hz
        tones = fit_tones(given[settled:], omegas, settled)
    full, step = full_scale(realization.input), realization.input.step
    is_judged = tones is not None and all(part.kind in BESIDE_TONES for part in signal.parts)
    purity = purity_of(given[settled:], omegas, full) if is_judged else None
    known = hz if tones is not None else ()
    return Input(given, full, known, tones, step, _rms(given), _peak(given), Levels.of(given), purity)


def heard_of(
    name: str, values: Array, integers: NDArray[Any] | None, identical: bool | None, exact: Array, given: Input,
    realization: Realization, settled: int, modulated: tuple[Modulated, ...],
) -> Heard:  # fmt: skip
    """The figures of one output."""
    full = full_scale(realization.output)
    error = values - exact
    energy = float(np.sum(error**2))
    signal_energy = float(np.sum(exact**2))
    ratio = float(10 * np.log10(signal_energy / energy)) if energy > 0 and signal_energy > 0 else None
    up, down = realization.ratio
    # The beginning, where the filter fills up, has a shape of its own.
    if up == down == 1:
        delay = delay_by_correlation(given.values[settled:], values[settled:], max(2 * settled, 16))
        sends, late = modulated, settled
    else:
        # Every up-th output stands where every down-th input does.
        shared = settled // down
        slow = delay_by_correlation(given.values[shared * down :: down], values[shared * up :: up], max(2 * shared, 16))
        delay = None if slow is None else slow * down
        sends, late = tuple(_at_rate(sent, up, down) for sent in modulated), shared * up
    arrived = [received(sent, values, late, (delay or 0.0) * up / down) for sent in sends]
    known = tuple(each for each in arrived if each is not None)
    tones, is_sure = _tones(values, error, given, full, realization, late)
    omegas = np.array(given.hz) * 2 * np.pi / realization.output_rate_hz
    return Heard(
        name, values, full, at_ends(integers, realization.output) if integers is not None else None, identical, tones, is_sure,
        float(np.sqrt(energy / max(len(error), 1))), float(np.max(np.abs(error), initial=0.0)), ratio, delay,
        max(each.error_db for each in known) if known else None, known, _rms(values), _peak(values), Levels.of(values), Levels.of(error),
        purity_of(values[late:], omegas, full) if given.purity is not None else None, first_at_end(integers, realization.output), None,
        realization.output_rate_hz if realization.changes_rate else None,
    )  # fmt: skip


def _at_rate(sent: Modulated, up: int, down: int) -> Modulated:
    """What was sent, told in samples of an output at another rate."""
    return replace(sent, samples_per_symbol=sent.samples_per_symbol * up / down, carrier=sent.carrier * down / up)


def _tones(
    values: Array, error: Array, given: Input, full: float, realization: Realization, settled: int
) -> tuple[tuple[Tone, ...], bool]:
    if given.tones is None:
        return (), True
    omegas = np.array(given.hz) * 2 * np.pi / realization.output_rate_hz
    found = fit_tones(values[settled:], omegas, settled)
    tones = []
    thrown = tone_errors(error[settled:], omegas)
    for k, hz in enumerate(given.hz):
        played, heard = float(given.tones.amplitudes[k]), float(found.amplitudes[k])
        turn = turn_deg(found, given.tones, k)
        gain = level_db(heard, played) if played > 0 else FLOOR_DB
        share = float(thrown[k] / heard) if heard > 0 else float("nan")
        off_db, off_deg = (20 * np.log10(1 + share), np.rad2deg(share)) if np.isfinite(share) else (None, None)
        tones.append(Tone(hz, level_db(heard, full), gain, turn, _plain(off_db), _plain(off_deg)))
    return tuple(tones), found.is_sure


def _plain(value: Any) -> float | None:
    return None if value is None else float(value)


def turn_deg(found: Tones, given: Tones, k: int) -> float:
    """A tone's phase against the input's, in (-180, 180] degrees."""
    turn = float(np.rad2deg(found.phases[k] - given.phases[k]))
    return -((-turn + 180.0) % 360.0 - 180.0)


def at_ends(integers: NDArray[Any], entry: Format) -> int:
    """How many outputs stand at an end of their format."""
    return int(np.count_nonzero((integers == entry.most) | (integers == entry.least)))


def first_at_end(integers: NDArray[Any] | None, entry: Format) -> int | None:
    """The first output that stands at an end of its format; None where none does, or nobody knows."""
    if integers is None:
        return None
    places = np.flatnonzero((integers == entry.most) | (integers == entry.least))
    return int(places[0]) if len(places) else None


def _rms(values: Array) -> float:
    return float(np.sqrt(np.mean(values**2)))


def _peak(values: Array) -> float:
    return float(np.max(np.abs(values), initial=0.0))
