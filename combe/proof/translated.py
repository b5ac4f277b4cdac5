"""A circuit in the language that yosys and Verilator read."""

from __future__ import annotations

import re
from pathlib import Path

from combe.delivery.package import Package
from combe.proof.tools import find, run
from combe.proof.words import in_words

SECONDS = 300
GROUP = 32
"""GHDL 2.0 writes a constant of several whole groups of so many bits as zeros where only its highest group has any ones."""
_TABLE = re.compile(
    r"(type (\w+) is array \(0 to )(\d+)(\) of \w+\((\d+) downto 0\);\s*(?:constant|signal) \w+ : \2 := \((?=\n))(.*?)(\n *\);)",
    re.DOTALL,
)
_WORD = re.compile(r'(?:0 => )?(?:to_(?:un)?signed\((-?\d+), \d+\)|(?:(?:un)?signed\'\()?"([01]+)"\)?)')


_LITERAL = re.compile(r"((?:un)?signed)'\(\"([01]+)\"\)")


def without_lost(text: str) -> str:
    """VHDL with one word of ones more, which is never read, in every table that would be lost; a number that would be is what
    stands above the lowest bit of a signal."""

    def longer(found: re.Match[str]) -> str:
        words, width = int(found[3]) + 1, int(found[5]) + 1
        listed = [word.strip() for word in re.split(r",\s*(?![^(]*\))", found[6])]
        listed = [word for word in listed if not word.startswith("others")]
        if not _is_lost(listed, words, width):
            return found[0]
        listed = [word.removeprefix("0 => ") for word in listed] + ["(others => '0')"] * (words - len(listed))
        row = ",\n        ".join([*listed, "(others => '1')"])
        return f"{found[1]}{words}{found[4]}\n        {row}{found[7]}"

    head, begin, body = _TABLE.sub(longer, text).partition("\nbegin\n")
    signals, drives = list[str](), list[str]()

    def above(found: re.Match[str]) -> str:
        kind, digits = found[1], found[2]
        if not _is_lost([f'"{digits}"'], 1, len(digits)):
            return found[0]
        name = f"number_{len(signals)}_of_{len(digits)}_bits"
        signals.append(f"\n    signal {name} : {kind}({len(digits)} downto 0);")
        drives.append(f'    {name} <= "{digits}1";\n')
        return f"{name}({len(digits)} downto 1)"

    body = _LITERAL.sub(above, body)
    return head + "".join(signals) + begin + "".join(drives) + body


def _is_lost(listed: list[str], words: int, width: int) -> bool:
    """Whether a table is written as zeros; one that can't be read is taken for such."""
    bits = words * width
    if bits % GROUP or bits == GROUP:
        return False
    value = 0
    for word in listed:
        found = _WORD.fullmatch(word)
        if found is None:
            return True
        number = int(found[1]) if found[1] is not None else int(found[2], 2)
        value = (value << width) | (number & ((1 << width) - 1))
    value <<= width * (words - len(listed))
    return value != 0 and value % (1 << (bits - GROUP)) == 0


def _signed(found: re.Match[str], written: set[str]) -> str:
    width, zeros, digits = int(found[1]), found[2], found[3]
    if len(zeros) + 32 != width or zeros + digits in written:
        return found[0]
    return f"{width}'b{'1' * len(zeros)}{digits}"


def as_verilog(package: Package, folder: Path, wrapper: str = "", is_in_words: bool = False) -> str:
    """The file that is read: itself, or what GHDL makes of VHDL; with a ``wrapper`` that of the entity ``NAME_axi`` or another
    beside it, the circuit inside. ``is_in_words``: with vectors taken apart, for a simulator.

    Raises
    ------
    ToolError
        If GHDL is missing or fails.
    """
    if package.language == "verilog":
        return f"{package.name}.v"
    top = wrapper or package.name
    (folder / "to_translate.vhd").write_text(without_lost(package.text(f"{package.name}.vhd")), encoding="utf-8")
    sources = ["to_translate.vhd", *([f"{wrapper}.vhd"] if wrapper else [])]
    command = [find("ghdl"), "--synth", "--std=93c", "--out=verilog", *sources, "-e", top]
    text = run(command, folder, seconds=SECONDS).decode("utf-8", "replace")
    # It writes signed products as unsigned ones of extended numbers and says so; said in Verilog, they can be narrowed again.
    text = re.sub(r"= (.*) \* (.*); // smul", r"= $signed(\1) * $signed(\2);", text)
    # Constants of more than 32 bits come out as texts of their digits, which Verilog takes for characters.
    text = re.sub(r'"([01XZxz]+)"', lambda found: f"{len(found[1])}'b{found[1]}", text)
    # Negative ones made of integers come out as 32 bits with zeros in front; those written digit by digit are as they were.
    written = set(re.findall(r'"([01]+)"', package.text(f"{package.name}.vhd")))
    text = re.sub(r"\b(\d+)'b(0+)(1[01]{31})\b", lambda found: _signed(found, written), text)
    # A bit of a constant is written as a constant with an index, and the empty address of a single word as no digits at all.
    text = re.sub(r"\b(\d+)'b([01]+)\[(\d+)\]", lambda found: f"1'b{found[2][int(found[1]) - 1 - int(found[3])]}", text)
    text = re.sub(r"\b0'b(?![01])", "1'b0", text)
    (folder / "from_vhdl.v").write_text(in_words(text) if is_in_words else text, encoding="utf-8")
    return "from_vhdl.v"
