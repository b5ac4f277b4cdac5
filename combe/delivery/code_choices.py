"""What an engineer chooses about generated code: language, numbers, layout of the history, converters, names."""

from __future__ import annotations

import re

from msgspec import Struct

from combe.delivery.languages import NAMES, Language, language_named
from combe.errors import FormatError
from combe.realization.formats import Format, narrowest_signed

NUMBERS = ("integer", "single", "double")
HISTORIES = ("blocks", "double", "circular")
UNROLLS = (0, 4, 8, 16, 32)
BUILDS = ("make", "cmake", "meson")
MOST_CODE_BITS = 31


class Converter(Struct, frozen=True):
    """Unsigned codes of ``bits``; ``offset`` is the code that stands for zero."""

    bits: int
    offset: int

    @property
    def text(self) -> str:
        """As it is typed: bits@offset."""
        return f"{self.bits}@{self.offset}"

    @property
    def most(self) -> int:
        """The largest code."""
        return (1 << self.bits) - 1

    @property
    def value_bits(self) -> int:
        """Bits of the signed value a code stands for, once the offset is gone."""
        return narrowest_signed(-self.offset, self.most - self.offset)


class CodeChoices(Struct, frozen=True):
    """Everything about the text that isn't arithmetic.

    ``number`` single or double computes the same stages in floating point, unrounded, in real values. ``history`` is how a
    FIR keeps its samples: ``blocks`` in one piece, four outputs at a time; ``double`` twice over, so that no test for the
    wrap is needed; ``circular`` once, the least memory. ``unroll`` taps make one turn of the inner loop (0: as many as
    pay). ``reloadable`` keeps coefficients in the state, to be set while it runs. ``converter_in`` and ``converter_out``
    (``bits@offset``) add an entry that takes and gives raw unsigned codes. ``guard`` sets values of a floating-point loop
    to zero before they become denormal. ``build`` adds a description for another build tool beside the Makefile.
    ``single_file`` puts all of the C into the header, for one file of a program to take the body from. ``file_name`` and ``type_name`` are the name where they are empty.
    """

    language: str = "c"
    number: str = "integer"
    history: str = "blocks"
    unroll: int = 0
    intrinsics: bool = True
    reloadable: bool = False
    guard: bool = False
    converter_in: str = ""
    converter_out: str = ""
    build: str = "make"
    single_file: bool = False
    file_name: str = ""
    type_name: str = ""

    @property
    def written_in(self) -> Language:
        """The language, with what belongs to it."""
        return language_named(self.language)

    @property
    def is_header_alone(self) -> bool:
        """Whether all of the C stands in the header; other languages have a way of their own."""
        return self.single_file and "single_file" in self.written_in.choices

    @property
    def is_float(self) -> bool:
        """Whether it computes in floating point."""
        return self.number != "integer"


def check_code_choices(choices: CodeChoices) -> None:
    """Raise ``FormatError`` at the first choice that isn't known or doesn't go with another."""
    for key, value, known in (
        ("language", choices.language, NAMES), ("number", choices.number, NUMBERS),
        ("history", choices.history, HISTORIES), ("unroll", choices.unroll, UNROLLS),
        ("build", choices.build, BUILDS),
    ):  # fmt: skip
        if value not in known:
            raise FormatError(f'"{value}" is not known here', key, f"known are {', '.join(str(k) for k in known)}")
    if choices.guard and not choices.is_float:
        raise FormatError("integers have no denormals to guard against", "guard", "take single or double")
    if choices.is_float and (choices.converter_in or choices.converter_out):
        raise FormatError("converter codes go with integers", "converter_in", "take integer numbers")
    if bool(choices.converter_in) != bool(choices.converter_out):
        missing = "converter_out" if choices.converter_in else "converter_in"
        raise FormatError("a converter is needed on both sides", missing, "give both, such as 12@2048")
    if choices.converter_in:
        converter_from(choices.converter_in, "converter_in")
        converter_from(choices.converter_out, "converter_out")


def converter_from(text: str, where: str) -> Converter:
    """``12`` (offset in the middle) or ``12@2000``.

    Raises
    ------
    FormatError
        If it's neither.
    """
    found = re.fullmatch(r"(\d{1,2})(?:@(\d{1,10}))?", text.strip())
    bits = int(found[1]) if found else 0
    if found is None or not 2 <= bits <= MOST_CODE_BITS:
        raise FormatError(
            f"{text!r} is not a converter", where, f"2 to {MOST_CODE_BITS} bits and an offset, such as 12@2048"
        )
    offset = int(found[2]) if found[2] else 1 << (bits - 1)
    if offset >= 1 << bits:
        raise FormatError(f"offset {offset} is no code of {bits} bits", where, f"0 to {(1 << bits) - 1}")
    return Converter(bits, offset)


def input_shift(converter: Converter, entry: Format) -> int:
    """Bits a value is moved up so that the converter's range fills the input format.

    Raises
    ------
    FormatError
        If the format is too narrow for the codes.
    """
    shift = entry.bits - converter.value_bits
    if not entry.signed:
        raise FormatError(f"{entry} can't take values below zero", "converter_in", "take a signed input")
    if shift < 0:
        what = f"{entry} is too narrow for codes of {converter.bits} bits less {converter.offset}"
        raise FormatError(what, "converter_in", f"an input of {converter.value_bits} bits holds them")
    return shift


def output_shift(converter: Converter, entry: Format) -> int:
    """Bits a value is moved down (up, below zero) so that the output format's range fills the converter's."""
    return entry.bits + (not entry.signed) - converter.bits
