"""Reading and writing files whole: JSON with its mistakes located, text that is never half-written."""

from __future__ import annotations

import json
import math
import os
import sys
from pathlib import Path
from typing import IO, Any, NoReturn

from combe.errors import FileError

FLOOR_DB = -400.0
"""Levels below this are written as this: JSON has no infinity."""


LARGEST_TEXT = 64 << 20
"""Bytes of a file of ours; nothing that makes sense comes near."""
SHOWN = 80
"""Characters of a value that a sentence repeats."""


def read_text(path: str | Path, most: int = LARGEST_TEXT) -> str:
    """The text of a file of at most so many bytes; ``-`` is standard input. Of a pipe or device no more is read than that."""
    try:
        return read_bytes(path, most).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise FileError("this is not a text file (UTF-8 is expected)", str(path)) from None


def opened(path: Path) -> IO[bytes]:
    """A file opened for reading, for those that are read piece by piece.

    Raises
    ------
    FileError
        If there is none, or it can't be read.
    """
    try:
        return path.open("rb")
    except FileNotFoundError:
        raise FileError("there is no such file", str(path)) from None
    except IsADirectoryError:
        raise FileError("this is a folder, a file is expected", str(path)) from None
    except ValueError:
        raise FileError("this is no name of a file", shortened(path)) from None
    except OSError as error:
        raise FileError(f"can't be read ({error.strerror or error})", str(path)) from None


def read_bytes(path: str | Path, most: int) -> bytes:
    """A file of at most so many bytes, refused before it is read where its size is known."""
    try:
        if str(path) == "-":
            return _up_to(sys.stdin.buffer, most, "standard input")
        with opened(Path(path)) as stream:
            size = os.fstat(stream.fileno()).st_size
            if size > most:
                raise _too_large(size, most, str(path))
            return _up_to(stream, most, str(path))
    except OSError as error:
        raise FileError(f"can't be read ({error.strerror or error})", str(path)) from None


def _up_to(stream: IO[bytes], most: int, where: str) -> bytes:
    found = stream.read(most + 1)
    if len(found) > most:
        raise _too_large(None, most, where)
    return found


def _too_large(size: int | None, most: int, where: str) -> FileError:
    much = f"{size / (1 << 20):.0f} MB" if size is not None else f"more than {most >> 20} MB"
    return FileError(f"holds {much}, too much to be one of our files", where, f"up to {most >> 20} MB are read")


def shortened(value: object) -> str:
    """A value as a sentence repeats it: not more than a line of it."""
    text = str(value)
    return text if len(text) <= SHOWN else text[: SHOWN - 3] + "..."


def cell(text: str) -> str:
    """A text as a cell that a spreadsheet takes for a text: names that begin like a formula get an apostrophe."""
    word = text.strip()
    if word[:1] not in ("=", "+", "-", "@", "\t", "\r"):
        return text
    try:
        float(word.split(" ")[0].replace("−", "-"))
    except ValueError:
        return "'" + text
    return text


def read_json(path: str | Path) -> Any:
    """The JSON document in a file. Numbers that aren't finite and keys that stand twice are refused."""
    return parse_json(read_text(path), str(path))


def parse_json(text: str, name: str) -> Any:
    """The JSON document in ``text``; ``name`` says where it came from."""

    def refuse_constant(word: str) -> NoReturn:
        raise FileError(f"{word} is not a number a filter can use", name, "write a finite number")

    def finite(digits: str) -> float:
        value = float(digits)
        if not math.isfinite(value):
            raise FileError(f"the number {shortened(digits)} is too large", name, "write a finite number")
        return value

    def unique(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        found: dict[str, Any] = {}
        for key, value in pairs:
            if key in found:
                raise FileError(f"the key {shortened(key)!r} stands twice in one object", name, "keep one of them")
            found[key] = value
        return found

    try:
        return json.loads(text, parse_constant=refuse_constant, parse_float=finite, object_pairs_hook=unique)
    except json.JSONDecodeError as error:
        where = f"{name}: line {error.lineno}, column {error.colno}"
        raise FileError(f"not valid JSON ({error.msg})", where) from None
    except RecursionError:
        raise FileError("nested too deeply to be one of our files", name) from None
    except ValueError:
        raise FileError("holds a number with too many digits", name, "write a finite number") from None


def json_text(document: Any, ascii_only: bool = False) -> str:
    """A document as JSON text, with levels of minus infinity written as ``FLOOR_DB``."""
    return json.dumps(_finite(document), indent=1, ensure_ascii=ascii_only, allow_nan=False) + "\n"


def _finite(value: Any) -> Any:
    if isinstance(value, float) and not math.isfinite(value):
        return None if math.isnan(value) else math.copysign(-FLOOR_DB, value)
    if isinstance(value, dict):
        return {key: _finite(item) for key, item in value.items()}
    if isinstance(value, (list, tuple)):
        return [_finite(item) for item in value]
    return value


def write_text(path: str | Path, text: str) -> None:
    """Write a file whole or not at all; ``-`` is standard output."""
    if str(path) == "-":
        sys.stdout.write(text)
        return
    write_bytes(path, encoded(text, str(path)))


def encoded(text: str, where: str) -> bytes:
    """A text as a file has it, in UTF-8."""
    try:
        return text.encode("utf-8")
    except UnicodeEncodeError as error:
        what = f"half a character ({error.object[error.start]!r}) can't be written"
        raise FileError(what, where, "leave it out of names") from None


def write_bytes(path: str | Path, content: bytes) -> None:
    """Write a file whole or not at all; a device, a pipe or what a link points to is written into."""
    from combe.placing import write_files

    write_files([(Path(path), content)])


def make_folder(path: str | Path) -> Path:
    """The folder ``path``, made if it isn't there."""
    folder = Path(path)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"this folder can't be made ({error.strerror or error})", str(path)) from None
    return folder
