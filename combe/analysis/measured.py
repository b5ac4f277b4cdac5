"""What roundings really add: the bit-true run against exact arithmetic on the same samples."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.linear import LinearProgram
from combe.realization.program import Program
from combe.realization.stages import Realization
from combe.running.random_integers import random_integers
from combe.running.run import run_program
from combe.running.simulate import check_samples, ideal_run, simulate

Array = NDArray[np.float64]


def measured_noise(realization: Realization, count: int = 1 << 16, level: float = 0.5, seed: int = 11) -> Measured:
    """The bit-true run against exact arithmetic on the same white samples: what roundings really add.

    Uniform samples at ``level`` of full scale; the exact filter of the same coefficients runs in double precision.
    """
    entry = realization.input
    raw = random_integers(count, entry, seed)
    middle = 0 if entry.signed else (entry.most + 1) // 2
    return measured_on(realization, np.asarray(middle + ((raw - middle) * level).astype(np.int64)))


class Measured(Struct, frozen=True, eq=False):
    """``error`` in output steps, sample by sample once the filter has settled, the power of the exact output there, and
    how often each step left its range."""

    error: Array
    signal_power: float
    overflows: tuple[tuple[str, int], ...]

    exact: Array | None = None

    @property
    def offset(self) -> float:
        """The constant part of the error, in output steps."""
        return float(np.mean(self.error)) if len(self.error) else 0.0

    @property
    def gain_change(self) -> float:
        """The part of the error that is the exact output once more, as a share of it (least squares)."""
        if self.exact is None or not len(self.error) or self.signal_power == 0:
            return 0.0
        signal = self.exact - np.mean(self.exact)
        square = float(signal @ signal)
        return float(signal @ self.error) / square if square else 0.0

    @property
    def power(self) -> float:
        """Mean square of the error."""
        return float(np.mean(self.error**2)) if len(self.error) else 0.0

    @property
    def signal_to_noise_db(self) -> float:
        """Power of the exact output over power of the error; infinite where nothing is rounded."""
        return (
            float(10 * np.log10(self.signal_power / self.power)) if self.power and self.signal_power else float("inf")
        )

    def density(self, segment: int = 1024) -> tuple[Array, Array]:
        """Frequencies from 0 to π and the density there: averaged windowed segments that overlap by half (Welch 1967). An error
        of fewer samples than the shortest segment, behind a large drop of rate, is one segment; none has no density."""
        from scipy import fft

        if not len(self.error):
            return np.linspace(0, np.pi, 9), np.zeros(9)
        segment = min(segment, max(16, len(self.error) // 2), len(self.error))
        window = np.sin(np.pi * (np.arange(segment) + 0.5) / segment) ** 2
        starts = range(0, len(self.error) - segment + 1, max(segment // 2, 1))
        parts = np.array([self.error[k : k + segment] for k in starts])
        parts = parts - np.mean(self.error)
        power = np.mean(np.abs(fft.rfft(parts * window, axis=1)) ** 2, axis=0) / np.sum(window**2)
        return np.linspace(0, np.pi, len(power)), np.asarray(power)


def measured_on(realization: Realization, samples: NDArray[np.int64]) -> Measured:
    """The error of the bit-true run on any samples."""
    if realization.changes_rate:
        return _rates_measured(realization, samples)
    program = realization.program
    signal = check_samples(samples, realization.input)
    run = run_program(program, signal)
    exact = exact_run(program, signal.astype(np.float64) * realization.input.step) / realization.output.step
    skip = min(len(signal) // 4, 4096)
    error = run.output.astype(np.float64) - exact
    over = tuple((step.name, count) for step, count in zip(program.steps, run.overflows) if count)
    return Measured(error[skip:], float(np.mean(exact[skip:] ** 2)), over, exact[skip:])


def _rates_measured(realization: Realization, samples: NDArray[np.int64]) -> Measured:
    """The same where the rate changes; overflows inside are not counted there."""
    from combe.analysis.exact import exact_filter

    output = simulate(realization, samples)
    exact = ideal_run(exact_filter(realization), realization, samples)
    skip = min(len(output) // 4, 4096)
    error = output.astype(np.float64) - exact
    return Measured(error[skip:], float(np.mean(exact[skip:] ** 2)), (), exact[skip:])


def exact_run(program: Program, signal: Array) -> Array:
    """The same sums on real values with nothing rounded."""
    from combe.analysis.linear_run import run_linear

    return run_linear(LinearProgram.of(program), signal)
