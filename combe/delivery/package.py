"""What a delivery is: files by name, and a checksum that a proof can be tied to."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

from msgspec import Struct

from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.languages import Language, language_named
from combe.delivery.words import owner_of
from combe.errors import FormatError
from combe.files import encoded, make_folder
from combe.placing import write_files

OTHERWISE = {"Makefile": ".mk", "CMakeLists.txt": ".cmake", "meson.build": ""}
"""Files that every package has under the same name, and how they end where that one is taken."""


class SourceFile(Struct, frozen=True):
    """One generated file."""

    name: str
    text: str


class Package(Struct, frozen=True):
    """All generated files of one delivery."""

    language: str
    name: str
    files: tuple[SourceFile, ...]
    choices: CodeChoices | HardwareChoices = CodeChoices()
    """Of the kind its language listens to."""

    @property
    def checksum(self) -> str:
        """A fingerprint of every name and every character."""
        digest = hashlib.sha256()
        for file in self.files:
            digest.update(f"{file.name}\0{file.text}\0".encode())
        return digest.hexdigest()[:16]

    @property
    def code(self) -> CodeChoices:
        """Choices about a processor's code; the usual ones for a circuit."""
        return self.choices if isinstance(self.choices, CodeChoices) else CodeChoices(self.language)

    @property
    def circuit(self) -> HardwareChoices | None:
        """Choices about a circuit; nothing for a processor's code."""
        return self.choices if isinstance(self.choices, HardwareChoices) else None

    @property
    def written_in(self) -> Language:
        """Its language, with what belongs to it."""
        return language_named(self.language)

    @property
    def main(self) -> SourceFile:
        """The file one would open first."""
        ending = ".h" if self.code.is_header_alone else self.written_in.main
        return next(file for file in self.files if file.name.endswith(ending))

    @property
    def file(self) -> str:
        """What the files are called."""
        return self.code.file_name or self.name

    @property
    def types(self) -> dict[str, str]:
        """The names of its types."""
        kind = self.code.type_name or self.name
        return {"input": f"{kind}_in_t", "output": f"{kind}_out_t", "state": f"{kind}_state_t", "cls": kind}

    def text(self, ending: str) -> str:
        """The text of the file whose name ends so."""
        return next(file.text for file in self.files if file.name.endswith(ending))

    def write(self, folder: str | Path, is_lasting: bool = True) -> list[Path]:
        """Write every file into a folder, made if needed; all of them appear, whole, or none. Of a folder that is thrown away they
        needn't outlive a loss of power.

        A ``Makefile`` that is another's stays; this package's is called after it then, ``NAME.mk``; so with ``CMakeLists.txt`` and
        ``NAME.cmake``. A ``meson.build`` can have no other name.

        Raises
        ------
        FormatError
            If another's ``meson.build`` stands there.
        """
        target = make_folder(folder)
        placed = [(self.place_of(target, file), encoded(file.text, file.name)) for file in self.files]
        write_files(placed, is_lasting)
        return [path for path, _ in placed]

    def place_of(self, folder: Path, file: SourceFile) -> Path:
        """Where a file goes: under its own name, unless a build file of somebody else's stands there."""
        own = folder / file.name
        if file.name not in OTHERWISE:
            return own
        try:
            standing = own.read_text(encoding="utf-8", errors="replace")
        except OSError:
            return own
        is_ours = standing.split("\n", 1)[0] == file.text.split("\n", 1)[0] and self.main.name in standing
        if is_ours or not standing.strip():
            return own
        if not OTHERWISE[file.name]:
            raise FormatError(
                f"{own} is another filter's", "to", "a folder holds one meson.build: deliver to one of its own"
            )
        return folder / f"{self.file}{OTHERWISE[file.name]}"


def checked_name(name: str) -> str:
    """A name the user typed, if it can stand in code.

    Raises
    ------
    FormatError
        If it isn't an identifier of every language written, or is reserved in one.
    """
    if not re.fullmatch(r"[A-Za-z][A-Za-z0-9_]{0,39}", name):
        instead = f"{identifier_from(name)!r} would be" if re.search("[A-Za-z]", name) else "start with a letter"
        raise FormatError(
            f"{name!r} is not a name that code can have",
            "name",
            f"{instead}; letters, digits and _ are taken, 40 at most",
        )
    owner = owner_of(name)
    if owner or "__" in name or name.endswith("_"):
        what = f"{name!r} is a reserved word" if not owner else f"{name!r} means something else in {owner}"
        raise FormatError(what, "name", f"{name.rstrip('_')}_filter would do")
    return name


def identifier_from(text: str) -> str:
    """A valid name made from any text: what can't stand becomes an underscore."""
    word = re.sub(r"[^A-Za-z0-9]+", "_", text).strip("_").lower()[:36]
    word = word.rstrip("_")
    if not word or not word[0].isalpha():
        word = f"filter_{word}".rstrip("_")
    return f"{word}_filter" if owner_of(word) else word
