"""Output noise: what all roundings together come to, predicted from the stages, and as a spectrum."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.linear import LinearProgram
from combe.analysis.rates import path_gain, path_power, phase_steps, rate_roundings, register_cuts, registers_of
from combe.realization.program import Program, Step
from combe.realization.stages import Realization

Array = NDArray[np.float64]


class Noise(Struct, frozen=True):
    """Powers at the output in squared output steps: the part that fluctuates, and the square of the constant part.

    ``shares`` holds each rounding's part of the first, by name.
    """

    fluctuating: float
    offset: float
    shares: tuple[tuple[str, float], ...]

    @property
    def power(self) -> float:
        """Both together."""
        return self.fluctuating + self.offset**2


def follows_signal(realization: Realization) -> bool:
    """Whether some rounding's error has the sign of its signal, so that it isn't noise that could be predicted by itself."""
    if realization.changes_rate:
        return any(step.rounding == "toward-zero" and step.shift > 0 for _, step in rate_roundings(realization))
    return any(step.rounding == "toward-zero" and step.shift > 0 for step in realization.program.steps)


def predicted_noise(realization: Realization) -> Noise:
    """Each rounding as an error of its own, white and independent (Jackson 1970), through its path to the output.

    Roundings that cut off the same bits of the same signal, as the two of a lattice do, are one error in two places.
    A rounding that drops b bits has variance (step² − finer²)/12 (Widrow & Kollár 2008) and, not to nearest, a mean.
    Energies of paths come from a Gramian, so that slow poles cost nothing.
    """
    if realization.changes_rate:
        return _rate_noise(realization)
    program = realization.program
    flow = LinearProgram.of(program)
    step = realization.output.step
    means = np.array([mean(each) for each in program.steps])
    shares = []
    for group in error_groups(program):
        first = program.steps[group[0][0]]
        if power := variance(first):
            shares.append((first.name, flow.energy(group) * power / step**2))
    offset = 0.0
    if np.any(means):
        _, back = flow.transfers(np.array([0.0]))
        offset = float(np.sum(back[0].real * means)) / step
    return Noise(float(sum(share for _, share in shares)), offset, tuple(shares))


def _rate_noise(realization: Realization) -> Noise:
    """Where the rate changes: each rounding through the stages behind it, on average over the phases."""
    unit = realization.output.step
    shares, offset = [], 0.0
    for index, step in rate_roundings(realization):
        behind = realization.stages[index + 1 :]
        phases = phase_steps(realization, index, step)
        if power := sum(map(variance, phases)) / len(phases):
            shares.append((step.name, path_power(behind) * power / unit**2))
        offset += path_gain(behind) * sum(map(mean, phases)) / len(phases) / unit
    for index, power, middle in register_cuts(realization):
        behind = realization.stages[index + 1 :]
        shares.append((registers_of(index), path_power(behind) * power / unit**2))
        offset += path_gain(behind) * middle / unit
    return Noise(float(sum(share for _, share in shares)), offset, tuple(shares))


def noise_power(realization: Realization) -> float:
    """Power of all roundings at the output, in squared output steps."""
    return predicted_noise(realization).power


def noise_density(realization: Realization, omega: Array) -> Array:
    """Predicted density at each frequency in squared output steps; its mean over 0 to π is the fluctuating power."""
    if realization.changes_rate:
        # Behind a drop of samples noise is folded often enough to be nearly white.
        return np.full(len(omega), _rate_noise(realization).fluctuating)
    program = realization.program
    _, back = LinearProgram.of(program).transfers(omega)
    total = np.zeros(len(omega))
    for group in error_groups(program):
        path = sum(sign * np.exp(-1j * later * omega) * back[:, step] for step, later, sign in group)
        total += np.abs(path) ** 2 * variance(program.steps[group[0][0]])
    return np.asarray(total / realization.output.step**2)


def error_groups(program: Program) -> list[list[tuple[int, int, float]]]:
    """Roundings as errors: each a list of (step, samples later, sign), of one entry where it stands alone."""
    groups: dict[object, list[tuple[int, int, float]]] = {}
    for index, step in enumerate(program.steps):
        if cut_bits(step) == 0:
            continue
        whole = 1 << step.shift
        cut = [(p.signal, p.delay, p.coefficient % whole, p.is_rest) for p in step.terms if p.coefficient % whole]
        least = min((delay for _, delay, _, _ in cut), default=0)
        if any(is_rest for *_, is_rest in cut):
            groups[index] = [(index, 0, 1.0)]
            continue
        key, sign = _same_bits([(signal, delay - least, factor) for signal, delay, factor, _ in cut], whole)
        kind = (key, step.result.fraction, step.shift, step.rounding)
        groups.setdefault(kind, []).append((index, least, sign))
    return [
        [(step, later - min(e[1] for e in group), sign) for step, later, sign in group] for group in groups.values()
    ]


def _same_bits(cut: list[tuple[int, int, int]], whole: int) -> tuple[object, float]:
    """What is cut off, up to its sign."""
    plain = tuple(sorted(cut))
    turned = tuple(sorted((signal, delay, whole - factor) for signal, delay, factor in cut))
    return (plain, 1.0) if plain <= turned else (turned, -1.0)


def cut_bits(step: Step) -> int:
    """Bits a rounding really cuts off: those that all products leave at zero don't count."""
    shared = min(((p.coefficient & -p.coefficient).bit_length() - 1 for p in step.terms if p.coefficient), default=0)
    return max(step.shift - shared, 0)


def variance(step: Step) -> float:
    """Variance of a rounding's error, as squared values, every pattern of the bits cut off equally likely."""
    bits = cut_bits(step)
    if bits == 0:
        return 0.0
    fine = 4.0**-bits
    if step.rounding == "toward-zero":  # errs by 0 to 1 step against the sign: over both signs the mean square
        discrete = 12 * (1 - 2.0**-bits) * (2 - 2.0**-bits) / 6
    elif step.rounding == "nearest-even":  # ties go up and down in turn
        discrete = 1 + 2 * fine
    else:
        discrete = 1 - fine
    return float(step.result.step**2 / 12 * discrete)


def mean(step: Step) -> float:
    """Mean of a rounding's error, as a value."""
    bits = cut_bits(step)
    if bits == 0:
        return 0.0
    if step.rounding == "floor":
        return float(-step.result.step * (1 - 2.0**-bits) / 2)
    return float(step.result.step * 2.0**-bits / 2) if step.rounding == "nearest-up" else 0.0
