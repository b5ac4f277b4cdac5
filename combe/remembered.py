"""Results remembered up to a size: arrays of long filters are large, and a window stays open all day."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from functools import wraps
from threading import Lock
from typing import Any, TypeVar, cast

import numpy as np
from msgspec import Struct

F = TypeVar("F", bound=Callable[..., Any])
ALONE = 256
"""Bytes that any entry counts for."""


def size_of(value: object) -> int:
    """Bytes of an array, or of the arrays a value or a tuple holds."""
    if isinstance(value, np.ndarray):
        return value.nbytes + ALONE
    if isinstance(value, (tuple, list)):
        if value and isinstance(value[0], (float, int)):
            return ALONE  # a row of numbers, of which none is an array
        return ALONE + sum(size_of(each) for each in value if isinstance(each, (np.ndarray, Struct, tuple, list)))
    if isinstance(value, Struct):
        return ALONE + sum(size_of(getattr(value, name)) for name in value.__struct_fields__)
    return ALONE


def remembered(most_bytes: int) -> Callable[[F], F]:
    """A decorator: what a function returned for its arguments is kept until it and what was used since take more than so
    many bytes. Functions must not change what they return."""

    def decorate(function: F) -> F:
        known: OrderedDict[object, tuple[Any, int]] = OrderedDict()
        lock = Lock()
        held = [0]

        @wraps(function)
        def again(*words: Any) -> Any:
            with lock:
                if words in known:
                    known.move_to_end(words)
                    return known[words][0]
            value = function(*words)
            size = size_of(value)
            with lock:
                if words not in known and size <= most_bytes:
                    known[words] = value, size
                    held[0] += size
                while held[0] > most_bytes:
                    held[0] -= known.popitem(last=False)[1][1]
            return value

        def cache_clear() -> None:
            with lock:
                known.clear()
                held[0] = 0

        again.held_bytes = lambda: held[0]  # type: ignore[attr-defined]
        again.cache_clear = cache_clear  # type: ignore[attr-defined]
        return cast(F, again)

    return decorate
