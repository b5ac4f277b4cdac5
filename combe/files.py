"""Reading and writing files whole: JSON with its mistakes located, text that is never half-written."""

from __future__ import annotations

import json
import math
import os
import sys
import tempfile
from pathlib import Path
from typing import Any, NoReturn

from combe.errors import FileError

FLOOR_DB = -400.0
"""Levels below this are written as this: JSON has no infinity."""


def read_text(path: str | Path) -> str:
    """The text of a file; ``-`` is standard input."""
    if str(path) == "-":
        return sys.stdin.read()
    try:
        return Path(path).read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise FileError("there is no such file", str(path)) from None
    except IsADirectoryError:
        raise FileError("this is a folder, a file is expected", str(path)) from None
    except UnicodeDecodeError:
        raise FileError("this is not a text file (UTF-8 is expected)", str(path)) from None
    except OSError as error:
        raise FileError(f"can't be read ({error.strerror or error})", str(path)) from None


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
            raise FileError(f"the number {digits} is too large", name, "write a finite number")
        return value

    def unique(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        found: dict[str, Any] = {}
        for key, value in pairs:
            if key in found:
                raise FileError(f"the key {key!r} stands twice in one object", name, "keep one of them")
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


def json_text(document: Any) -> str:
    """A document as JSON text, with levels of minus infinity written as ``FLOOR_DB``."""
    return json.dumps(_finite(document), indent=1, ensure_ascii=False, allow_nan=False) + "\n"


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
    write_bytes(path, text.encode("utf-8"))


def write_bytes(path: str | Path, content: bytes) -> None:
    """Write to a temporary file beside ``path``, then rename it into place."""
    target = Path(path)
    temporary = ""
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{target.name}.", dir=target.parent)
        with os.fdopen(handle, "wb") as stream:
            stream.write(content)
            stream.flush()
            os.fsync(stream.fileno())
        mode = target.stat().st_mode & 0o777 if target.exists() else 0o666 & ~_umask()
        Path(temporary).chmod(mode)
        Path(temporary).replace(target)
    except OSError as error:
        if temporary:
            Path(temporary).unlink(missing_ok=True)
        raise FileError(f"can't be written ({error.strerror or error})", str(path)) from None


def make_folder(path: str | Path) -> Path:
    """The folder ``path``, made if it isn't there."""
    folder = Path(path)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(f"this folder can't be made ({error.strerror or error})", str(path)) from None
    return folder


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
