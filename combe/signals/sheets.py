"""Tables of numbers as text, read piece by piece: what separates their columns and where their header ends follow from the
text itself."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from pathlib import Path
from typing import IO

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.errors import FileError
from combe.files import opened, shortened

Array = NDArray[np.float64]
PIECE_BYTES, LONGEST_LINE, LOOKED_AT = 1 << 21, 1 << 24, 1 << 14
MOST_IN_PIPE = 1 << 26
"""A pipe can't be read twice: so much of it is kept."""
NUMBER = re.compile(r"\s*[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?\s*")
_STRANGE = re.compile(r"[^0-9eE+\-.\s]")


class Sheet(Struct, frozen=True):
    """A table of text: its header, where it has one, its rows, the line the first stands in, and what separates columns."""

    header: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    first_row: int
    separator: str = ","

    @property
    def names(self) -> tuple[str, ...]:
        """What the columns are called; their numbers where there is no header."""
        return self.header or tuple(str(k + 1) for k in range(len(self.rows[0])))


def sheet_of(text: str, where: str) -> Sheet:
    """The table in a text.

    Raises
    ------
    FileError
        If there are no numbers in it.
    """
    lines = text.splitlines()
    filled = [line for line in lines if _is_filled(line)]
    if not filled:
        raise FileError("there are no numbers in it", where)
    separator = _separator(filled[len(filled) // 2])
    first = 1
    header: tuple[str, ...] = ()
    rows: list[tuple[str, ...]] = []
    for number, line in enumerate(lines, 1):
        if not _is_filled(line):
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
    return Sheet(header if len(header) == len(rows[0]) else (), tuple(rows), first, separator)


def _is_filled(line: str) -> bool:
    """Whether a line is neither empty nor a remark."""
    start = line.lstrip()
    return bool(start) and not start.startswith("#")


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


def column_index(sheet: Sheet, column: str | int | None, where: str) -> int:
    """The place of a column told by its name, or by its number from 1; without either the only one there is.

    Raises
    ------
    FileError
        If there is no such column, several of one name, or a choice to be made.
    """
    names = sheet.names
    listed = ", ".join(shortened(name) for name in names)
    if column is None:
        if len(names) != 1:
            raise FileError(f"there are {len(names)} columns", where, f"name one with column: {listed}")
        return 0
    if isinstance(column, str) and column in names:
        places = [k for k, name in enumerate(names) if name == column]
        if len(places) > 1:
            numbers = " or ".join(str(k + 1) for k in places)
            raise FileError(f'{len(places)} columns are named "{column}"', where, f"tell it by its number, {numbers}")
        return places[0]
    if isinstance(column, int) or column.isdigit():
        number = int(column)
        if 1 <= number <= len(names):
            return number - 1
    raise FileError(f'there is no column "{shortened(str(column))}"', where, f"known are {listed}")


def column_numbers(sheet: Sheet) -> list[int]:
    """Places of the columns that hold numbers, as far as the first rows tell."""
    rows = sheet.rows[:20]
    return [k for k in range(len(sheet.names)) if all(k < len(row) and NUMBER.fullmatch(row[k]) for row in rows)]


def first_rows(path: Path) -> Sheet:
    """The beginning of a table, to be looked at.

    Raises
    ------
    FileError
        If the file can't be read, or holds no numbers.
    """
    with opened(path) as stream:
        piece = stream.read(LOOKED_AT)
    cut = piece.rfind(b"\n") + 1 if len(piece) == LOOKED_AT else len(piece)
    try:
        text = piece[: cut or len(piece)].decode("utf-8-sig")
    except UnicodeDecodeError:
        raise FileError("this is not a text file (UTF-8 is expected)", str(path)) from None
    return sheet_of(text, str(path))


class SheetFile:
    """One column of a table in a file, of any length.

    Raises
    ------
    FileError
        If the file can't be read, holds no numbers, or has no such column.
    """

    def __init__(self, path: Path, column: str | int | None = None) -> None:
        self.path = path
        self.kept: bytes | None = None
        with opened(path) as stream:
            if not stream.seekable():
                self.kept = stream.read(MOST_IN_PIPE + 1)
                if len(self.kept) > MOST_IN_PIPE:
                    raise FileError("is too much for a pipe", str(path), f"up to {MOST_IN_PIPE >> 20} MB are read")
        self.sheet = sheet_of(next(self._texts(), ""), str(path))
        self.index = column_index(self.sheet, column, str(path))

    def count(self, most: int) -> int:
        """How many rows there are; counting ends beyond ``most``."""
        found = 0
        for _, lines in self._rows():
            found += len(lines)
            if found > most:
                break
        return found

    def pieces(self) -> Iterator[Array]:
        """All numbers of the column.

        Raises
        ------
        FileError
            At the first that is none, naming its line.
        """
        for numbers, lines in self._rows():
            words = self._words(lines)
            values = _parsed(words)
            if values is None:
                self._refuse(numbers, words)
            else:
                yield values

    def _texts(self) -> Iterator[str]:
        """The text in pieces that end with a line."""
        with self._stream() as stream:
            rest, is_first = b"", True
            while True:
                piece = stream.read(PIECE_BYTES)
                whole = rest + piece
                cut = whole.rfind(b"\n") + 1 if piece else len(whole)
                rest = whole[cut:]
                if len(rest) > LONGEST_LINE:
                    raise FileError(
                        "has a line of many million characters, expected a table of numbers", str(self.path)
                    )
                if cut:
                    yield self._decoded(whole[:cut], is_first)
                    is_first = False
                if not piece:
                    return

    def _stream(self) -> IO[bytes]:
        return io.BytesIO(self.kept) if self.kept is not None else opened(self.path)

    def _decoded(self, piece: bytes, is_first: bool) -> str:
        try:
            return piece.decode("utf-8-sig" if is_first else "utf-8")
        except UnicodeDecodeError:
            raise FileError("this is not a text file (UTF-8 is expected)", str(self.path)) from None

    def _rows(self) -> Iterator[tuple[list[int], list[str]]]:
        """Lines that hold numbers, and where they stand in the file."""
        number = 0
        for text in self._texts():
            lines = text.splitlines()
            wanted = [
                (number + k, line) for k, line in enumerate(lines, 1) if number + k >= self.sheet.first_row and _is_filled(line)
            ]  # fmt: skip
            number += len(lines)
            yield [at for at, _ in wanted], [line for _, line in wanted]

    def _words(self, lines: list[str]) -> list[str]:
        separator, index = self.sheet.separator, self.index
        if any('"' in line for line in lines):
            rows = [_cells(line, separator) for line in lines]
        elif separator == " ":
            rows = [tuple(line.split()) for line in lines]
        elif len(self.sheet.names) == 1:
            return [line.replace(",", ".") if separator != "," else line.rstrip(", ") for line in lines]
        else:
            rows = [tuple(line.split(separator)) for line in lines]
        words = [row[index] if index < len(row) else "" for row in rows]
        return words if separator == "," else [word.replace(",", ".") for word in words]

    def _refuse(self, numbers: list[int], words: list[str]) -> None:
        for number, word in zip(numbers, words):
            if not NUMBER.fullmatch(word):
                raise FileError(f'expected a number, found "{shortened(word.strip())}"', f"{self.path}: line {number}")
            if not np.isfinite(float(word)):
                raise FileError("holds a number that is too large", f"{self.path}: line {number}")


def _parsed(words: list[str]) -> Array | None:
    """Numbers from words; None where one of them is none, or too large."""
    if not words:
        return np.zeros(0)
    if _STRANGE.search(" ".join(words)):
        return None
    try:
        values = np.array(words, dtype=np.float64)
    except ValueError:
        return None
    return values if np.all(np.isfinite(values)) else None
