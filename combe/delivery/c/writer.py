"""The C package of a realization."""

from __future__ import annotations

from functools import cache
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from combe.arithmetic.formats import Format
from combe.arithmetic.simulate import simulate
from combe.arithmetic.stages import Realization
from combe.delivery.c.stages import View, parts, views
from combe.delivery.c.types import c_type, literal
from combe.delivery.package import Package, SourceFile, checked_name
from combe.delivery.story import OWNERSHIP, story
from combe.errors import FormatError
from combe.ledger import Line
from combe.requirement import Requirement
from combe.signals.stimuli import vectors

VECTOR_SAMPLES = 2048
CHUNK = 32
ROUNDING_WORDS = {
    "nearest-even": "rounded to nearest, ties to even", "nearest-up": "rounded to nearest, ties up",
    "floor": "rounded down", "toward-zero": "rounded toward zero",
}  # fmt: skip
OVERFLOW_WORDS = {"saturate": "then limited to the range", "wrap": "then wrapped"}


def c_package(
    realization: Realization,
    name: str,
    requirement: Requirement | None = None,
    lines: tuple[Line, ...] = (),
) -> Package:
    """Header, source, a checking ``main`` with vectors, and a Makefile.

    Raises
    ------
    FormatError
        If the name can't stand in C, or a width is beyond its 64 bits.
    """
    checked_name(name)
    if realization.input.bits > 62:
        raise FormatError(f"{realization.input} is too wide an input for C", "input", "62 bits are the most")
    stages = views(realization)
    rounds = [each for view in stages if view.kind != "tap-sum" for each in _roundings(view)]
    shared: dict[str, Any] = {
        "name": name, "views": stages, "rounds": rounds, "input": realization.input, "output": realization.output,
        "in_type": c_type(realization.input), "out_type": c_type(realization.output), "describe": _describe,
        "story": story(realization, name, requirement, lines), "ownership": OWNERSHIP, "cast": _cast,
        "parts": parts(stages), "chunk": CHUNK, "has_dual": any(v.values.get("is_dual") for v in stages), "has_state": any(v.kind != "requantize" for v in stages),
    }  # fmt: skip
    samples = vectors(realization, VECTOR_SAMPLES)
    shared["count"] = len(samples)
    shared["inputs"] = [literal(int(x), shared["in_type"]) for x in samples]
    shared["outputs"] = [literal(int(y), shared["out_type"]) for y in simulate(realization, samples)]
    templates = {f"{name}.h": "header.h", f"{name}.c": "source.c", f"{name}_check.c": "check.c", "Makefile": "Makefile"}
    files = [SourceFile(file, _environment().get_template(f"{t}.j2").render(shared)) for file, t in templates.items()]
    return Package("c", name, tuple(files))


@cache
def _environment() -> Environment:
    return Environment(
        loader=PackageLoader("combe.delivery", "c"), trim_blocks=True, lstrip_blocks=True,
        keep_trailing_newline=True, undefined=StrictUndefined,
    )  # fmt: skip


def _roundings(view: View) -> list[View]:
    """A section or a node ends in a rounding of its own: the same function as a stage of that kind."""
    if view.kind == "requantize":
        return [view]
    if view.kind == "network":
        rounded = [node for node in view.values["nodes"] if not node["is_plain"]]
        return [_rounding(view.index, node["accumulator"], node["result"], node["round"]) for node in rounded]
    return [_rounding(view.index, view.values["accumulator"], view.result, view.values["round"])]


def _rounding(index: int, accumulator: Format, result: Format, values: dict[str, Any]) -> View:
    return View("requantize", index, accumulator, result, c_type(accumulator), c_type(result), values)


def _describe(view: View) -> str:
    q = view.values
    words = [f"divided by 2^{q['shift']}" if q["shift"] > 0 else f"times 2^{q['up']}" if q["shift"] < 0 else "as it is"]
    if q["shift"] > 0:
        words.append(ROUNDING_WORDS[q["rounding"]])
    if not q["always_fits"]:
        words.append(OVERFLOW_WORDS[q["overflow"]])
    return ", ".join(words)


def _cast(c_name: str, constant: str) -> str:
    return (
        f"({c_name}){constant}"
        if constant.startswith("(") or not constant.startswith("-")
        else f"({c_name})({constant})"
    )
