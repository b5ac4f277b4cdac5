"""JSON documents read by structs: one translator turns what doesn't fit into our sentences.

A file's shape is a ``msgspec.Struct``; the description of a field says in words what is expected of it. Keys that a struct
which forbids them doesn't know are refused with a guess at what was meant, or kept where the file is of a newer version.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable, Iterator
from functools import cache
from typing import Any, TypeVar

import msgspec
from msgspec import inspect

from combe.checking import describe
from combe.errors import FileError

Shape = TypeVar("Shape", bound=msgspec.Struct)
Path = tuple[str | int, ...]
NOTE = "note"
"""A key that every object may have: a remark for people."""


def read(document: Any, shape: type[Shape], where: str = "") -> Shape:
    """A document as a struct; ``where`` is its place inside a larger one.

    Raises
    ------
    FileError
        Naming the place, what was found there and what was expected.
    """
    info = _info(shape)
    if not isinstance(document, dict):
        raise FileError(f"expected an object with named keys, found {describe(document)}", where)
    for path, names in unknown(document, shape):
        key = str(path[-1])
        near = difflib.get_close_matches(key, names, 1, 0.6)
        hint = f"did you mean {near[0]!r}?" if near else f"known here are {', '.join(names)}"
        raise FileError("this key is not known", _place(where, path), hint)
    try:
        return msgspec.convert(_without_nulls(document, info), shape)
    except msgspec.ValidationError as error:
        raise _told(document, info, str(error), where) from None
    except UnicodeEncodeError:
        raise FileError(
            "holds half a character (a lone surrogate)", where, "write whole characters, in UTF-8"
        ) from None
    except (OverflowError, RecursionError):
        raise FileError("holds a number that is too large", where, "write one that a filter can use") from None


def unknown(document: Any, shape: type[msgspec.Struct]) -> Iterator[tuple[Path, list[str]]]:
    """Every key that a forbidding struct doesn't know, by its path, with the names known beside it."""
    yield from _unknown(document, _info(shape), ())


def split(document: Any, shape: type[msgspec.Struct]) -> tuple[Any, dict[Path, Any]]:
    """A document without the keys its shape doesn't know, and these by their paths, to be put back with ``merged``."""
    strange = {path: _at(document, path) for path, _ in unknown(document, shape)}
    clean = _copied(document)
    for path in strange:
        del _at(clean, path[:-1])[path[-1]]
    return clean, strange


def merged(document: dict[str, Any], strange: dict[Path, Any]) -> dict[str, Any]:
    """A document with what ``split`` took out, where the place is still there."""
    whole: dict[str, Any] = _copied(document)
    for path, value in strange.items():
        holder = _at(whole, path[:-1])
        if isinstance(holder, dict) and path[-1] not in holder:
            holder[path[-1]] = value
    return whole


def without_nulls(document: dict[str, Any]) -> dict[str, Any]:
    """A key that is null counts as one that isn't there."""
    return {key: value for key, value in document.items() if value is not None}


def one_of(words: Iterable[str]) -> msgspec.Meta:
    """What is expected of a word that is one of a few."""
    return msgspec.Meta(description="one of " + ", ".join(f'"{word}"' for word in words))


def whole(least: int, most: int) -> msgspec.Meta:
    """What is expected of a whole number within bounds."""
    return msgspec.Meta(ge=least, le=most, description=f"a whole number from {least} to {most}")


@cache
def _info(shape: type[msgspec.Struct]) -> inspect.Type:
    return inspect.type_info(shape)


def _plain(info: inspect.Type) -> inspect.Type:
    while isinstance(info, inspect.Metadata):
        info = info.type
    return info


def _kinds(info: inspect.Type) -> tuple[inspect.Type, ...]:
    """The types a value may have."""
    info = _plain(info)
    return tuple(_plain(each) for each in info.types) if isinstance(info, inspect.UnionType) else (info,)


def _matching(info: inspect.Type, value: Any) -> inspect.Type | None:
    """The type that a value is meant to have."""
    kinds = _kinds(info)
    if isinstance(value, dict):
        structs = [kind for kind in kinds if isinstance(kind, inspect.StructType)]
        tagged = [kind for kind in structs if kind.tag is None or value.get(str(kind.tag_field)) == kind.tag]
        return next(iter(tagged), None)
    if isinstance(value, list):
        arrays = (inspect.ListType, inspect.VarTupleType, inspect.TupleType)
        return next((kind for kind in kinds if isinstance(kind, arrays)), None)
    return None


