"""Coefficients by hand: taps, b/a, sections or roots, from whatever text they come in.

Taken: numbers one a line or many, with commas, semicolons or blanks; C arrays and assignments by name (``b = {…}``,
``a: [...]``, ``zeros``, ``poles``, ``sections``, ``gain``); JSON; hexadecimal integers, as two's complement fractions of
their own width; shares and repeats (``1/7 x7``); complex numbers with i or j; comments of the usual kinds.
"""

from __future__ import annotations

import re

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.checking import describe
from combe.designing.designed import Design
from combe.designing.task import Task
from combe.errors import DesignError, FileError
from combe.filters import Cascade, Filter, Fir, Rational, Roots, sections_of
from combe.filters.simultaneous import roots_of

Array = NDArray[np.float64]
LONGEST, LARGEST = 20_000, 1e100
LONGEST_TEXT, LONGEST_WORD = 2_000_000, 400
"""Characters of the whole, and of a number."""
DECIMAL = r"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eEdD][+-]?\d+)?"
NAMES = {
    "b": "b", "num": "b", "numerator": "b", "a": "a", "den": "a", "denominator": "a", "z": "zeros", "zeros": "zeros",
    "p": "poles", "poles": "poles", "k": "gain", "g": "gain", "gain": "gain", "sections": "sections", "sos": "sections",
    "biquads": "sections", "taps": "taps", "h": "taps", "coefficients": "taps", "coeffs": "taps",
}  # fmt: skip
Row = tuple[int, list[complex]]
"""A line's number and the numbers on it."""


class Given(Struct, frozen=True):
    """A filter read from text, and in words how the text was understood."""

    filter: Filter
    words: str


def given_filter(text: str) -> Given:
    """The filter some text describes.

    Raises
    ------
    FileError
        Naming the line, and what would be understood.
    """
    if len(text) > LONGEST_TEXT:
        raise FileError(f"{len(text)} characters are too many for coefficients", "", f"up to {LONGEST_TEXT} are taken")
    endless = re.search(rf"[^\s,;{{}}\[\]()=:]{{{LONGEST_WORD + 1},}}", text)
    if endless:
        line = text.count("\n", 0, endless.start()) + 1
        raise FileError(f"a number of {len(endless[0])} characters is too long", f"line {line}", _UNDERSTOOD)
    clean = _without_comments(text)
    blocks = _named_blocks(clean)
    if blocks:
        return _from_names(blocks)
    image = _hex_image(clean)
    if image is not None:
        return image
    return _from_rows(_rows(clean, 1))


def _hex_image(text: str) -> Given | None:
    """Hexadecimal words of one length without a prefix, as memory images have them; None for anything else."""
    words = text.split()
    one_length = len({len(word) for word in words}) == 1
    if not one_length or not all(len(word) <= 16 and re.fullmatch(r"[0-9a-fA-F]{2,16}", word) for word in words):
        return None
    if all(re.fullmatch(DECIMAL, word) for word in words):
        return None
    values = [_numbers("0x" + word, 1)[0].real for word in words]
    return Given(Fir(tuple(values)), f"{len(values)} taps in hexadecimal, {4 * len(words[0])} bits each")


def _without_comments(text: str) -> str:
    """Comments blanked, lines kept in place."""
    text = re.sub(r"/\*.*?\*/", lambda m: re.sub(r"[^\n]", " ", m[0]), text, flags=re.S)
    return re.sub(r"(//|#|%).*", "", text)


