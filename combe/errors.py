"""Errors the user can act on: one type per cause, each one clear sentence."""

from __future__ import annotations

LONGEST_WORD, LONGEST = 80, 600
"""Characters of one word, and of a whole sentence."""


def _readable(text: str, longest: int = LONGEST_WORD) -> str:
    """A text with endless words cut, and not longer than a few lines."""
    cut = " ".join(word if len(word) <= longest else word[: longest - 3] + "..." for word in text.split(" "))
    return cut if len(cut) <= LONGEST else cut[: LONGEST - 3] + "..."


class CombeError(Exception):
    """What was wrong, where, and what would be right.

    Parameters
    ----------
    what
        The sentence itself, without a closing full stop.
    where
        The place: a file, a key such as ``bands[1].stop_hz``, or both; empty when there is none.
    instead
        What would be right or possible; empty when the sentence already says so.
    """

    def __init__(self, what: str, where: str = "", instead: str = "") -> None:
        # What was typed or read is repeated in a sentence, but not in full length.
        self.what = _readable(what)
        self.where = _readable(where, 300)
        self.instead = _readable(instead)
        super().__init__(self.sentence())

    def __reduce__(self) -> tuple[type[CombeError], tuple[str, str, str]]:
        return type(self), (self.what, self.where, self.instead)

    def sentence(self) -> str:
        """The whole message in one line."""
        text = f"{self.where}: {self.what}" if self.where else self.what
        if self.instead:
            text += f"; {self.instead}"
        return " ".join(text.split())

    def at(self, file: str) -> CombeError:
        """The same error with the file it came from in front of its place."""
        where = f"{file}: {self.where}" if self.where else file
        return type(self)(self.what, where, self.instead)


class RequirementError(CombeError):
    """The requirement contradicts itself or asks for something that has no meaning."""


class DesignError(CombeError):
    """No filter of the wanted kind can do what is asked."""


class FormatError(CombeError):
    """A number format or a realization that doesn't hold together."""


class PoleError(FormatError):
    """Coefficients of this width move a pole out, or where its structure can't have it; a wider one may hold it."""


class SumError(FormatError):
    """A sum is wider than what was chosen or what there is; narrower coefficients or states would fit."""


class StructureError(FormatError):
    """The structure doesn't suit the filter, or a choice doesn't suit the structure."""


class FractionError(FormatError):
    """A coefficient doesn't fit with its binary point where it was put."""


class FileError(CombeError):
    """A file that can't be read, written or understood."""


class ToolError(CombeError):
    """A compiler or simulator that is missing, fails or hangs."""


class Stopped(Exception):  # noqa: N818 - not an error: somebody asked for it
    """Raised inside long work after it was asked to stop."""
