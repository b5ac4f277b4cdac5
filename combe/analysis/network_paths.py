"""What a network beside a change of rate does, as taps: from its input to each of its sums, and from each rounding to what it gives.

Impulse responses of stable networks end for all that doubles can tell; a network that changes the rate is taken at the higher one,
where all of its delays inside are multiples of the factor.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.linear import LinearProgram, Norms
from combe.analysis.phased import error_gains, error_norms, output_index, stage_of
from combe.analysis.rounding_errors import error_groups, mean, variance
from combe.designing.rates.stages import RateStage
from combe.errors import FormatError
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.program import Program, Step, stages_program
from combe.realization.term import INPUT

Array = NDArray[np.float64]
TAIL = 1e-18
LONGEST = 1 << 17
BLOCK = 64
FORM = "half-band"
SAME = 1e-13
"""Impulse responses that differ by less are those of the same filter."""


class Rounded(Struct, frozen=True):
    """One rounding inside: its step, variance and mean as values, and the stage that its error goes through."""

    step: Step
    index: int
    variance: float
    mean: float
    path: RateStage


@lru_cache(maxsize=64)
def network_stage(network: Network) -> RateStage:
    """The network as taps between stuffing and dropping; as two allpasses where it is a half-band of these.

    Raises
    ------
    FormatError
        If it isn't stable.
    """
    if network.phase is not None:
        return stage_of(network, output_index(network))
    flow = LinearProgram.of(own_program(network))
    taps = _response(flow, [(0, 0, 1.0)], flow.output)
    return _half_band(network, taps) or RateStage("taps", network.up, network.down, tuple(taps.tolist()))


def _half_band(network: Network, taps: Array) -> RateStage | None:
    """The two allpasses whose half-band does the same, where its sums look like theirs."""
    if network.form != FORM or {network.up, network.down} != {1, 2}:
        return None
    ways = []
    for mark in "eo":
        products = [node.terms[0] for node in network.nodes if node.name[0] == mark]
        ways.append(tuple(term.value for term in products))
    if any(abs(value) >= 1 for way in ways for value in way):
        return None
    found = RateStage("allpass", network.up, network.down, even=ways[0], odd=ways[1])
    own = found.prototype() * network.up
    length = max(len(own), len(taps))
    apart = np.pad(own, (0, length - len(own))) - np.pad(taps, (0, length - len(taps)))
    return found if float(np.max(np.abs(apart))) < SAME else None


@lru_cache(maxsize=64)
def stages_to_sums(network: Network) -> tuple[RateStage, ...]:
    """From the input to every sum, each at the rate at which it is computed."""
    if network.phase is not None:
        return tuple(stage_of(network, index) for index in range(len(network.nodes)))
    flow = LinearProgram.of(own_program(network))
    found = []
    for place, node in enumerate(network.nodes):
        taps = _response(flow, [(0, 0, 1.0)], place + 1)
        if network.up > 1 and node.name != network.output:
            taps = taps[:: network.up]
            found.append(RateStage("taps", 1, 1, tuple(taps.tolist())))
        else:
            found.append(RateStage("taps", network.up, network.down, tuple(taps.tolist())))
    return tuple(found)


@lru_cache(maxsize=64)
def roundings(network: Network) -> tuple[Rounded, ...]:
    """Every rounding, those that cut the same bits together, with what becomes of it at the network's output."""
    if network.phase is not None:
        return tuple(_phased_roundings(network))
    program = own_program(network)
    flow = LinearProgram.of(program)
    found = []
    for group in error_groups(program):
        first = group[0][0]
        step = program.steps[first]
        if network.up > 1 and first + 1 == program.output:
            found.append(_at_the_output(step, first, network.up))
            continue
        taps = _response(flow, [(each + 1, later, sign) for each, later, sign in group], program.output)
        found.append(Rounded(step, first, variance(step), 0.0, _path(network, taps)))
    # Means belong to each step, not to a group.
    outward = paths_out(network)
    for index, step in enumerate(program.steps):
        if (middle := mean(step)) and not (network.up > 1 and index + 1 == program.output):
            found.append(Rounded(step, index, 0.0, middle, outward[index]))
    return tuple(found)


