"""Every language code is written in: one entry each brings its choices, its writer, its runners and its kinds of files.

Whoever needs to know something about a language asks here; nobody else tells languages apart.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import TYPE_CHECKING, Any, cast

from msgspec import Struct

from combe.delivery.hdl.choices import HARDWARE_KEYS
from combe.errors import FormatError

if TYPE_CHECKING:
    from combe.delivery.code_choices import CodeChoices
    from combe.delivery.hdl.choices import HardwareChoices
    from combe.delivery.package import Package
    from combe.filters import Filter
    from combe.ledger import Line
    from combe.realization.stages import Realization
    from combe.requirement import Requirement

PROCESSORS, CIRCUITS = "processors", "circuits"
CODES = ("reloadable", "converter_in", "converter_out")
OF_CODE = ("number", "history", "unroll", "intrinsics", "guard", "build", "file_name", "type_name", *CODES)
OF_CIRCUITS = (*HARDWARE_KEYS, *CODES)
"""Choices by their keys in a project; what is measured or built on top of them belongs to a language too."""


class Order(Struct, frozen=True):
    """What is to be written: the integers, a name, what the story in the files tells, and the choices of either kind."""

    realization: Realization
    name: str
    code: CodeChoices
    circuit: HardwareChoices
    requirement: Requirement | None = None
    lines: tuple[Line, ...] = ()
    made: str = ""


class Language(Struct, frozen=True):
    """``choices`` are the keys it listens to, ``extras`` what else can be asked of it on the command line.

    ``written_in`` and ``proved_in`` name functions, ``module:function``; they are loaded when they are called.
    ``main`` is the ending of the file one would open first, ``lexers`` tells each ending's syntax to whoever colours it.
    ``tools`` run it, in the order in which they are tried.
    """

    name: str
    title: str
    kind: str
    choices: tuple[str, ...]
    extras: tuple[str, ...]
    written_in: str
    proved_in: str
    main: str
    lexers: tuple[tuple[str, str], ...]
    tools: tuple[str, ...]
    remark: str = ""

    @property
    def is_circuit(self) -> bool:
        """Whether it describes hardware."""
        return self.kind == CIRCUITS

    def write(self, order: Order) -> Package:
        """All files of a delivery."""
        return cast("Package", _loaded(self.written_in)(order))

    def prove(
        self,
        package: Package,
        realization: Realization,
        lines: tuple[Line, ...] = (),
        ideal: Filter | None = None,
        report: Callable[[str], None] = lambda _: None,
        is_stopped: Callable[[], bool] = lambda: False,
    ) -> Any:
        """Real tools on a package of this language: a proof that knows whether it ``holds`` and tells it in a sentence.

        ``lines`` are measured anew on the program's outputs; ``ideal`` is the unrounded filter errors are told against.
        """
        return _loaded(self.proved_in)(package, realization, lines, ideal, report, is_stopped)

    def checked_name(self, name: str, fallback: str) -> str:
        """A name given by hand if it can stand in this language; without one, another made from ``fallback``."""
        from combe.delivery.hdl.words import hdl_identifier
        from combe.delivery.package import checked_name, identifier_from

        if name:
            return checked_name(name)
        found = identifier_from(fallback)
        return hdl_identifier(found) if self.is_circuit else found


C_WRITER, HDL_WRITER = "combe.delivery.c.writer:written", "combe.delivery.hdl.writer:written"
C_PROOF, HDL_PROOF = "combe.proof.c:proved", "combe.proof.hdl:proved"
LANGUAGES = (
    Language(
        "c", "C", PROCESSORS, (*OF_CODE, "single_file"), ("target",), C_WRITER, C_PROOF, ".c",
        ((".c", "c"), (".h", "c"), ("Makefile", "make"), ("CMakeLists.txt", "cmake"), ("meson.build", "meson")), ("gcc",),
    ),
    Language(
        "c++", "C++", PROCESSORS, OF_CODE, (), C_WRITER, C_PROOF, ".hpp",
        ((".hpp", "cpp"), (".cpp", "cpp"), ("Makefile", "make")), ("g++",), "c++: one header with a small class",
    ),
    Language(
        "rust", "Rust", PROCESSORS, (), (), "combe.delivery.rust.writer:written", "combe.proof.rust:proved", ".rs",
        ((".rs", "rust"), ("Makefile", "make")), ("rustc",), "rust: a module without the standard library",
    ),
    Language(
        "verilog", "Verilog", CIRCUITS, OF_CIRCUITS, ("synthesize",), HDL_WRITER, HDL_PROOF, ".v",
        ((".v", "verilog"), (".md", "markdown"), ("Makefile", "make"), (".core", "yaml"), (".xml", "xml")), ("iverilog", "verilator"),
    ),
    Language(
        "vhdl", "VHDL", CIRCUITS, OF_CIRCUITS, ("synthesize",), HDL_WRITER, HDL_PROOF, ".vhd",
        ((".vhd", "vhdl"), (".md", "markdown"), ("Makefile", "make"), (".core", "yaml"), (".xml", "xml")), ("ghdl",),
    ),
)  # fmt: skip
BY_NAME = {language.name: language for language in LANGUAGES}
NAMES = tuple(BY_NAME)
LEXERS = {ending: lexer for language in LANGUAGES for ending, lexer in language.lexers}


def language_named(name: str, where: str = "language") -> Language:
    """A language by its name.

    Raises
    ------
    FormatError
        If Combe doesn't write it.
    """
    if name not in BY_NAME:
        raise FormatError(f'"{name}" is not a language Combe writes', where, f"known are {', '.join(NAMES)}")
    return BY_NAME[name]


def check_options(language: Language, given: dict[str, str]) -> None:
    """Refuse options that a language doesn't listen to; ``given`` are the options in use by their keys.

    Raises
    ------
    FormatError
        Naming the option and the languages it belongs to.
    """
    known = {key for each in LANGUAGES for key in (*each.choices, *each.extras)}
    for key, option in given.items():
        if key in known and key not in (*language.choices, *language.extras):
            owners = " or ".join(each.title for each in LANGUAGES if key in (*each.choices, *each.extras))
            raise FormatError(f"this does not go with {language.title}", option, f"it belongs to {owners}")


def _loaded(place: str) -> Callable[..., Any]:
    module, _, name = place.partition(":")
    return cast(Callable[..., Any], getattr(import_module(module), name))
