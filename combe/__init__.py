"""Combe: filters from a requirement to proved fixed-point code.

The folders below stand in the order in which an engineer works; data flows one way through them::

    Requirement -> Design -> Realization -> Delivery -> Proof

``import combe`` gives scripts the functions of ``combe.api``, each loaded when it is first asked for.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.4.0"

if TYPE_CHECKING:
    from combe.api import (
        CombeError,
        Delivery,
        bench,
        board,
        capture,
        check,
        contenders,
        deliver,
        design,
        document,
        from_document,
        lines,
        load,
        meets,
        race,
        realize,
        response,
        save,
        simulate,
        table,
        trade,
        write_race,
    )

__all__ = [
    "CombeError", "Delivery", "__version__", "bench", "board", "capture", "check", "contenders", "deliver", "design", "document", "from_document", "lines",
    "load", "meets", "race", "realize", "response", "save", "simulate", "table", "trade", "write_race",
]  # fmt: skip


def __getattr__(name: str) -> Any:
    if name in __all__:
        from combe import api

        return getattr(api, name)
    raise AttributeError(f"module 'combe' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted(__all__)