def _named_blocks(text: str) -> list[tuple[str, int, list[Row]]]:
    """``name = {…}`` and the like: the name's meaning, its line and its rows."""
    pattern = re.compile(
        r"([A-Za-z_][\w ]*?)\s*((?:\[[^\]=]*\]\s*)*)(?:=|:)\s*"
        r"(\{(?:[^{}]|\{[^{}]*\})*\}|\[(?:[^\[\]]|\[[^\[\]]*\])*\]|\([^()]*\)|[^\n;{\[(]+)"
    )
    found = []
    end = 0
    for match in pattern.finditer(text):
        between = text[end : match.start()].strip(" \t\r\n;,")
        if between:
            line = text.count("\n", 0, text.index(between, end)) + 1
            raise FileError(f"don't know what to make of {describe(between)}", f"line {line}", _UNDERSTOOD)
        word = match[1].split()[-1].lower()
        kind = NAMES.get(word) or _ending(word)
        line = text.count("\n", 0, match.start(3)) + 1
        body = re.sub(r"[}\]]", "\0", match[3])
        found.append((kind, line, _rows(body, line)))
        end = match.end()
    rest = text[end:].strip(" \t\r\n;,") if found else ""
    if rest:
        line = text.count("\n", 0, text.index(rest, end)) + 1
        raise FileError(f"don't know what to make of {describe(rest)}", f"line {line}", _UNDERSTOOD)
    return found


def _ending(word: str) -> str:
    """What a name like ``lowpass_b`` or ``my_taps`` means; taps unless it says otherwise."""
    last = re.split(r"[_\d]+", word.rstrip("_0123456789"))[-1]
    return NAMES.get(last, "taps")


_UNDERSTOOD = "numbers, or names with numbers such as b = {…} and a = {…}, are understood"


def _rows(text: str, first_line: int) -> list[Row]:
    """The numbers line by line; a closed bracket inside a block ends a row too."""
    rows: list[Row] = []
    line = first_line
    for whole in text.split("\n"):
        for part in whole.split("\0"):
            words = re.split(r"[,;\s]+", part.strip(" \t\r,;{}[]()"))
            numbers = [number for word in _joined(words) for number in _numbers(word, line)]
            if numbers:
                rows.append((line, numbers))
        line += 1
    count = sum(len(numbers) for _, numbers in rows)
    if not 1 <= count <= LONGEST:
        raise FileError(f"found {count} numbers, between 1 and {LONGEST} are taken", f"line {first_line}")
    return rows


def _joined(words: list[str]) -> list[str]:
    """A repeat that stands apart from its number (``1/7 x7``) brought back to it."""
    found: list[str] = []
    for word in words:
        if re.fullmatch(r"[x×*]\d+", word) and found:
            found[-1] += word
        elif word:
            found.append(word.strip("{}[]()"))
    return [word for word in found if word]


def _numbers(word: str, line: int) -> list[complex]:
    """One word as numbers."""
    if len(word) > LONGEST_WORD:
        raise FileError(f"a number of {len(word)} characters is too long", f"line {line}", _UNDERSTOOD)
    repeat = re.fullmatch(r"(.+?)[x×*](\d+)", word) if not word.lower().startswith("0x") else None
    if repeat and repeat[1]:
        times = int(repeat[2])
        if not 1 <= times <= LONGEST:
            raise FileError(f"{times} repeats are too many", f"line {line}")
        return _numbers(repeat[1], line) * times
    value = _number(word)
    if value is None:
        raise FileError(f"expected a number, found {describe(word)}", f"line {line}", _UNDERSTOOD)
    if abs(value) > LARGEST:
        raise FileError(f"{describe(word)} is too large", f"line {line}", f"numbers up to {LARGEST:g} are taken")
    return [value]


