"""The C package of a realization; in C++ one header."""

from __future__ import annotations

from typing import Any

import numpy as np

from combe.delivery.c.assembly import written_rows
from combe.delivery.c.codes import code_values, codes_through, converters
from combe.delivery.c.floating import GUARD, TYPES, float_views, real_text
from combe.delivery.c.model import float_model
from combe.delivery.c.rates import LONGEST_BETWEEN, chunk_of, growth, most_outputs, most_words
from combe.delivery.c.stages import Part, View, buffers, parts, views
from combe.delivery.c.types import c_type, is_power, literal
from combe.delivery.c.wide import WIDE, used_of_wide
from combe.delivery.code_choices import CodeChoices, check_code_choices
from combe.delivery.languages import Order
from combe.delivery.package import Package, SourceFile, checked_name
from combe.delivery.story import OWNERSHIP, story
from combe.errors import FormatError
from combe.ledger import Line
from combe.realization.cic import Cic
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.stages import Realization, Requantize, TapSum
from combe.requirement import Requirement
from combe.running.random_integers import random_integers
from combe.running.simulate import simulate
from combe.signals.stimuli import vectors
from combe.templates import rendered

VECTOR_SAMPLES = 2048
CHUNK = 128
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
    choices: CodeChoices = CodeChoices(),
    made: str = "",
) -> Package:
    """Header, source, a checking ``main`` with vectors, and a Makefile; one header and a check in C++.

    ``made`` says how the filter was designed.

    Raises
    ------
    FormatError
        If a name can't stand in C, a width is beyond its 64 bits, or choices don't go together.
    """
    check_code_choices(choices)
    if choices.written_in.is_circuit:
        raise FormatError(f"{choices.language} is not C", "language", "circuits have a writer of their own")
    for typed in (name, choices.file_name or name, choices.type_name or name):
        checked_name(typed)
    if realization.changes_rate:
        _check_rates(realization, choices)
    if realization.input.bits > 62:
        raise FormatError(f"{realization.input} is too wide an input for C", "input", "62 bits are the most")
    shared = _values(realization, name, choices)
    shared["story"] = story(realization, name, requirement, lines, choices, made)
    shared |= _vectors(realization, choices, shared)
    file = shared["file"]
    if shared["is_header_only"] or choices.is_header_alone:
        shared["body"] = _render("source.c.j2", shared)
    if choices.is_header_alone:
        texts = {f"{file}.h": "header.h.j2", f"{file}_check.c": "check.c.j2", "Makefile": "Makefile.j2"}
    elif shared["is_header_only"]:
        texts = {f"{file}.hpp": "header.h.j2", f"{file}_check.cpp": "check.c.j2", "Makefile": "Makefile.j2"}
    else:
        texts = {
            f"{file}.h": "header.h.j2", f"{file}.c": "source.c.j2", f"{file}_check.c": "check.c.j2",
            "Makefile": "Makefile.j2",
        }  # fmt: skip
    if choices.build != "make":
        texts[{"cmake": "CMakeLists.txt", "meson": "meson.build"}[choices.build]] = f"{choices.build}.j2"
    files = [SourceFile(written, _render(template, shared)) for written, template in texts.items()]
    return Package(choices.language, name, tuple(files), choices)


def written(order: Order) -> Package:
    """The code an order asks for."""
    return c_package(order.realization, order.name, order.requirement, order.lines, order.code, order.made)


def _values(realization: Realization, name: str, choices: CodeChoices) -> dict[str, Any]:
    """Everything the templates print, vectors and story aside."""
    is_cpp, is_float = choices.language == "c++", choices.is_float
    stages = float_views(realization, choices) if is_float else views(realization, choices)
    for view in stages:
        if view.kind == "tap-sum":
            view.values["table"] = view.values["table"] or f"{name}_taps_{view.index}"
            view.values.setdefault("is_reloadable", False)
            if not is_float and view.values["layout"] == "rates":
                view.values["written"] = written_rows(view.values, view.source, f"{name}_at")
    rounds = [] if is_float else [each for view in stages if view.kind != "tap-sum" for each in _roundings(view)]
    word = TYPES.get(choices.number, "")
    found = parts(stages)
    ratios = [part.ratio for part in found]
    guard = GUARD[choices.number] if choices.guard and realization.is_recursive else ""
    return {
        "name": name, "NAME": name.upper(), "file": choices.file_name or name, "FILE": (choices.file_name or name).upper(),
        "types": Package(choices.language, name, (), choices).types,
        "views": stages, "rounds": rounds, "input": realization.input, "output": realization.output,
        "in_type": word or c_type(realization.input), "out_type": word or c_type(realization.output),
        "describe": _describe, "ownership": OWNERSHIP, "cast": _cast, "parts": found, "buffers": buffers(found),
        "chunk": chunk_of(ratios, CHUNK), "changes_rate": realization.changes_rate, "out_max": most_words(ratios),
        "between": [most_outputs(chunk_of(ratios, CHUNK), ratios[: k + 1]) for k in range(len(ratios))],
        "grows": growth(ratios) > 1,
        "has_dual": any(v.values.get("is_dual") for v in stages), "has_rows": any(v.values.get("written") for v in stages), "is_float": is_float,
        "held": sorted({r.values["target"].bits for r in rounds if _is_held(r.values)}),
        "has_state": any(v.kind not in ("requantize", "network") or (v.kind == "network" and (v.values["kept"] or v.values.get("layout") == "phased")) for v in stages),
        "uses_intrinsics": choices.intrinsics and not is_float,
        "is_header_only": is_cpp, "is_single": choices.is_header_alone, "fn": "inline" if is_cpp else "static", "api": "inline " if is_cpp else "",
        "table": "inline constexpr" if is_cpp else "static const",
        "needs_apart": any(v.kind in ("section", "network") or v.values.get("layout") in ("blocks", "rates") for v in stages),
        "wide": used_of_wide([r.values for r in rounds if r.values["is_wide"]]),
        "has_blocks": any(v.values.get("layout") in ("blocks", "rates") for v in stages),
        "has_vectors": any(v.values.get("vectors") for v in stages), "has_runs": any(v.values.get("stops") or v.values.get("is_short") for v in stages),
        "has_powers": any(is_power(f) for v in stages for f in v.values.get("kept_factors") or ()), "is_power": is_power,
        "are_powers": lambda kept: all(map(is_power, kept)),
        "is_reloadable": choices.reloadable, "codes": _codes(realization, choices, ratios),
        "finished": lambda p, value: _finished(p, value, name),
        "guarded": lambda value: f"({value} < {guard} && {value} > -{guard}) ? 0 : {value}" if guard else value,
    }  # fmt: skip


