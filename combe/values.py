"""Values that never change: what all of Combe passes around."""

from __future__ import annotations

import dataclasses
from typing import Any, TypeVar

import msgspec

Some = TypeVar("Some")


def replace(value: Some, /, **changes: Any) -> Some:
    """The same value with some of its fields replaced, checked as a new one is."""
    if isinstance(value, msgspec.Struct):
        return msgspec.structs.replace(value, **changes)
    return dataclasses.replace(value, **changes)  # type: ignore[type-var]


def as_dict(value: msgspec.Struct) -> dict[str, Any]:
    """The fields of a value by name."""
    return msgspec.structs.asdict(value)