def _number(word: str) -> complex | None:
    hexadecimal = re.fullmatch(r"([+-]?)0[xX]([0-9a-fA-F]{1,16})[uUlL]*", word)
    if hexadecimal:
        bits = 4 * len(hexadecimal[2])
        value = int(hexadecimal[2], 16)
        value -= (1 << bits) if value >> (bits - 1) else 0
        return complex((-value if hexadecimal[1] == "-" else value) / 2 ** (bits - 1))
    plain = (
        re.sub(r"[fFlL]$", "", word).replace("D", "e").replace("d", "e") if not word.endswith(("inf", "nan")) else word
    )
    if re.fullmatch(DECIMAL.replace("eEdD", "eE"), plain):
        return complex(float(plain))
    share = re.fullmatch(rf"({DECIMAL})/({DECIMAL})", plain)
    if share and float(share[2]) != 0:
        return complex(float(share[1]) / float(share[2]))
    unsigned = DECIMAL.removeprefix("[+-]?")
    alone = re.fullmatch(rf"([+-]?(?:{unsigned})?)[ij]", plain)
    both = re.fullmatch(rf"({DECIMAL})([+-](?:{unsigned})?)[ij]", plain)
    if alone or both:
        real, imaginary = ("0", alone[1]) if alone else (both[1], both[2]) if both else ("0", "0")
        return complex(float(real), float(imaginary + "1" if imaginary in ("", "+", "-") else imaginary))
    return None


def _from_names(blocks: list[tuple[str, int, list[Row]]]) -> Given:
    """Blocks with a meaning each."""
    parts: dict[str, list[Row]] = {}
    for kind, line, rows in blocks:
        if kind in parts:
            raise FileError(f"there are two blocks of {kind}", f"line {line}", "give one filter at a time")
        parts[kind] = rows
    gain = _flat(parts.pop("gain", [(0, [1.0 + 0j])]))[0].real
    if "sections" in parts:
        found = _sections(parts["sections"])
        return Given(Cascade(found.sections, found.gain * gain), f"{len(found.sections)} sections")
    if "zeros" in parts or "poles" in parts:
        zeros, poles = (_roots(parts.get(key, []), key) for key in ("zeros", "poles"))
        return Given(Roots(zeros, poles, gain), f"{len(zeros)} zeros and {len(poles)} poles")
    if "b" in parts and "a" in parts:
        return _from_polynomials(_real(parts["b"]) * gain, _real(parts["a"]))
    if "a" in parts:
        return _from_polynomials(np.array([gain]), _real(parts["a"]))
    if "b" not in parts and "taps" not in parts:
        line = blocks[0][1]
        raise FileError(
            "a gain alone is no filter", f"line {line}", "give taps, b and a, sections, or zeros and poles with it"
        )
    taps = _real(parts.get("b") or parts["taps"]) * gain
    return Given(Fir(tuple(taps.tolist())), f"{len(taps)} taps")


def _from_rows(rows: list[Row]) -> Given:
    """Bare numbers: their layout tells what they are."""
    widths = {len(numbers) for _, numbers in rows}
    if any(abs(value.imag) > 0 for _, numbers in rows for value in numbers):
        line = rows[0][0]
        raise FileError(
            "complex numbers without a name", f"line {line}", "say which are zeros = {…} and which poles = {…}"
        )
    if len(rows) > 1 and widths in ({5}, {6}):
        found = _sections(rows)
        return Given(found, f"{len(found.sections)} sections of {widths.pop()} coefficients")
    if len(rows) == 2 and len(rows[0][1]) > 1 and rows[1][1][0] == 1:
        return _from_polynomials(_real(rows[:1]), _real(rows[1:]))
    if len(widths) > 1 and len(rows) > 1 and min(widths) > 1 and len(rows) == 2:
        line = rows[1][0]
        raise FileError(
            "two rows of different lengths", f"line {line}", "for b and a, a has to start with 1, or name them"
        )
    if widths == {2} and len(rows) > 1:
        line = rows[0][0]
        raise FileError(
            "two numbers a line could be roots or b and a", f"line {line}", "name them, as in b = {…} a = {…}"
        )
    taps = _real(rows)
    return Given(Fir(tuple(taps.tolist())), f"{len(taps)} taps")


