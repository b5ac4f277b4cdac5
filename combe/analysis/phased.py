"""What follows from a network with a phase: every sum is a polynomial of the place between two samples, over a few samples of the input."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.linear import Norms
from combe.designing.rates.stages import RateStage
from combe.realization.network import Network
from combe.realization.term import INPUT

Array = NDArray[np.float64]


class Polynomials(Struct, frozen=True, eq=False):
    """Of every sum, in the order of the nodes: ``taps`` by power and sample, and ``errors`` by the sum that is rounded and by power: what
    an error of one there adds."""

    taps: tuple[Array, ...]
    errors: tuple[Array, ...]


@lru_cache(maxsize=64)
def polynomials_of(network: Network) -> Polynomials:
    """All of them, one sum after the other."""
    samples = max((term.delay for node in network.nodes for term in node.terms), default=0) + 1
    count = len(network.nodes)
    powers = 1 + sum(any(term.is_turned for term in node.terms) for node in network.nodes)
    taps = {node.name: np.zeros((powers, samples)) for node in network.nodes}
    errors = {node.name: np.zeros((count, powers)) for node in network.nodes}
    for index, node in enumerate(network.nodes):
        for term in node.terms:
            if term.signal == INPUT:
                taps[node.name][0, term.delay] += term.value
            elif term.is_turned:
                taps[node.name][1:] += taps[term.signal][:-1]
                errors[node.name][:, 1:] += errors[term.signal][:, :-1]
            else:
                taps[node.name] += term.value * taps[term.signal]
                errors[node.name] += term.value * errors[term.signal]
        errors[node.name][index, 0] += 1
    return Polynomials(tuple(taps.values()), tuple(errors.values()))


def phase_values(network: Network) -> Array:
    """Where outputs lie, as values between -1 and 1."""
    assert network.phase is not None
    return np.array(network.phases) * network.phase.step


def stage_of(network: Network, index: int) -> RateStage:
    """From the input to a sum, as taps that follow polynomials at the network's own places."""
    taps = polynomials_of(network).taps[index]
    used = np.flatnonzero(np.any(taps, axis=1))
    kept = taps[: used[-1] + 1] if len(used) else taps[:1]
    return RateStage(
        "farrow", network.up, network.down, branches=tuple(tuple(row) for row in kept.tolist()), at=tuple(phase_values(network).tolist())
    )  # fmt: skip


def output_index(network: Network) -> int:
    """The place of the node that is handed on."""
    return next(index for index, node in enumerate(network.nodes) if node.name == network.output)


@lru_cache(maxsize=64)
def error_gains(network: Network) -> tuple[Array, ...]:
    """Of every sum: what an error of one in each of the sums adds, by that sum and by phase."""
    found = polynomials_of(network)
    powers = np.vander(phase_values(network), found.errors[0].shape[1], increasing=True)
    return tuple(own @ powers.T for own in found.errors)


def error_norms(network: Network) -> tuple[Norms, ...]:
    """Of an error in each sum: the most it adds to every sum, and the most it takes away, whatever the phase."""
    gains = np.array(error_gains(network))
    none = np.zeros(len(network.nodes))
    return tuple(
        Norms(
            np.maximum(np.max(gains[:, source], axis=1), 0), np.minimum(np.min(gains[:, source], axis=1), 0), none,
            np.mean(gains[:, source] ** 2, axis=1),
        )
        for source in range(len(network.nodes))
    )  # fmt: skip
