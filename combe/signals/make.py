"""A signal as a converter hands it over: parts added up, rounded into the input's format, saturated.

Random parts come from generators whose streams are frozen, one for each seed and place in the list.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.errors import FileError
from combe.realization.formats import Format
from combe.signals.modulation import Modulated
from combe.signals.recordings import SoundFile, length_of, recorded, recording_file
from combe.signals.sheets import SheetFile
from combe.signals.sources import PIECE, WHOLE_KINDS, Source, generator, source_of
from combe.signals.spec import MOST_SAMPLES, MOST_WHOLE, Signal

Array = NDArray[np.float64]


class Made(Struct, frozen=True, eq=False):
    """Raw integers, how many were clipped, and what is known of modulated parts for a receiver."""

    raw: NDArray[np.int64]
    clipped: int
    modulated: tuple[Modulated, ...]


class Converter:
    """What turns a signal into raw integers of an input: rounded to nearest (ties to even) and saturated, in steps of a
    converter's bits where it has fewer than the input.

    Dither is the difference of two even random numbers, triangular over two steps of the converter: the rounding error
    then has no mean and a power of a quarter of a step squared whatever the signal is (Lipshitz, Wannamaker &
    Vanderkooy 1992, "Quantization and dither: a theoretical survey").
    """

    def __init__(self, entry: Format, bits: int = 0, random: np.random.RandomState | None = None) -> None:
        self.codes = Format(entry.signed, bits or entry.bits, 0)
        self.shift = entry.bits - self.codes.bits
        self.random = random

    @staticmethod
    def of(signal: Signal, entry: Format) -> Converter:
        """The converter among a signal's parts, or that of the input itself.

        Raises
        ------
        FileError
            If it has more bits than the input.
        """
        place, part = next(((k, part) for k, part in enumerate(signal.parts) if part.kind == "converter"), (0, None))
        if part is None:
            return Converter(entry)
        bits = part.bits or entry.bits
        if bits > entry.bits:
            what = f"a converter of {bits} bits gives more than {entry} takes"
            raise FileError(what, f"parts[{place}].bits", f"{entry.bits} are the most")
        return Converter(entry, bits, generator(signal.seed, place) if part.dither else None)

    def take(self, values: Array) -> tuple[NDArray[np.int64], int]:
        """The next samples as raw integers of the input, and how many were clipped."""
        steps = values * 2.0**-self.shift
        if self.random is not None:
            # Pairs one after another, so that the stream doesn't depend on the pieces.
            pairs = self.random.random_sample(2 * len(values)).reshape(-1, 2)
            steps = steps + (pairs[:, 0] - pairs[:, 1])
        rounded = np.rint(steps)
        held = np.clip(rounded, float(self.codes.least), float(self.codes.most))
        raw = np.asarray(held.astype(np.int64) << self.shift, dtype=np.int64)
        return raw, int(np.count_nonzero(held != rounded))


def _count(signal: Signal, files: Iterable[SoundFile | SheetFile]) -> int:
    count = signal.samples or max(length_of(file) for file in files)
    if count > MOST_SAMPLES:
        raise FileError(f"{count:,} samples are too many", "samples", f"up to {MOST_SAMPLES:,} are taken")
    for part in signal.parts:
        if part.kind in WHOLE_KINDS and count > MOST_WHOLE:
            what = f"{count:,} samples of {part.kind} are too many to be made in one piece"
            raise FileError(what, "samples", f"up to {MOST_WHOLE:,} are taken")
    return count


class Player:
    """A signal in an input format, piece by piece: every piece follows the one before.

    Full scale is 2^(bits−1) raw steps; a level in dB of full scale is that of a sine whose peak is full scale, so that
    rms·√2 of a part is its level (of an impulse and a step, the peak).

    Raises
    ------
    FileError
        If a recording can't be read, or was taken at another rate.
    """

    def __init__(self, signal: Signal, entry: Format) -> None:
        self.converter = Converter.of(signal, entry)
        full = 2.0 ** (entry.bits - 1)
        recordings = {
            k: recording_file(part, signal) for k, part in enumerate(signal.parts) if part.kind == "recording"
        }
        self.count = _count(signal, recordings.values())
        self.sources: list[Source] = []
        sent = []
        for k, part in enumerate(signal.parts):
            if part.kind == "converter":
                continue
            if k in recordings:
                self.sources.append(recorded(recordings[k], part, full))
                continue
            source, known = source_of(part, signal, k, self.count, full)
            self.sources.append(source)
            sent += [known] if known is not None else []
        self.modulated = tuple(sent)
        self.clipped = 0

    def pieces(self, length: int = PIECE) -> Iterator[NDArray[np.int64]]:
        """Raw integers, ``length`` of them at a time; ``clipped`` counts those that were saturated so far."""
        for first in range(0, self.count, length):
            size = min(length, self.count - first)
            total = np.zeros(size)
            for source in self.sources:
                total += source.take(size)
            raw, clipped = self.converter.take(total)
            self.clipped += clipped
            yield raw


def make_signal(signal: Signal, entry: Format) -> Made:
    """All samples of a signal in an input format, at most ``MOST_WHOLE``.

    Raises
    ------
    FileError
        If a recording can't be read, or there are too many.
    """
    return whole(Player(signal, entry))


def whole(player: Player) -> Made:
    """All samples of a player that hasn't played yet, at most ``MOST_WHOLE``."""
    if player.count > MOST_WHOLE:
        raise FileError(f"{player.count:,} samples don't fit the memory", "samples", f"up to {MOST_WHOLE:,} do at once")
    raw = np.empty(player.count, dtype=np.int64)
    first = 0
    for piece in player.pieces():
        raw[first : first + len(piece)] = piece
        first += len(piece)
    return Made(raw, player.clipped, player.modulated)
