"""Names that code may have: whatever is accepted builds, in every language; what is refused is told whose it is."""

from __future__ import annotations

import re
import shutil
import subprocess
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

from combe.delivery.c import c_package
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package, checked_name, identifier_from
from combe.errors import CombeError, FormatError
from combe.realization.stages import Realization
from combe.rounding.realize import Choices
from tests.support import some
from tests.test_code_choices import sections, taps

BUILD = {
    "c": (["gcc", "-std=c99", "-Wall", "-Wextra", "-Werror", "-fsyntax-only"], ".c"),
    "c++": (["g++", "-std=c++17", "-Wall", "-Wextra", "-Werror", "-fsyntax-only"], ".cpp"),
    "verilog": (["iverilog", "-g2001", "-o", "/dev/null"], ".v"),
    "vhdl": (["ghdl", "-a", "--std=93c"], ".vhd"),
}
LIKELY = [
    "std",
    "size_t",
    "NULL",
    "int8_t",
    "uint32_t",
    "memcpy",
    "abs",
    "round",
    "printf",
    "stdin",
    "main",
    "errno",
    "INT32_MAX",
    "input",
    "output",
    "state",
    "run",
    "reset",
    "block",
    "count",
    "constexpr",
    "nullptr",
    "concept",
    "final",
    "co_await",
    "typeof",
    "std_logic",
    "to_signed",
    "to_unsigned",
    "rising_edge",
    "falling_edge",
    "resize",
    "natural",
    "positive",
    "severity_level",
    "textio",
    "line",
    "note",
    "failure",
    "now",
    "logic",
    "byte",
    "string",
    "table",
    "initial",
    "clk",
    "clock",
    "bat_band",
    "Filter1",
    "a",
    "x",
    "y",
    "n",
    "acc",
    "total",
]


def made_in(language: str, made: Realization, name: str) -> Package:
    """A package of a language under a name."""
    if language in ("c", "c++"):
        return c_package(made, name, choices=CodeChoices(language=language))
    return hdl_package(made, language, name)


def complaint(language: str, made: Realization, name: str) -> str | None:
    """What a compiler says of a name; None where Combe refuses it, empty where it builds."""
    try:
        package = made_in(language, made, name)
    except CombeError:
        return None
    command, ending = BUILD[language]
    with tempfile.TemporaryDirectory() as folder:
        package.write(folder)
        files = [file.name for file in package.files if file.name.endswith(ending)]
        done = subprocess.run([*command, *files], cwd=folder, capture_output=True, text=True, check=False)
        return (done.stderr or done.stdout)[:300] if done.returncode else ""


class Names(unittest.TestCase):
    def words_of(self, language: str, made: Realization) -> list[str]:
        """Every word the generated text itself uses, and words of the language and its headers."""
        text = "\n".join(file.text for file in made_in(language, made, "zzz").files if not file.name.endswith(".txt"))
        text = re.sub(r"/\*.*?\*/|--[^\n]*|//[^\n]*", "", text, flags=re.DOTALL)
        found = {word for word in re.findall(r"\b[A-Za-z][A-Za-z0-9_]{0,38}\b", text) if "zzz" not in word.lower()}
        return sorted(found | set(LIKELY))

    def test_every_word_of_the_generated_text_builds_as_a_name_or_is_refused(self) -> None:
        for language, (command, _) in BUILD.items():
            if shutil.which(command[0]) is None:
                continue
            for made in (taps(order=8), sections(Choices(16, "transposed-2"))):
                words = self.words_of(language, made)
                chosen = sorted({*some(LIKELY, 3), *some(words, 3)})
                with ThreadPoolExecutor(2) as pool:
                    told = list(pool.map(partial(complaint, language, made), chosen))
                broken = {word: said for word, said in zip(chosen, told) if said}
                self.assertEqual(broken, {}, language)
                self.assertGreater(told.count(""), 2, language)

    def test_the_names_that_were_let_through(self) -> None:
        for name, owner in (
            ("size_t", "headers of C"), ("NULL", "headers of C"), ("std", "C\\+\\+"), ("input", "code that is written"),
            ("state", "code that is written"), ("input_type", "code that is written"), ("output_type", "code that is written"),
            ("run_codes", "code that is written"), ("set_taps_0", "code that is written"), ("set_section_12", "code that is written"),
            ("while", "in C"), ("class", "C\\+\\+"),
        ):  # fmt: skip
            with self.assertRaisesRegex(FormatError, owner):
                checked_name(name)
        for name in ("to_signed", "rising_edge", "Rising_Edge", "positive"):
            with self.assertRaisesRegex(FormatError, "VHDL"):
                hdl_package(taps(order=8), "vhdl", name)

    def test_a_name_made_from_any_text_is_free(self) -> None:
        for text in ("Input", "std", "NULL", "2 taps", "size_t", "run", "…", "a-b c", "memcpy"):
            self.assertEqual(checked_name(identifier_from(text)), identifier_from(text))


@unittest.skipUnless(shutil.which("gcc") and shutil.which("nm"), "gcc is not on this machine")
class Sections(unittest.TestCase):
    def test_nothing_that_is_constant_lies_in_memory_that_can_be_written(self) -> None:
        for structure in ("direct-1", "transposed-2", "lattice", "coupled"):
            with self.subTest(structure=structure), tempfile.TemporaryDirectory() as folder:
                c_package(sections(Choices(16, structure)), "held").write(folder)
                subprocess.run(["gcc", "-std=c99", "-O2", "-c", "held.c"], cwd=folder, check=True)
                listed = subprocess.run(["nm", "held.o"], cwd=folder, capture_output=True, text=True, check=True).stdout
                kinds = {line.split()[-2]: line for line in listed.splitlines()}
                self.assertIn("r", kinds, "the factors")
                self.assertFalse({"d", "D", "b", "B"} & set(kinds), listed)
                self.assertNotIn("static const volatile", (Path(folder) / "held.c").read_text(encoding="utf-8"))


if __name__ == "__main__":
    unittest.main()
