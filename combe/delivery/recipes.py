"""Recipes: how a list of coefficients becomes text, in any language or layout."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct

from combe.checking import Fields
from combe.errors import CombeError, FileError
from combe.files import read_json
from combe.schema import one_of, read
from combe.values import as_dict

RADIXES = ("decimal", "hex", "binary", "float")
SIGNS = ("a", "-a")
MOST_PER_LINE = 1000


class Recipe(Struct, frozen=True):
    """Texts may hold {name}, {count}, {format}, {type}; ``value`` also {value} and {index}.

    ``radix``: integers in decimal, in hexadecimal or binary two's complement of their width, or as the real values they
    stand for. ``half`` gives the first half (and the middle) of a symmetric set only. ``signs`` says how a₁, a₂ of sections
    are written: as in 1 + a₁z⁻¹ + a₂z⁻², or negated.
    """

    name: str
    header: str = ""
    value: str = "{value}"
    separator: str = ", "
    per_line: int = 8
    line_start: str = ""
    footer: str = "\n"
    radix: str = "decimal"
    half: bool = False
    signs: str = "a"


Text = Annotated[str, Meta(description="a text")]


class RecipeShape(Struct, forbid_unknown_fields=True):
    """The shape of a recipe file."""

    format: Any = None
    version: Any = None
    name: Text = "recipe"
    header: Text = ""
    value: Text = "{value}"
    separator: Text = ", "
    per_line: Annotated[int, Meta(ge=1, le=MOST_PER_LINE, description=f"a whole number from 1 to {MOST_PER_LINE}")] = 8
    line_start: Text = ""
    footer: Text = "\n"
    radix: Annotated[Literal["decimal", "hex", "binary", "float"], one_of(RADIXES)] = "decimal"
    half: Annotated[bool, Meta(description="true or false")] = False
    signs: Annotated[Literal["a", "-a"], one_of(SIGNS)] = "a"


GALLERY = (
    Recipe("c-array", "static const {type} {name}[{count}] = {\n", line_start="    ", footer="\n};\n"),
    Recipe(
        "c-header", "#ifndef {NAME}_H\n#define {NAME}_H\n\n#include <stdint.h>\n\n#define {NAME}_COUNT {count}\n"
        "/* {format} */\nstatic const {type} {name}[{count}] = {\n", line_start="    ", footer="\n};\n\n#endif\n",
    ),
    Recipe("lines", separator="", per_line=1),
    Recipe("csv", "index,value\n", "{index},{value}", separator="", per_line=1),
    Recipe("json", "[\n", line_start="  ", footer="\n]\n"),
    Recipe("hex-memory", separator="", per_line=1, radix="hex"),
    Recipe(
        "vhdl-constant", "type {name}_t is array (0 to {last}) of integer;\nconstant {name} : {name}_t := (\n",
        "{index} => {value}", per_line=6, line_start="  ", footer="\n);\n",
    ),
    Recipe("floats", radix="float", separator="", per_line=1),
)  # fmt: skip
"""Neutral ones that come with Combe."""


class Coefficient(Struct, frozen=True):
    """An integer with its width, or a real number (``bits`` None); ``real`` is what it stands for."""

    raw: int | float
    real: float
    bits: int | None
    is_feedback: bool = False


def recipe_named(word: str) -> Recipe:
    """One of the gallery, or one in a file.

    Raises
    ------
    FileError
        Naming what is wrong with it, or what is known.
    """
    for recipe in GALLERY:
        if recipe.name == word:
            return recipe
    if not Path(word).exists():
        known = ", ".join(recipe.name for recipe in GALLERY)
        raise FileError(f"{word!r} is no recipe and no file", "--recipe", f"known are {known}")
    try:
        return recipe_from(read_json(word))
    except CombeError as error:
        raise error.at(word) from None


def recipe_from(document: Any, where: str = "") -> Recipe:
    """The recipe in a JSON document."""
    Fields(document, where).header("combe-recipe", 1)
    found = read(document, RecipeShape, where)
    return Recipe(**{key: getattr(found, key) for key in Recipe.__struct_fields__})


def recipe_document(recipe: Recipe) -> dict[str, Any]:
    """The JSON document of a recipe; reading it gives the same value again."""
    standard = Recipe("recipe")
    changed = {key: value for key, value in as_dict(recipe).items() if value != getattr(standard, key)}
    return {"format": "combe-recipe", "version": 1, "name": recipe.name, **changed}


def table_text(coefficients: list[Coefficient], recipe: Recipe, name: str, described: str, c_type: str) -> str:
    """The text a recipe makes.

    Raises
    ------
    FileError
        If a half is asked of a set that isn't symmetric, or an integer's digits of a real number.
    """
    chosen = _half(coefficients) if recipe.half else coefficients
    shared = {
        "{name}": name, "{NAME}": name.upper(), "{count}": str(len(chosen)), "{last}": str(len(chosen) - 1),
        "{format}": described, "{type}": "double" if recipe.radix == "float" else c_type,
    }  # fmt: skip
    words = [
        _filled(recipe.value, shared | {"{value}": _digits(each, recipe), "{index}": str(index)})
        for index, each in enumerate(chosen)
    ]
    rows = [words[k : k + recipe.per_line] for k in range(0, len(words), recipe.per_line)]
    lines = [recipe.line_start + recipe.separator.join(row) for row in rows]
    body = (recipe.separator.rstrip() + "\n").join(lines)
    return _filled(recipe.header, shared) + body + _filled(recipe.footer, shared)


def _filled(text: str, words: dict[str, str]) -> str:
    for mark, word in words.items():
        text = text.replace(mark, word)
    return text


def _half(coefficients: list[Coefficient]) -> list[Coefficient]:
    values = [each.raw for each in coefficients]
    if values != values[::-1] and values != [-value for value in values[::-1]]:
        raise FileError("half a set is asked for, and it isn't symmetric", "half", "leave half out")
    return coefficients[: (len(values) + 1) // 2]


def _digits(each: Coefficient, recipe: Recipe) -> str:
    turn = -1 if each.is_feedback and recipe.signs == "-a" else 1
    if recipe.radix == "float":
        return repr(turn * each.real)
    if each.bits is None:
        if recipe.radix != "decimal":
            raise FileError(f"{recipe.radix} digits need integers", "radix", "give a realization, or take float")
        return repr(turn * float(each.raw))
    raw = turn * int(each.raw)
    if recipe.radix == "decimal":
        return str(raw)
    bits = each.bits + (not -(1 << (each.bits - 1)) <= raw < 1 << (each.bits - 1))
    pattern = raw & ((1 << bits) - 1)
    return f"{pattern:0{-(-bits // 4)}x}" if recipe.radix == "hex" else f"{pattern:0{bits}b}"
