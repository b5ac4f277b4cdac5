"""Recordings: sound files, columns of numbers with their header found by itself, raw integers one a line."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.errors import FileError
from combe.files import read_text

Array = NDArray[np.float64]
SOUND = (".wav", ".flac", ".aif", ".aiff", ".ogg")
LARGEST_FILE = 1 << 30
NUMBER = re.compile(r"\s*[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?\s*")


class Recording(Struct, frozen=True, eq=False):
    """Numbers as they stand in the file; ``rate_hz`` where the file says it; ``is_sound`` if full scale is 1."""

    values: Array
    rate_hz: float | None = None
    is_sound: bool = False


class Sheet(Struct, frozen=True):
    """A table of text: its header, where it has one, and its rows."""

    header: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    first_row: int


def read_recording(path: Path, column: str | int | None = None) -> Recording:
    """A recording's numbers.

    Parameters
    ----------
    column
        Of a table its name, or its number from 1; of a sound its channel from 1. Without one the only one there is.

    Raises
    ------
    FileError
        Naming the file, the line or column, and what was expected.
    """
    if path.suffix.lower() in SOUND:
        return _sound(path, column)
    sheet = sheet_of(read_text(path, LARGEST_FILE), str(path))
    index = _column(sheet, column, str(path))
    found = np.empty(len(sheet.rows))
    for k, row in enumerate(sheet.rows):
        word = row[index] if index < len(row) else ""
        if not NUMBER.fullmatch(word):
            shown = word.strip()[:30]
            raise FileError(f'expected a number, found "{shown}"', f"{path}: line {sheet.first_row + k}")
        found[k] = float(word)
    if not np.all(np.isfinite(found)):
        raise FileError("holds a number that is too large", str(path))
    return Recording(found)


def sheet_of(text: str, where: str) -> Sheet:
    """A table of numbers: what separates its columns and where its header ends follow from the text itself."""
    lines = text.splitlines()
    filled = [line for line in lines if line.strip() and not line.lstrip().startswith("#")]
    if not filled:
        raise FileError("there are no numbers in it", where)
    separator = _separator(filled[len(filled) // 2])
    first = 1
    header: tuple[str, ...] = ()
    rows: list[tuple[str, ...]] = []
    for number, line in enumerate(lines, 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        cells = _cells(line, separator)
        if not rows and not any(NUMBER.fullmatch(cell) for cell in cells):
            header = tuple(cell.strip() for cell in cells)
            continue
        if not rows:
            first = number
        rows.append(cells)
    if not rows:
        raise FileError("there are no numbers in it", where)
    return Sheet(header if len(header) == len(rows[0]) else (), tuple(rows), first)


def _separator(line: str) -> str:
    for separator in ("\t", ";", ","):
        if separator in line:
            return separator
    return " " if len(line.split()) > 1 else ","


def _cells(line: str, separator: str) -> tuple[str, ...]:
    if separator == " ":
        return tuple(line.split())
    cells = tuple(next(csv.reader(io.StringIO(line), delimiter=separator), []))
    # Numbers with a decimal comma, where the columns are separated otherwise.
    return tuple(
        cell.replace(",", ".") if separator != "," and re.fullmatch(r"\s*[+-]?\d+,\d+\s*", cell) else cell
        for cell in cells
    )


def _column(sheet: Sheet, column: str | int | None, where: str) -> int:
    width = len(sheet.rows[0])
    names = sheet.header or tuple(str(k + 1) for k in range(width))
    listed = ", ".join(names)
    if column is None:
        if width != 1:
            raise FileError(f"there are {width} columns", where, f"name one with column: {listed}")
        return 0
    if isinstance(column, str) and column in names:
        return names.index(column)
    if isinstance(column, int) or column.isdigit():
        number = int(column)
        if 1 <= number <= width:
            return number - 1
    raise FileError(f'there is no column "{column}"', where, f"known are {listed}")


def _sound(path: Path, column: str | int | None) -> Recording:
    import soundfile  # type: ignore[import-untyped]

    try:
        if path.stat().st_size > LARGEST_FILE:
            raise FileError("is too large", str(path), f"up to {LARGEST_FILE >> 20} MB are read")
        values, rate = soundfile.read(str(path), dtype="float64", always_2d=True)
    except OSError as error:
        raise FileError(
            "there is no such file" if not path.exists() else f"can't be read ({error})", str(path)
        ) from None
    except soundfile.LibsndfileError as error:
        raise FileError(f"can't be read as sound ({error.error_string})", str(path)) from None
    channels = values.shape[1]
    if column is None:
        if channels != 1:
            raise FileError(f"there are {channels} channels", str(path), "name one with column: 1 is the left")
        index = 0
    else:
        words = {"left": 1, "right": 2}
        number = words.get(str(column).lower(), int(column) if str(column).isdigit() else 0)
        if not 1 <= number <= channels:
            raise FileError(f'there is no channel "{column}"', str(path), f"1 to {channels} are there")
        index = number - 1
    return Recording(np.ascontiguousarray(values[:, index]), float(rate), True)
