"""A sentence about a realization, how much it matters, and what would help."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from msgspec import Struct

SEVERITIES = ("danger", "warning", "note")


@dataclass(frozen=True, slots=True)
class Remedy:
    """What a button says, and the choices it changes."""

    words: str
    changes: dict[str, Any] = field(hash=False)


class Fact(Struct, frozen=True):
    """A sentence, and how much it matters: ``note``, ``warning`` or ``danger``."""

    severity: str
    sentence: str
    remedy: Remedy | None = None
