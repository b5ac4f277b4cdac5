"""Window shapes by name, each as a function of its length and, where it has one, its parameter.

Sources: Harris (1978), "On the use of windows for harmonic analysis with the discrete Fourier transform"; Nuttall
(1981), "Some windows with very good sidelobe behavior"; Kaiser (1974), "Nonrecursive digital filter design using the
I0-sinh window function"; Dolph (1946), "A current distribution for broadside arrays".
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.settings import WINDOW_BETA as BETA
from combe.designing.settings import WINDOW_DOWN as DOWN
from combe.designing.settings import WINDOW_SIGMA as SIGMA
from combe.designing.settings import WINDOW_TAPER as TAPER
from combe.designing.task import Setting

Array = NDArray[np.float64]


class Shape(Struct, frozen=True):
    """A window. ``lobe`` is roughly the width of its main lobe in bins; ``parameter`` what may be chosen."""

    name: str
    method: str
    summary: str
    lobe: float
    make: Callable[[int, float], Array]
    parameter: Setting | None = None


def _phase(count: int) -> Array:
    return 2 * np.pi * (np.arange(count) + 0.0) / max(count - 1, 1)


def _cosines(*terms: float) -> Callable[[int, float], Array]:
    """Σ (−1)^k a_k cos(k·2πn/(N−1))."""

    def make(count: int, parameter: float) -> Array:
        if count == 1:
            return np.ones(1)
        angle = _phase(count)
        found = np.zeros(count)
        for k, term in enumerate(terms):
            found += (-1) ** k * term * np.cos(k * angle)
        return found / sum(terms)

    return make


def _rectangular(count: int, parameter: float) -> Array:
    return np.ones(count)


def kaiser(count: int, beta: float) -> Array:
    """I0(β√(1 − t²))/I0(β)."""
    # Imported late: the window opens without it.
    from scipy.special import i0e

    t = np.linspace(-1, 1, count) if count > 1 else np.zeros(1)
    inner = beta * np.sqrt(np.maximum(1 - t * t, 0))
    return np.asarray(i0e(inner) * np.exp(inner - beta) / i0e(beta))


def dolph(count: int, attenuation_db: float) -> Array:
    """The narrowest main lobe for side lobes ``attenuation_db`` down: T_(N−1)(x0 cos(ω/2)) transformed."""
    if count < 3:
        return np.ones(count)
    order = count - 1
    x0 = np.cosh(np.arccosh(10 ** (attenuation_db / 20)) / order)
    x = x0 * np.cos(np.pi * np.arange(count) / count)
    inside = np.cos(order * np.arccos(np.clip(x, -1, 1)))
    outside = np.cosh(order * np.arccosh(np.maximum(np.abs(x), 1)))
    value = np.where(np.abs(x) <= 1, inside, np.sign(x) ** order * outside) / 10 ** (attenuation_db / 20)
    k = np.arange(count)
    spectrum = value * np.exp(-1j * np.pi * k * order / count)
    # Samples beyond half the rate repeat with the sign an even count brings.
    found = np.real(np.fft.ifft(spectrum))
    return np.asarray((found + found[::-1]) / (2 * np.max(found)))


def _gauss(count: int, sigma: float) -> Array:
    t = np.linspace(-1, 1, count) if count > 1 else np.zeros(1)
    return np.asarray(np.exp(-0.5 * (t / sigma) ** 2))


def _tukey(count: int, taper: float) -> Array:
    t = np.abs(np.linspace(-1, 1, count)) if count > 1 else np.zeros(1)
    if taper <= 0:
        return np.ones(count)
    return np.where(t <= 1 - taper, 1.0, 0.5 * (1 + np.cos(np.pi * np.clip(t - 1 + taper, 0, taper) / taper)))


SHAPES = (
    Shape("Kaiser", "kaiser", "windowed ideal response, ripple set by one parameter", 2.0, kaiser, BETA),
    Shape("Dolph-Chebyshev", "dolph-chebyshev", "windowed, side lobes of the window all alike", 2.0, dolph, DOWN),
    Shape("rectangular", "rectangular-window", "the ideal response cut off", 1.0, _rectangular),
    Shape("Hann", "hann-window", "windowed by a raised cosine", 2.0, _cosines(0.5, 0.5)),
    Shape("Hamming", "hamming-window", "windowed, first side lobe cancelled", 2.0, _cosines(0.54, 0.46)),
    Shape("Blackman", "blackman-window", "windowed by three cosine terms", 3.0, _cosines(0.42, 0.5, 0.08)),
    Shape("Blackman-Harris", "blackman-harris-window", "windowed by four terms, least side lobes", 4.0,
          _cosines(0.35875, 0.48829, 0.14128, 0.01168)),
    Shape("Nuttall", "nuttall-window", "windowed by four terms, with a continuous first derivative", 4.0,
          _cosines(0.355768, 0.487396, 0.144232, 0.012604)),
    Shape("flat-top", "flat-top-window", "windowed by five terms made for reading levels", 5.0,
          _cosines(0.21557895, 0.41663158, 0.277263158, 0.083578947, 0.006947368)),
    Shape("Gauss", "gauss-window", "windowed by a bell, no overshoot worth the name", 3.0, _gauss, SIGMA),
    Shape("Tukey", "tukey-window", "windowed by a flat top with cosine ends", 1.5, _tukey, TAPER),
)  # fmt: skip
