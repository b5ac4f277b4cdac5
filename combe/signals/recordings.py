"""Recordings: sound files, columns of tables, raw integers one a line; of any length, read piece by piece."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.errors import FileError
from combe.files import shortened
from combe.signals.sheets import SheetFile
from combe.signals.spec import MOST_SAMPLES, Part, Signal

Array = NDArray[np.float64]
SOUND = (".wav", ".flac", ".aif", ".aiff", ".ogg")
PIECE = 1 << 16


class Recording(Struct, frozen=True, eq=False):
    """Numbers as they stand in the file; ``rate_hz`` where the file says it; ``is_sound`` if full scale is 1."""

    values: Array
    rate_hz: float | None = None
    is_sound: bool = False


class SoundFile:
    """One channel of a sound file.

    Raises
    ------
    FileError
        If it can't be read as sound, or there is no such channel.
    """

    def __init__(self, path: Path, channel: str | int | None) -> None:
        self.path = path
        with self._opened() as stream:
            self.rate_hz, self.frames = float(stream.samplerate), int(stream.frames)
            self.index = _channel(int(stream.channels), channel, str(path))

    def _opened(self) -> Any:
        import soundfile  # type: ignore[import-untyped]

        try:
            self.path.stat()
            return soundfile.SoundFile(str(self.path))
        except FileNotFoundError:
            raise FileError("there is no such file", str(self.path)) from None
        except OSError as error:
            raise FileError(f"can't be read ({error.strerror or error})", str(self.path)) from None
        except soundfile.LibsndfileError as error:
            raise FileError(f"can't be read as sound ({error.error_string})", str(self.path)) from None

    def pieces(self) -> Iterator[Array]:
        """All samples, full scale being 1."""
        first = 0
        with self._opened() as stream:
            while len(found := stream.read(PIECE, dtype="float64", always_2d=True)):
                values = np.ascontiguousarray(found[:, self.index])
                strange = np.flatnonzero(~np.isfinite(values))
                if len(strange):
                    where = f"{self.path}: sample {first + int(strange[0]) + 1}"
                    raise FileError("holds something that is no number", where)
                first += len(values)
                yield values


def _channel(channels: int, channel: str | int | None, where: str) -> int:
    if channel is None:
        if channels != 1:
            raise FileError(f"there are {channels} channels", where, "name one with column: 1 is the left")
        return 0
    words = {"left": 1, "right": 2}
    number = words.get(str(channel).lower(), int(channel) if str(channel).isdigit() else 0)
    if not 1 <= number <= channels:
        raise FileError(f'there is no channel "{shortened(channel)}"', where, f"1 to {channels} are there")
    return number - 1


def _file(path: Path, column: str | int | None) -> SoundFile | SheetFile:
    return SoundFile(path, column) if path.suffix.lower() in SOUND else SheetFile(path, column)


def read_recording(path: Path, column: str | int | None = None) -> Recording:
    """A whole recording's numbers.

    Parameters
    ----------
    column
        Of a table its name, or its number from 1; of a sound its channel from 1. Without one the only one there is.

    Raises
    ------
    FileError
        Naming the file, the line or column, and what was expected.
    """
    file = _file(path, column)
    pieces = list(file.pieces())
    values = np.concatenate(pieces) if pieces else np.zeros(0)
    return Recording(values, file.rate_hz, True) if isinstance(file, SoundFile) else Recording(values)


def length_of(file: SoundFile | SheetFile) -> int:
    """How many samples a recording has.

    Raises
    ------
    FileError
        If there are none.
    """
    count = file.frames if isinstance(file, SoundFile) else file.count(MOST_SAMPLES)
    if count == 0:
        raise FileError("there are no samples in it", str(file.path))
    return count


def recording_file(part: Part, signal: Signal) -> SoundFile | SheetFile:
    """The file of a recording, which lies beside that of its signal; a pipe is read here, and only once.

    Raises
    ------
    FileError
        If it can't be read, or was taken at another rate.
    """
    path = Path(signal.folder) / (part.file or "")
    file = _file(path, part.column)
    if isinstance(file, SoundFile) and file.rate_hz != signal.sample_rate_hz:
        what = f"was recorded at {file.rate_hz:g} Hz, the signal runs at {signal.sample_rate_hz:g} Hz"
        raise FileError(what, str(path), "give a recording of that rate")
    return file


class Recorded:
    """A recording as a part of a signal, in raw steps; silence after its end."""

    def __init__(self, file: SoundFile | SheetFile, offset: float, factor: float) -> None:
        self.pieces, self.offset, self.factor = file.pieces(), offset, factor
        self.rest = np.zeros(0)

    def take(self, count: int) -> Array:
        """The next ``count``."""
        while len(self.rest) < count:
            piece = next(self.pieces, None)
            if piece is None:
                break
            self.rest = np.concatenate([self.rest, (piece - self.offset) * self.factor])
        found, self.rest = self.rest[:count], self.rest[count:]
        return np.pad(found, (0, count - len(found))) if len(found) < count else found


def recorded(file: SoundFile | SheetFile, part: Part, full: float) -> Recorded:
    """A recording as it comes, in raw steps."""
    if part.full_scale is not None:
        factor = full / part.full_scale
    else:
        factor = full if isinstance(file, SoundFile) else 1.0
    return Recorded(file, part.offset or 0.0, factor)
