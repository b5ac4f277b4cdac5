"""The complex response at any frequency, and its logarithmic derivative, both in closed form."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from combe.files import FLOOR_DB
from combe.filters import Filter, Fir, Rational, rational_of
from combe.remembered import remembered

Array = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
CHUNK = 2_000_000
TRANSFORMED = 1_000_000
"""Products beyond which evenly spaced frequencies are summed by transforms."""


def frequency_response(source: Filter | Rational, omega: Array) -> ComplexArray:
    """H(e^{jω}) at angular frequencies ``omega`` in radians per sample (any shape)."""
    omega = np.asarray(omega, dtype=np.float64)
    if isinstance(source, Fir):
        flat = omega.ravel()
        shift = np.exp(-0.5j * source.order * flat)
        return np.asarray(response_and_derivatives(source, flat)[0] * shift, dtype=np.complex128).reshape(omega.shape)
    return rational_response(_rational(source), omega.ravel()).reshape(omega.shape)


def log_slope(source: Filter | Rational, omega: Array) -> ComplexArray:
    """d ln H/dω: the real part is the slope of ln|H|, the negated imaginary part the group delay in samples.

    Not finite where a FIR is zero.
    """
    omega = np.asarray(omega, dtype=np.float64).ravel()
    if isinstance(source, Fir):
        value, derivative, _ = response_and_derivatives(source, omega)
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(derivative / value - 0.5j * source.order)
    return rational_log_slope(_rational(source), omega)


def gain_db(response: ComplexArray | Array) -> Array:
    """20·log10|H|, floored at ``FLOOR_DB``."""
    floor = 10 ** (FLOOR_DB / 20)
    return 20 * np.log10(np.maximum(np.abs(response), floor))


@remembered(8 << 20)
def uniform_response(source: Filter, count: int) -> ComplexArray:
    """H at ``count`` frequencies evenly from 0 to π, both ends included: one FFT for a FIR."""
    if isinstance(source, Fir) and count > 1 and 2 * (count - 1) >= len(source.taps):
        return np.asarray(np.fft.rfft(source.array, 2 * (count - 1)), dtype=np.complex128)
    return frequency_response(source, np.linspace(0, np.pi, count))


def uniform_derivative(source: Fir, count: int) -> ComplexArray:
    """dH/dω on the grid of ``uniform_response``."""
    weighted = np.arange(len(source.taps)) * source.array
    return np.asarray(-1j * np.fft.rfft(weighted, 2 * (count - 1)), dtype=np.complex128)


def rational_response(source: Rational, omega: Array) -> ComplexArray:
    """H from logarithms of the distances to every root, so that no order overflows."""
    roots, counts = signed_roots(source)
    logarithm = -1j * omega * source.delay
    blocked = np.zeros(omega.shape, dtype=bool)
    for part in _parts(len(omega), len(roots)):
        square, imaginary, real = _distances(roots, omega[part])
        at_root = square == 0
        blocked[part] = np.any(at_root & (counts > 0), axis=1)
        size = np.log(np.where(at_root, 1e-300, square)) @ (counts / 2)
        logarithm[part] += size + 1j * (np.arctan2(imaginary, real) @ counts)
    return np.asarray(np.where(blocked, 0, source.gain * np.exp(logarithm)), dtype=np.complex128)


def rational_log_slope(source: Rational, omega: Array) -> ComplexArray:
    """d ln H/dω as a sum over the roots."""
    roots, counts = signed_roots(source)
    radius = np.abs(roots)
    total = np.full(omega.shape, -1j * source.delay, dtype=np.complex128)
    for part in _parts(len(omega), len(roots)):
        square, imaginary, real = _distances(roots, omega[part])
        # Right at a root on the circle the level has no slope; the delay of a zero there is half a sample all over.
        safe = np.where(square == 0, 1.0, square)
        slope = np.where(square == 0, 0.0, imaginary / safe)
        delay = np.where(radius == 1, 0.5, (square - real) / safe)
        total[part] += slope @ counts - 1j * (delay @ counts)
    return total


def signed_roots(source: Rational) -> tuple[ComplexArray, Array]:
    """Every different root, and how many zeros it stands for (poles count negative)."""
    roots = np.concatenate([source.zeros, source.poles])
    signs = np.concatenate([np.ones(len(source.zeros)), -np.ones(len(source.poles))])
    if len(roots) == 0:
        return roots, signs
    different, where = np.unique(roots, return_inverse=True)
    counts = np.zeros(len(different))
    np.add.at(counts, where.ravel(), signs)
    return different, counts


def _parts(points: int, roots: int) -> list[slice]:
    step = max(1, CHUNK // (4 * max(roots, 1)))
    return [slice(first, first + step) for first in range(0, points, step)]


def _distances(roots: ComplexArray, omega: Array) -> tuple[Array, Array, Array]:
    """|1 − root·e^{−jω}|², its imaginary and real part, without cancellation when the root lies near the circle.

    One row per frequency, one column per root.
    """
    radius = np.abs(roots)
    half = (omega[:, None] - np.angle(roots)[None, :]) / 2
    sine = np.sin(half)
    bend = 2 * radius * sine * sine
    square = (1 - radius) ** 2 + 2 * bend
    return square, radius * 2 * sine * np.cos(half), (1 - radius) + bend


def _rational(source: Filter | Rational) -> Rational:
    if isinstance(source, Rational):
        return source
    assert not isinstance(source, Fir)
    return rational_of(source)


def response_and_derivatives(source: Fir, omega: Array) -> tuple[ComplexArray, ComplexArray, ComplexArray]:
    """H, dH/dω and d²H/dω², all turned by the same phase, that of a delay to the middle tap.

    By direct summation about the middle tap, where the terms of a symmetric filter pair up into real sums; the
    derivatives are those of H with that linear phase taken out, which leaves |H| and its slopes as they are.
    """
    taps = source.array
    offset = np.arange(len(taps)) - (len(taps) - 1) / 2
    symmetry = source.symmetry
    if symmetry:
        right = offset >= 0
        weight = np.where(offset[right] == 0, 1.0, 2.0) * taps[right]
        offset = offset[right]
        columns = np.column_stack([weight, weight * offset, weight * offset**2])
    else:
        columns = np.column_stack([taps, taps * offset, taps * offset**2])
    if not symmetry and len(taps) * len(omega) > TRANSFORMED:
        steps = np.diff(omega)
        if np.ptp(steps) <= 1e-9 * abs(steps[0]):
            turned = np.exp(1j * omega * ((len(taps) - 1) / 2))
            sums = turned * np.array([_chirped(column, omega) for column in columns.T])
            return sums[0], -1j * sums[1], -sums[2]
    found = np.empty((3, len(omega)), dtype=np.complex128)
    step = max(1, CHUNK // len(taps))
    for first in range(0, len(omega), step):
        part = slice(first, first + step)
        found[:, part] = _summed(symmetry, np.outer(omega[part], offset), columns)
    return found[0], found[1], found[2]


def _chirped(values: Array, omega: Array) -> ComplexArray:
    """Σ values[n]·e^(−jωn) at even steps of ω, as one convolution with a chirp (Bluestein 1970)."""
    count, points = len(values), len(omega)
    step = (omega[-1] - omega[0]) / (points - 1)
    n = np.arange(max(count, points), dtype=np.float64)
    chirp = np.exp(0.5j * step * n * n)
    size = 1 << int(np.ceil(np.log2(count + points - 1)))
    first = np.fft.fft(values * np.exp(-1j * omega[0] * n[:count]) / chirp[:count], size)
    kernel = np.zeros(size, dtype=np.complex128)
    kernel[:points] = chirp[:points]
    kernel[size - count + 1 :] = chirp[1:count][::-1]
    return np.asarray(np.fft.ifft(first * np.fft.fft(kernel))[:points] / chirp[:points])


def _summed(symmetry: int, phase: Array, columns: Array) -> ComplexArray:
    if symmetry == 1:
        cosine = np.cos(phase) @ columns[:, ::2]
        sine = np.sin(phase) @ columns[:, 1]
        return np.array([cosine[:, 0], -sine, -cosine[:, 1]], dtype=np.complex128)
    if symmetry == -1:
        sine = np.sin(phase) @ columns[:, ::2]
        cosine = np.cos(phase) @ columns[:, 1]
        return -1j * np.array([sine[:, 0], cosine, -sine[:, 1]])
    sums = np.exp(-1j * phase) @ columns
    return np.array([sums[:, 0], -1j * sums[:, 1], -sums[:, 2]])
