"""From an analog prototype to digital roots: band transformation and bilinear transform, root by root."""

from __future__ import annotations

from math import atan, inf

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.classic.prototypes import Prototype
from combe.errors import DesignError
from combe.filters import Rational
from combe.responses.evaluate import rational_response

ComplexArray = NDArray[np.complex128]
LARGEST = 1e300


class Placement(Struct, frozen=True):
    """Where a prototype goes: ``scale`` is the prewarped frequency (or width) its Ω = 1 stands for."""

    shape: str
    scale: float
    center: float = 1.0


def digital_roots(prototype: Prototype, place: Placement, gain: float) -> Rational:
    """The digital filter, its gain ``gain`` where the prototype's is that at Ω = 0.

    Source: Constantinides (1970), "Spectral transformations for digital filters"; the quadratics of the two-edged
    shapes are solved for the larger root first, so that nothing cancels however narrow the band.
    """
    poles = to_z(_transformed(prototype.poles, place))
    zeros = to_z(_on_axis(_transformed(prototype.zeros, place)))
    missing = len(prototype.poles) - len(prototype.zeros)
    zeros = np.concatenate([zeros, _at_infinity(place, missing)])
    bare = Rational(1.0, 0, zeros, poles)
    reference = {"lowpass": 0.0, "bandstop": 0.0, "highpass": np.pi}.get(place.shape, 2 * atan(place.center))
    with np.errstate(over="ignore"):
        value = abs(rational_response(bare, np.array([reference]))[0])
    if not 0 < value < LARGEST:
        what = "the gain in front of these sections lies below what double precision holds"
        raise DesignError(what, "order", "lower the order, or bring the band nearer to a quarter of the sample rate")
    return Rational(gain / value, 0, zeros, poles)


def _transformed(roots: ComplexArray, place: Placement) -> ComplexArray:
    """Prototype roots to analog roots of the wanted shape."""
    if place.shape == "lowpass":
        return roots * place.scale
    if place.shape == "highpass":
        return np.asarray(1 / (roots * place.scale))
    half = roots * place.scale / 2 if place.shape == "bandpass" else 1 / (2 * roots * place.scale)
    square = place.center**2
    root = np.sqrt(half * half - square)
    larger = np.where(np.real(half * root.conj()) >= 0, half + root, half - root)
    return np.concatenate([larger, square / larger])


def _at_infinity(place: Placement, count: int) -> ComplexArray:
    """Digital zeros that stand for a prototype's zeros at infinity."""
    if place.shape == "lowpass":
        return np.full(count, -1.0 + 0j)
    if place.shape == "highpass":
        return np.full(count, 1.0 + 0j)
    if place.shape == "bandpass":
        return np.concatenate([np.full(count, 1.0 + 0j), np.full(count, -1.0 + 0j)])
    angle = 2 * atan(place.center)
    return np.concatenate([np.full(count, np.exp(1j * angle)), np.full(count, np.exp(-1j * angle))])


def _on_axis(roots: ComplexArray) -> ComplexArray:
    return np.asarray(1j * roots.imag)


def to_z(s: ComplexArray) -> ComplexArray:
    """z = (1 + s)/(1 − s); roots on the imaginary axis come to lie on the unit circle itself."""
    s = np.asarray(s, dtype=np.complex128)
    on_axis = s.real == 0
    angle = 2 * np.arctan(s.imag)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(np.where(on_axis, np.exp(1j * angle), (1 + s) / (1 - s)))


__all__ = ["Placement", "digital_roots", "inf", "to_z"]
