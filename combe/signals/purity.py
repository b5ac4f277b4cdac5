"""How pure tones are after a filter: noise and distortion against them, harmonics, the largest line that isn't asked for."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.signals.figures import fit_tones
from combe.signals.lines import amplitudes

Array = NDArray[np.float64]
HARMONICS = 10
LEAST_LINES = 4.0
"""Lines two tones must be apart, or from 0 and half the rate, to be told apart."""
LEAST_SAMPLES = 64
SMALLEST = 1e-15


class Purity(Struct, frozen=True):
    """``sinad_db``: power of all tones to that of everything else but a constant. ``distortion_db``: the harmonics from the
    second to the tenth against a single tone, None where there are several. ``spurious_free_db``: the largest tone against the
    largest other line. ``effective_bits``: what a converter of so many bits would leave beside a tone of full scale,
    (sinad − level − 1.76 dB)/6.02 dB (IEEE 1241)."""

    sinad_db: float
    distortion_db: float | None
    spurious_free_db: float
    effective_bits: float

    def document(self) -> dict[str, Any]:
        """As a file has it."""
        return {
            "sinad_db": self.sinad_db, "distortion_db": self.distortion_db, "spurious_free_db": self.spurious_free_db,
            "effective_bits": self.effective_bits,
        }  # fmt: skip


BESIDE_TONES = ("sine", "white", "pink", "converter")
"""Parts of a signal whose tones may be judged by what stands beside them: noise, and what a converter leaves."""
NOT_TOLD: dict[str, Any] = dict.fromkeys(("sinad_db", "distortion_db", "spurious_free_db", "effective_bits"))


def purity_of(values: Array, omegas: Array, full: float) -> Purity | None:
    """The figures of settled values with tones at ``omegas``; None where there are no tones, or nothing beside them, or too
    few samples to tell them apart, or more of everything else than of them."""
    count = len(values)
    if not len(omegas) or count < max(LEAST_SAMPLES, 8 * len(omegas)):
        return None
    found = fit_tones(values, omegas)
    power = float(np.sum(found.amplitudes**2) / 2)
    rest = values - found.constant - _played(omegas, found.amplitudes, found.phases, count)
    left = float(np.mean(rest**2))
    if not found.is_sure or power <= max(left, SMALLEST * full**2) or left <= SMALLEST**2 * full**2:
        return None
    sinad = 10 * float(np.log10(power / left))
    level = 10 * float(np.log10(power / (full**2 / 2)))
    largest = max(float(np.max(amplitudes(rest, "four terms"))), SMALLEST * full)
    spurious = 20 * float(np.log10(float(np.max(found.amplitudes)) / largest))
    return Purity(sinad, _distortion(rest, omegas, power), spurious, (sinad - level - 1.7609) / 6.0206)


def _played(omegas: Array, amplitudes: Array, phases: Array, count: int) -> Array:
    n = np.arange(count)
    total = np.zeros(count)
    for omega, amplitude, phase in zip(omegas, amplitudes, phases):
        total += amplitude * np.sin(omega * n + phase)
    return total


def _distortion(rest: Array, omegas: Array, power: float) -> float | None:
    """Harmonics of a single tone, where sampling has folded them to, by one joint fit."""
    if len(omegas) != 1:
        return None
    apart = LEAST_LINES * 2 * np.pi / len(rest)
    places: list[float] = []
    for order in range(2, HARMONICS + 1):
        turned = (order * float(omegas[0])) % (2 * np.pi)
        folded = min(turned, 2 * np.pi - turned)
        taken = [0.0, np.pi, float(omegas[0]), *places]
        if all(abs(folded - other) > apart for other in taken):
            places.append(folded)
    if not places:
        return None
    found = fit_tones(rest, np.array(places))
    return 10 * float(np.log10(max(float(np.sum(found.amplitudes**2) / 2), SMALLEST * power) / power))
