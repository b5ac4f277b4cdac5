"""Output noise: what all roundings together come to, predicted from the stages, and as a spectrum."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.linear import LinearProgram
from combe.analysis.network_paths import roundings
from combe.analysis.rates import path_gain, path_power, phase_steps, rate_roundings, register_cuts, registers_of
from combe.analysis.rounding_errors import error_groups, mean, variance
from combe.realization.network import Network
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
        networks = [stage for stage in realization.stages if isinstance(stage, Network)]
        return any(step.rounding == "toward-zero" and step.shift > 0 for _, step in rate_roundings(realization)) or any(
            node.rounding == "toward-zero" and node.shift > 0 for network in networks for node in network.nodes
        )
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
    for index, stage in enumerate(realization.stages):
        if isinstance(stage, Network):
            _add_network(realization, index, stage, shares, unit)
            offset += sum(
                path_gain(realization.stages[index + 1 :], (one.path,)) * one.mean / unit
                for one in roundings(stage) if one.mean
            )  # fmt: skip
    for index, power, middle in register_cuts(realization):
        behind = realization.stages[index + 1 :]
        shares.append((registers_of(index), path_power(behind) * power / unit**2))
        offset += path_gain(behind) * middle / unit
    return Noise(float(sum(share for _, share in shares)), offset, tuple(shares))


def _add_network(
    realization: Realization, index: int, stage: Network, shares: list[tuple[str, float]], unit: float
) -> None:  # fmt: skip
    """What the roundings inside a network come to at the output, each by the name of its sum."""
    for one in roundings(stage):
        if one.variance:
            power = path_power(realization.stages[index + 1 :], (one.path,)) * one.variance / unit**2
            shares.append((stage.title(index, stage.nodes[one.index]), power))


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
