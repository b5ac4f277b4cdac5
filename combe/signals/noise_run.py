"""A test signal through the bit-true filter: signal-to-noise ratio, what overflows, what vanishes, the spectrum of the error."""

from __future__ import annotations

from math import sqrt

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.measured import Measured, measured_on
from combe.analysis.noise import Noise, follows_signal, noise_density, predicted_noise
from combe.realization.stages import Realization
from combe.requirement import Requirement
from combe.running.random_integers import random_integers
from combe.signals.stimuli import tone
from combe.signals.survey import night_recording

Array = NDArray[np.float64]
SIGNALS = ("white noise, half scale", "tone in the passband", "white noise, −60 dB", "night recording")
SAMPLES, SEGMENT = 1 << 16, 512


class NoiseRun(Struct, frozen=True, eq=False):
    """What one signal tells. Densities are in dB of a full-scale sine's power, per Hz."""

    signal: str
    measured: Measured
    predicted: Noise
    hz: Array
    told_db: Array
    heard_db: Array
    vanishing: float
    """Share of the input samples smaller than half an output step."""
    follows_signal: bool = False
    """Whether the error has the sign of the signal, so that it can only be measured."""

    def sentences(self) -> list[str]:
        """The outcome in words."""
        if self.measured.power == 0:
            words = ["Nothing is rounded: the output is exact."]
        else:
            told = f"{sqrt(self.predicted.power):.3g} output steps rms predicted, {sqrt(self.measured.power):.3g} measured."
            if self.follows_signal:
                told = (
                    f"{sqrt(self.measured.power):.3g} output steps rms measured; toward zero their error follows the signal and "
                    f"isn't predicted; the gain changes by {100 * self.measured.gain_change:+.3g} %."
                ).replace("-", "−")
            words = [f"Signal to noise {self.measured.signal_to_noise_db:.1f} dB. Roundings: {told}"]
        for name, count in self.measured.overflows:
            times = "once" if count == 1 else f"{count} times"
            words.append(f"{name[0].upper()}{name[1:]} leaves its range {times}.")
        if self.vanishing >= 0.01:
            words.append(
                f"The smallest inputs vanish: {100 * self.vanishing:.0f} % of the samples are below half an output step."
            )
        return words


def test_signal(name: str, realization: Realization, requirement: Requirement) -> NDArray[np.int64]:
    """Raw input integers of one of SIGNALS."""
    entry = realization.input
    if name == "night recording":
        return night_recording(entry, realization.sample_rate_hz)
    if name == "tone in the passband":
        band = max(requirement.passbands, key=lambda each: each.stop_hz - each.start_hz, default=None)
        hz = (0.382 * band.start_hz + 0.618 * band.stop_hz) if band else realization.sample_rate_hz / 9
        return tone(SAMPLES, entry, 2 * np.pi * hz / realization.sample_rate_hz)
    level = 0.5 if name.endswith("half scale") else 0.001
    raw = random_integers(SAMPLES, entry, 11)
    middle = 0 if entry.signed else (entry.most + 1) // 2
    return np.asarray(middle + np.rint((raw - middle) * level).astype(np.int64))


test_signal.__test__ = False  # type: ignore[attr-defined]


def listen(realization: Realization, requirement: Requirement, name: str) -> NoiseRun:
    """Run a signal through and hold the error against its prediction.

    Raises
    ------
    FormatError
        Where there is more state than predictions are made for.
    """
    samples = test_signal(name, realization, requirement)
    measured = measured_on(realization, samples)
    omega, heard = measured.density(SEGMENT)
    rate = realization.sample_rate_hz
    full = ((realization.output.most - realization.output.least) / 2) ** 2 / 2
    per_hz = 2 / rate / full
    small = float(np.mean(np.abs(samples) * realization.input.step < realization.output.step / 2))
    return NoiseRun(
        name, measured, predicted_noise(realization), omega * rate / (2 * np.pi),
        _db(noise_density(realization, omega) * per_hz), _db(heard * per_hz),
        small if realization.output.step > realization.input.step else 0.0, follows_signal(realization),
    )  # fmt: skip


def _db(power: Array) -> Array:
    return np.asarray(10 * np.log10(np.maximum(power, 1e-40)))