def _phased_roundings(network: Network) -> list[Rounded]:
    """Of a network with a phase: an output's errors are its own, each by the powers of the phase that follow, on average over the phases."""
    program = own_program(network)
    output = output_index(network)
    gains = error_gains(network)[output]
    found = []
    # What is always cut off alike moves with the phase: of that the mean is constant, and the rest comes and goes.
    offsets = sum(mean(step) * row for step, row in zip(program.steps, gains))
    if moving := float(np.var(offsets)):
        found.append(Rounded(program.steps[output], output, moving, 0.0, RateStage("taps", 1, 1, (1.0,))))
    for index, step in enumerate(program.steps):
        rms, average = float(np.sqrt(np.mean(gains[index] ** 2))), float(np.mean(gains[index]))
        if power := variance(step):
            found.append(Rounded(step, index, power, 0.0, RateStage("taps", 1, 1, (rms,))))
        if middle := mean(step):
            found.append(Rounded(step, index, 0.0, middle, RateStage("taps", 1, 1, (average,))))
    return found


def _path(network: Network, taps: Array) -> RateStage:
    """Errors come at the lower rate: behind them an output takes every factor-th place, or is one of the phases."""
    if network.up > 1:
        return RateStage("taps", network.up, 1, tuple(taps.tolist()))
    return RateStage("taps", 1, 1, tuple(taps[:: network.down].tolist()))


@lru_cache(maxsize=64)
def paths_out(network: Network) -> tuple[RateStage, ...]:
    """From the error of each sum to the network's output; of a network with a phase the most of any phase, of either sign."""
    if network.phase is not None:
        gains = error_gains(network)[output_index(network)]
        return tuple(RateStage("taps", 1, 1, (float(np.max(np.abs(row))),)) for row in gains)
    program = own_program(network)
    flow = LinearProgram.of(program)
    return tuple(
        RateStage("taps", 1, 1, (1.0,)) if network.up > 1 and index + 1 == program.output
        else _path(network, _response(flow, [(index + 1, 0, 1.0)], program.output))
        for index in range(len(program.steps))
    )  # fmt: skip


def _at_the_output(step: Step, index: int, up: int) -> Rounded:
    """Each phase rounds the terms that reach it alone."""
    phases = [
        Step(step.name, terms, step.accumulator, step.result, step.rounding, step.overflow, step.stage)
        for phase in range(up)
        if (terms := tuple(term for term in step.terms if term.delay % up == phase))
    ]
    power, middle = sum(map(variance, phases)) / up, sum(map(mean, phases)) / up
    return Rounded(step, index, power, middle, RateStage("taps", 1, 1, (1.0,)))


@lru_cache(maxsize=64)
def norms(network: Network) -> tuple[Norms, ...]:
    """Of the answers of all sums to an error of each."""
    if network.phase is not None:
        return error_norms(network)
    program = own_program(network)
    return tuple(LinearProgram.of(program).norms_of(list(range(1, len(program.steps) + 1))))


def own_program(network: Network) -> Program:
    """The network by itself at its higher rate; the gains in it don't depend on what arrives. One with a phase at the place farthest from
    the middle, where products have the most bits."""
    if network.phase is not None:
        network = network.at_phase(max(network.phases, key=lambda phase: (phase % 2, abs(phase))))
    room = [
        node.accumulator.fraction - term.format.fraction
        for node in network.nodes
        for term in node.terms
        if term.signal == INPUT
    ]
    return stages_program((network,), Format(True, 16, min(room, default=0)))


def _response(flow: LinearProgram, errors: list[tuple[int, int, float]], at: int) -> Array:
    """The answer of one sum to an impulse that enters at several places (0 the input, k + 1 the error of step k), some samples later
    and with a sign each, as far as anything is left of it."""
    A, B, C, D = flow.state_space
    if flow.radius >= 1:
        raise FormatError("a network beside a change of rate grows without bound", "stages", "give a stable one")
    state, found = np.zeros(len(A)), list[float]()
    last = max(later for _, later, _ in errors)
    row, through = C[at - 1], D[at - 1]
    largest = 0.0
    while True:
        for n in range(len(found), len(found) + BLOCK):
            now = [(place, sign) for place, later, sign in errors if later == n]
            found.append(float(row @ state + sum(sign * through[place] for place, sign in now)))
            state = A @ state + sum((sign * B[:, place] for place, sign in now), np.zeros(len(A)))
        largest = max(largest, max(map(abs, found[-BLOCK:])), float(np.max(np.abs(state), initial=0.0)))
        if len(found) > last and float(np.max(np.abs(state), initial=0.0)) <= TAIL * largest:
            break
        if len(found) >= LONGEST:
            raise FormatError(
                "a network beside a change of rate rings too long to be looked at", "stages", "move its poles inwards"
            )
    values = np.array(found)
    used = np.flatnonzero(np.abs(values) > TAIL * max(largest, 1e-300))
    return values[: used[-1] + 1] if len(used) else np.zeros(1)
