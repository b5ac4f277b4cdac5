"""What a report holds: chapters of sections, each with sentences, tables, lines of text and figures."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from msgspec import Struct

if TYPE_CHECKING:
    from matplotlib.figure import Figure

Table = tuple[tuple[str, ...], ...]
"""Rows of cells, the first its head."""


class Drawing(Struct, frozen=True):
    """A figure, drawn when it is wanted; ``words`` say what it shows to whoever can't see it."""

    title: str
    words: str
    draw: Callable[[], Figure]


class Section(Struct, frozen=True):
    """A heading and what stands under it."""

    title: str
    sentences: tuple[str, ...] = ()
    table: Table = ()
    text: tuple[str, ...] = ()
    drawings: tuple[Drawing, ...] = ()


class Chapter(Struct, frozen=True):
    """The story of one filter, or of what joins several."""

    title: str
    sections: tuple[Section, ...]


class Report(Struct, frozen=True):
    """Everything that's told; ``verdict`` in a sentence, before anything else."""

    title: str
    verdict: str
    chapters: tuple[Chapter, ...]