def _child(info: inspect.Type | None, step: str | int) -> inspect.Type | None:
    if isinstance(info, inspect.StructType):
        return next((each.type for each in info.fields if each.encode_name == step), None)
    if isinstance(info, (inspect.ListType, inspect.VarTupleType)):
        return info.item_type
    if isinstance(info, inspect.TupleType) and isinstance(step, int) and step < len(info.item_types):
        return info.item_types[step]
    return None


def _unknown(value: Any, info: inspect.Type, path: Path) -> Iterator[tuple[Path, list[str]]]:
    kind = _matching(info, value)
    if isinstance(kind, inspect.StructType):
        names = [each.encode_name for each in kind.fields]
        if kind.tag_field is not None:
            names.insert(0, kind.tag_field)
        for key, item in value.items():
            own = _child(kind, key)
            if own is not None:
                yield from _unknown(item, own, (*path, key))
            elif kind.forbid_unknown_fields and key not in (NOTE, kind.tag_field):
                yield (*path, key), [*names, NOTE]
    elif kind is not None:
        for index, item in enumerate(value):
            own = _child(kind, index)
            if own is not None:
                yield from _unknown(item, own, (*path, index))


def _without_nulls(value: Any, info: inspect.Type) -> Any:
    """A copy in which keys that are null, and remarks, are left out of objects."""
    kind = _matching(info, value)
    if isinstance(kind, inspect.StructType):
        found = {}
        for key, item in value.items():
            own = _child(kind, key)
            if own is not None and item is not None:
                found[key] = _without_nulls(item, own)
            elif key == kind.tag_field:
                found[key] = item
        return found
    if kind is not None:
        return [item if (own := _child(kind, k)) is None else _without_nulls(item, own) for k, item in enumerate(value)]
    return value


def _told(document: Any, info: inspect.Type, said: str, where: str) -> FileError:
    """One of msgspec's errors as one of our sentences."""
    what, _, place = said.partition(" - at `")
    path = _steps(place.rstrip("`"))
    missing = re.match(r"Object missing required field `(.+)`", what)
    if missing:
        path = (*path, missing[1])
        expected = _expected(info, document, path)
        return FileError(f"is missing, expected {expected}", _place(where, path))
    expected = _expected(info, document, path) or _expected_of(what)
    return FileError(f"expected {expected}, found {describe(_at(document, path))}", _place(where, path))


def _steps(text: str) -> Path:
    found: list[str | int] = []
    for name, number in re.findall(r"\.([^.\[\]]+)|\[(\d+)\]", text):
        found.append(name or int(number))
    return tuple(found)


def _expected(info: inspect.Type, document: Any, path: Path) -> str:
    """The description on the way to a place that lies nearest to it."""
    words, value, now = _description(info), document, info
    for step in path:
        kind = _matching(now, value)
        own = _child(kind, step)
        if own is None:
            tags = [
                str(each.tag) for each in _kinds(now) if isinstance(each, inspect.StructType) and each.tag_field == step
            ]
            if tags:
                return "one of " + ", ".join(f'"{tag}"' for tag in tags)
            break
        words = _description(own) or words
        value = _at(value, (step,))
        now = own
    return words


def _description(info: inspect.Type) -> str:
    while isinstance(info, inspect.Metadata):
        words = (info.extra_json_schema or {}).get("description")
        if words:
            return str(words)
        info = info.type
    return ""


def _expected_of(what: str) -> str:
    found = re.match(r"Expected `([^`]+)`", what)
    words = {"float": "a number", "int": "a whole number", "str": "a text", "bool": "true or false", "array": "a list",
             "object": "an object with named keys"}  # fmt: skip
    return words.get(found[1].split(" ")[0].split("|")[0], "something else") if found else "something else"


def _at(value: Any, path: Path) -> Any:
    for step in path:
        try:
            value = value[step]
        except (KeyError, IndexError, TypeError):
            return None
    return value


def _copied(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _copied(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_copied(item) for item in value]
    return value


def _place(where: str, path: Path) -> str:
    text = where
    for step in path:
        text += f"[{step}]" if isinstance(step, int) else f".{step}" if text else step
    return text
