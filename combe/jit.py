"""Loops compiled by numba, kept on disk where that's possible."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numba


def compiled(**options: Any) -> Callable[[Any], Any]:
    """A decorator: compile, and keep the result for the next start unless no folder can be written to. Other threads run
    meanwhile: the loops touch nothing but their arrays."""

    settings = {"nogil": True} | options

    def decorate(function: Any) -> Any:
        try:
            return numba.njit(cache=True, **settings)(function)
        except RuntimeError:
            return numba.njit(**settings)(function)

    return decorate
