"""Checked access to the values of a JSON document: each mistake names its key and what was expected."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable
from typing import Any

from combe.errors import FileError


class Fields:
    """One JSON object under inspection.

    Parameters
    ----------
    document
        What was read.
    where
        Its place in the file, such as ``bands[1]``; empty for the outermost object.
    """

    def __init__(self, document: Any, where: str = "") -> None:
        if not isinstance(document, dict):
            raise FileError(f"expected an object with named keys, found {describe(document)}", where)
        self.document: dict[str, Any] = document
        self.where = where

    def place(self, key: str) -> str:
        """The full name of a key."""
        return f"{self.where}.{key}" if self.where else key

    def has(self, key: str) -> bool:
        """Whether the key is there and not null."""
        return self.document.get(key) is not None

    def only(self, known: Iterable[str]) -> None:
        """Refuse keys nobody reads: a misspelt limit must not be dropped in silence."""
        names = [*known, "note"]
        for key in self.document:
            if key not in names:
                near = difflib.get_close_matches(key, names, 1, 0.6)
                hint = f"did you mean {near[0]!r}?" if near else f"known here are {', '.join(names)}"
                raise FileError("this key is not known", self.place(key), hint)

    def fail(self, key: str, expected: str) -> FileError:
        """The error for a key whose value isn't what was expected."""
        if key not in self.document:
            return FileError(f"is missing, expected {expected}", self.place(key))
        return FileError(f"expected {expected}, found {describe(self.document[key])}", self.place(key))

    def number(self, key: str, expected: str = "a number") -> float:
        """A finite number."""
        value = self.document.get(key)
        if not is_number(value):
            raise self.fail(key, expected)
        return float(value)  # type: ignore[arg-type]

    def integer(self, key: str, least: int, most: int) -> int:
        """A whole number within bounds."""
        value = self.document.get(key)
        if isinstance(value, bool) or not isinstance(value, int) or not least <= value <= most:
            raise self.fail(key, f"a whole number from {least} to {most}")
        return value

    def text(self, key: str, expected: str = "a text", default: str | None = None) -> str:
        """A string."""
        value = self.document.get(key, default)
        if not isinstance(value, str):
            raise self.fail(key, expected)
        return value

    def choice(self, key: str, among: Iterable[str], default: str | None = None) -> str:
        """One of a few words."""
        words = list(among)
        value = self.document.get(key, default)
        if value not in words:
            raise self.fail(key, "one of " + ", ".join(f'"{word}"' for word in words))
        return str(value)

    def list(self, key: str, expected: str = "a list") -> list[Any]:
        """A list of anything."""
        value = self.document.get(key)
        if not isinstance(value, list):
            raise self.fail(key, expected)
        return value

    def header(self, format_name: str, version: int) -> None:
        """The first two keys of each of our files."""
        if self.document.get("format") != format_name:
            raise self.fail("format", f'"{format_name}"')
        found = self.document.get("version")
        if isinstance(found, int) and not isinstance(found, bool) and found > version:
            raise FileError(f"version {found} is newer than this Combe knows ({version})", self.place("version"))
        if found != version or isinstance(found, bool):
            raise self.fail("version", str(version))


def is_number(value: Any) -> bool:
    """Whether a JSON value is a finite number (true and false are not)."""
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        return False
    try:
        return math.isfinite(float(value))
    except OverflowError:
        return False


def describe(value: Any) -> str:
    """A JSON value in a few words, for messages."""
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, dict):
        return "an object"
    if isinstance(value, list):
        return "a list" if value else "an empty list"
    text = f'"{value}"' if isinstance(value, str) else str(value)
    return text if len(text) <= 40 else text[:37] + "..."