def _codes(
    realization: Realization, choices: CodeChoices, ratios: list[tuple[int, int]]
) -> dict[str, Any] | None:  # fmt: skip
    """What the template prints of converter codes, with how many are taken and given at a time."""
    found = code_values(realization, choices)
    if found is None:
        return None
    chunk = (
        min(chunk_of(ratios, CHUNK), max(1, int(LONGEST_BETWEEN / growth(ratios))))
        if realization.changes_rate
        else CHUNK
    )
    return found | {"chunk": chunk, "room": most_outputs(chunk, ratios)}


def _check_rates(realization: Realization, choices: CodeChoices) -> None:
    """What doesn't go with a change of rate."""
    if not choices.is_float or all(isinstance(stage, (TapSum, Requantize, Network)) for stage in realization.stages):
        return
    if any(isinstance(stage, Cic) for stage in realization.stages):
        what, instead = (
            "sums in a row count modulo a power of two, which real numbers don't",
            "take integer, or a plan without cic",
        )
    else:
        what, instead = (
            "beside a change of rate sections aren't written in floating point",
            "take integer, or a structure of sums",
        )
    raise FormatError(what, "number", instead)


def _is_held(values: dict[str, Any]) -> bool:
    """Whether one saturating instruction may end a rounding."""
    return values["ssat"] and values["overflow"] == "saturate" and not values["always_fits"] and values["shift"] >= 0


def _vectors(realization: Realization, choices: CodeChoices, shared: dict[str, Any]) -> dict[str, Any]:
    """Test samples and what must come out; in floating point with the difference that rounding may make."""
    samples = vectors(realization, VECTOR_SAMPLES)
    if choices.is_float:
        model = float_model(realization, samples * realization.input.step, choices)
        values: dict[str, Any] = {
            "inputs": [real_text(x, choices.number) for x in model.samples],
            "outputs": [real_text(y, choices.number) for y in model.outputs], "tolerance": real_text(model.tolerance, choices.number),
        }  # fmt: skip
    else:
        values = {
            "inputs": [literal(int(x), shared["in_type"]) for x in samples],
            "outputs": [literal(int(y), shared["out_type"]) for y in simulate(realization, samples)], "tolerance": "",
        }  # fmt: skip
    values |= {"count": len(samples), "out_count": len(values["outputs"]), "code_inputs": [], "code_outputs": []}
    if shared["codes"]:
        entry, _ = converters(choices)
        codes = np.concatenate([[0, entry.most, entry.offset], random_integers(1021, Format(False, entry.bits, 0), 3)])
        values["code_inputs"] = [f"{int(code)}u" for code in codes]
        values["code_outputs"] = [f"{int(code)}u" for code in codes_through(realization, choices, codes)]
    return values


def _finished(part: Part, value: str, name: str) -> str:
    for each in part.rounds:
        value = f"{name}_round_{each.label}(({each.values['work']}){value})"
    return f"({part.result_type}){value}"


def _render(template: str, shared: dict[str, Any]) -> str:
    return rendered("delivery/c", template, shared)


def _roundings(view: View) -> list[View]:
    """A section or a node ends in a rounding of its own: the same function as a stage of that kind."""
    if view.kind == "requantize":
        return [view]
    if view.kind == "cic" and not view.values["is_wide"]:
        return []
    if view.kind == "network":
        rounded = [node for node in view.values["nodes"] if not node["is_plain"]]
        return [_rounding(view.index, node["accumulator"], node["result"], node["round"]) for node in rounded]
    return [_rounding(view.index, view.values["accumulator"], view.result, view.values["round"])]


def _rounding(index: int, accumulator: Format, result: Format, values: dict[str, Any]) -> View:
    source_type = WIDE if values["is_wide"] else c_type(accumulator)
    return View("requantize", index, accumulator, result, source_type, c_type(result), values)


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
