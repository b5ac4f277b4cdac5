"""Signals that fill the band: noise that falls with frequency, and sequences that have every word once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
PRIMITIVE = {
    2: (1,), 3: (1,), 4: (1,), 5: (2,), 6: (1,), 7: (1,), 8: (4, 3, 2), 9: (4,), 10: (3,), 11: (2,), 12: (6, 4, 1),
    13: (4, 3, 1), 14: (5, 3, 1), 15: (1,), 16: (5, 3, 2), 17: (3,), 18: (7,), 19: (5, 2, 1), 20: (3,), 21: (2,), 22: (1,),
    23: (5,), 24: (4, 3, 1),
}  # fmt: skip
"""Exponents between the highest and 0 of a primitive polynomial over two elements, by degree (Watson 1962)."""


def pink_noise(random: np.random.RandomState, count: int) -> Array:
    """Noise whose power falls by 3 dB an octave from one period of the whole signal up: white, shaped in frequency."""
    size = max(count, 2)
    spectrum = np.fft.rfft(random.standard_normal(size))
    shape = np.zeros(len(spectrum))
    shape[1:] = 1 / np.sqrt(np.arange(1, len(spectrum)))
    return np.asarray(np.fft.irfft(spectrum * shape, size)[:count])


def maximum_length(bits: int, count: int) -> Array:
    """±1 from a shift register of so many bits: each period of 2^bits − 1 has every word but zero once."""
    length = min(count, (1 << bits) - 1)
    return np.resize(1.0 - 2.0 * register_bits(bits, length), count)


def register_bits(bits: int, length: int) -> NDArray[np.int8]:
    """What falls out of the register, at most one period of it, by the recurrence of the polynomial.

    Over two elements the square of a polynomial has the same exponents doubled, so that the same sequence also obeys the
    recurrence with all its lags times a power of two: the longer the sequence, the longer the pieces it grows by.
    """
    lags = np.array([bits, *PRIMITIVE[bits]])
    found = np.empty(max(length, bits), dtype=np.int8)
    found[:bits] = 1
    known = bits
    while known < length:
        while 2 * lags[0] <= known:
            lags = 2 * lags
        piece = min(int(lags[-1]), length - known)
        found[known : known + piece] = np.bitwise_xor.reduce([found[known - lag : known - lag + piece] for lag in lags])
        known += piece
    return found[:length]