def _sections(rows: list[Row]) -> Cascade:
    """Rows b0 b1 b2 a1 a2, or b0 b1 b2 a0 a1 a2; one long row is cut into them."""
    if len(rows) == 1 and len(rows[0][1]) > 6:
        line, numbers = rows[0]
        width = 6 if len(numbers) % 6 == 0 and (len(numbers) % 5 or all(x == 1 for x in numbers[3::6])) else 5
        if len(numbers) % width:
            raise FileError(f"{len(numbers)} numbers don't make sections", f"line {line}", "a section has 5 or 6")
        rows = [(line, numbers[k : k + width]) for k in range(0, len(numbers), width)]
    found = []
    for line, numbers in rows:
        values = [value.real for value in numbers]
        if len(values) == 6:
            if values[3] == 0:
                raise FileError("a0 of this section is zero", f"line {line}", "it divides all others")
            values = [value / values[3] for value in (*values[:3], *values[4:])]
        if len(values) != 5:
            raise FileError(
                f"a section has 5 or 6 coefficients, found {len(values)}",
                f"line {line}",
                "b0 b1 b2 a1 a2, or with a0 before a1",
            )
        b0, b1, b2, a1, a2 = values
        found.append((b0, b1, b2, a1, a2))
    return Cascade(tuple(found))


def polynomials(b: list[float], a: list[float]) -> Given:
    """The filter b/a in powers of z⁻¹."""
    return _from_polynomials(np.array(b, dtype=np.float64), np.array(a, dtype=np.float64))


def _from_polynomials(b: Array, a: Array) -> Given:
    """b and a in powers of z⁻¹, split into sections by their roots."""
    if a[0] == 0:
        raise FileError("a starts with zero", "a", "its first coefficient divides all others")
    if not np.any(b):
        raise FileError("b is zero altogether", "b", "give at least one coefficient that isn't")
    b, a = b / a[0], a / a[0]
    a = np.trim_zeros(a, "b")
    if len(a) == 1:
        return Given(Fir(tuple(b.tolist())), f"{len(b)} taps (a is 1)")
    if len(a) <= 3 and len(b) <= 3:
        (b0, b1, b2), (_, a1, a2) = (np.pad(c, (0, 3 - len(c))).tolist() for c in (b, a))
        return Given(Cascade(((b0, b1, b2, a1, a2),)), f"b of order {len(b) - 1} over a of order {len(a) - 1}")
    lead = int(np.flatnonzero(b)[0])
    b = np.trim_zeros(b)
    zeros, poles = roots_of(b), roots_of(a)
    found = sections_of(Rational(float(b[0]), lead, zeros, poles))
    again = np.real(np.poly(poles))
    lost = float(np.max(np.abs(again - a)) / np.max(np.abs(a)))
    words = f"b of order {len(b) - 1 + lead} over a of order {len(a) - 1}"
    if lost > 1e-9:
        words += f", split into sections to {lost:.1g} of the coefficients"
    return Given(found, words)


def _roots(rows: list[Row], kind: str) -> tuple[complex, ...]:
    """Conjugates added where only the upper one of each pair is given."""
    roots = _flat(rows)
    upper = [root for root in roots if root.imag > 0]
    lower = [root for root in roots if root.imag < 0]
    if (upper and not lower) or (lower and not upper):
        roots = roots + [root.conjugate() for root in (upper or lower)]
    elif abs(sum(roots).imag) > 1e-9 * (1 + sum(abs(root) for root in roots)):
        raise FileError(
            f"the {kind} don't come in conjugate pairs", f"line {rows[0][0]}", "give both of each pair or one"
        )
    return tuple(roots)


def _flat(rows: list[Row]) -> list[complex]:
    return [value for _, numbers in rows for value in numbers]


def _real(rows: list[Row]) -> Array:
    for line, numbers in rows:
        if any(value.imag for value in numbers):
            raise FileError("a coefficient is complex", f"line {line}", "taps, b and a are real numbers here")
    return np.array([value.real for value in _flat(rows)])


def make(task: Task) -> Design:
    """Coefficients given by hand, as they are."""
    if task.choice.given is None:
        raise DesignError("no coefficients are given", "given", "type or paste them, or name their file with --from")
    return Design("given", task.choice.given, task.sample_rate_hz, task.requirement)
