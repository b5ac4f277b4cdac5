"""Phase that never slips, and group delay in closed form."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from combe.filters import Filter, Fir, Rational, rational_of
from combe.responses.evaluate import frequency_response, log_slope, rational_log_slope, signed_roots

Array = NDArray[np.float64]

LONG = 200
"""Taps beyond which evenly spaced frequencies are transformed instead of summed."""


def group_delay(source: Filter, omega: Array) -> Array:
    """−dφ/dω in samples, exactly, at angular frequencies ``omega``.

    A symmetric or antisymmetric FIR has the same delay everywhere, its zeros on the unit circle included.
    Elsewhere a zero on the circle leaves a gap, filled from both sides.
    """
    omega = np.asarray(omega, dtype=np.float64)
    if isinstance(source, Fir):
        if source.symmetry:
            return np.full(omega.shape, source.order / 2)
        delay = -log_slope(source, omega).imag
        lost = ~np.isfinite(delay)
        if np.any(lost):
            nudge = 1e-7
            sides = [-log_slope(source, omega[lost] + d).imag for d in (-nudge, nudge)]
            delay[lost] = (sides[0] + sides[1]) / 2
        return delay
    return np.asarray(-rational_log_slope(rational_of(source), omega).imag)


def unwrapped_phase(source: Filter, omega: Array) -> Array:
    """The continuous phase in radians at ascending frequencies from 0 to π.

    Crossing a zero on the unit circle adds π. At zero frequency the phase lies in (−π, π].
    """
    omega = np.asarray(omega, dtype=np.float64)
    if isinstance(source, Fir):
        return _followed(source, omega)
    rational = rational_of(source)
    start = _summed(rational, np.zeros(1))[0]
    return np.asarray(_summed(rational, omega) - 2 * np.pi * np.ceil((start - np.pi) / (2 * np.pi) - 1e-9))


def _summed(source: Rational, omega: Array) -> Array:
    """Each root's own phase is continuous in closed form, hence so is their sum."""
    total = -omega * source.delay + (np.pi if source.gain < 0 else 0.0)
    for root, sign in zip(*signed_roots(source)):
        radius, phi = abs(root), omega - np.angle(root)
        if radius <= 1:
            real = (1 - radius) + 2 * radius * np.sin(phi / 2) ** 2
            part = np.arctan2(radius * np.sin(phi), real)
        else:
            real = (1 - 1 / radius) + 2 / radius * np.sin(phi / 2) ** 2
            part = np.pi - phi + np.arctan2(-np.sin(phi) / radius, real)
        total = total + sign * part
    return np.asarray(total)


def _followed(source: Fir, omega: Array) -> Array:
    """Follow the phase, its linear part removed, along points set so close that no step reaches π."""
    center = source.order / 2
    dense = np.unique(np.concatenate([[0.0], omega, np.linspace(0, np.pi, 1 + 8 * len(source.taps))]))
    phase = _bare_phase(source, dense, center)
    # Of symmetric taps it stands still but for the turns at zeros on the circle, which need no following. Where the
    # symmetry makes a zero at an end, what lies beside it counts.
    if source.symmetry == -1:
        phase[0] = phase[1]
    if source.symmetry == (1 if source.order % 2 else -1) and dense[-1] >= np.pi:
        phase[-1] = phase[-2]
    for _ in range(0 if source.symmetry else 48):
        jumps = np.flatnonzero((np.abs(_wrapped(np.diff(phase))) > 1.0) & (np.diff(dense) > 1e-13))
        if len(jumps) == 0:
            break
        between = (dense[jumps] + dense[jumps + 1]) / 2
        dense = np.insert(dense, jumps + 1, between)
        phase = np.insert(phase, jumps + 1, _bare_phase(source, between, center))
    steps = _wrapped(np.diff(phase))
    steps = np.where(np.abs(np.abs(steps) - np.pi) < 1e-6, np.pi, steps)
    total = _wrapped(phase[:1])[0] + np.concatenate([[0.0], np.cumsum(steps)])
    return np.asarray(np.interp(omega, dense, total) - center * omega)


def _bare_phase(source: Fir, omega: Array, center: float) -> Array:
    count = len(omega) - 1
    if 2 * count >= len(source.taps) > LONG and np.array_equal(omega, np.linspace(0, np.pi, count + 1)):
        response = np.fft.rfft(source.array, 2 * count)
    else:
        response = frequency_response(source, omega)
    turned = response * np.exp(1j * center * omega)
    if source.symmetry:
        amplitude = turned.real if source.symmetry == 1 else turned.imag
        first = 0.0 if source.symmetry == 1 else np.pi / 2
        return np.where(amplitude < 0, first - np.pi, first)
    return np.asarray(np.angle(turned))


def _wrapped(angle: Array) -> Array:
    return np.asarray((angle + np.pi) % (2 * np.pi) - np.pi)
