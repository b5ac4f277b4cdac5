"""The project file: one JSON document, ``NAME.combe``."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from combe.checking import Fields, is_number
from combe.delivery.code_choices import CodeChoices, check_code_choices
from combe.delivery.hdl.choices import ARCHITECTURES, HardwareChoices
from combe.delivery.package import checked_name, identifier_from
from combe.delivery.recipes import GALLERY, recipe_document, recipe_from
from combe.designing.file import filter_document, filter_from
from combe.designing.methods import METHODS
from combe.designing.task import SHAPES, SPARE
from combe.errors import CombeError
from combe.files import json_text, read_json, write_text
from combe.filters import Filter
from combe.ledger import Line
from combe.ledger.cycles import CYCLES_PER_INSTRUCTION
from combe.project.document import DesignChoice, Pin, Processor, Project, ProofRecord
from combe.realization.formats import OVERFLOWS, ROUNDINGS, parse_format
from combe.realization.stages import FORMS, MOST_BRANCHES
from combe.requirement import requirement_document, requirement_from
from combe.rounding.assemble import SCALINGS
from combe.rounding.realize import FEWEST_BITS, MOST_BITS, Choices
from combe.rounding.recursive import ORDERINGS, SECTION_STRUCTURES
from combe.values import as_dict, replace

HARDWARE_KEYS = ("architecture", "clock_hz", "multipliers", "pipeline", "axi_stream")
CODE_KEYS = CodeChoices.__struct_fields__
LATER_CHOICES = (
    "better", "coefficient_fraction", "product_bits", "guard_bits", "scaling", "ordering", "error_feedback", "branches",
)  # fmt: skip
"""Written only where they differ from the standard, so that older files stay as they were."""
KEYS = (
    "format",
    "version",
    "name",
    "requirement",
    "design",
    "arithmetic",
    "code",
    "proofs",
    "pins",
    "recipe",
    "processor",
    "hardware",
)


def read_project(path: str | Path) -> Project:
    """The project in a file; a requirement file makes a new project of its own.

    Raises
    ------
    CombeError
        Naming the file, the key and what was expected.
    """
    document = read_json(path)
    try:
        if isinstance(document, dict) and document.get("format") == "combe-requirement":
            requirement = requirement_from(document)
            return Project(requirement.name, requirement, code_name=identifier_from(requirement.name))
        return project_from(document)
    except CombeError as error:
        raise error.at(str(path)) from None


def save_project(project: Project, path: str | Path) -> None:
    """Write a project whole or not at all."""
    write_text(path, json_text(project_document(project)))


def project_from(document: Any) -> Project:
    """The project in a JSON document."""
    fields = Fields(document)
    fields.header("combe-project", 1)
    fields.only(KEYS)
    requirement = requirement_from(document.get("requirement"), "requirement")
    name = fields.text("name", "a text", requirement.name)
    code = Fields({} if document.get("code") is None else document["code"], "code")
    code.only(("name", "folder", *CODE_KEYS))
    code_name = checked_name(code.text("name", "a name", identifier_from(name)))
    proofs = [
        _proof(item, f"proofs[{k}]") for k, item in enumerate(fields.list("proofs") if fields.has("proofs") else [])
    ]
    pins = [_pin(item, f"pins[{k}]") for k, item in enumerate(fields.list("pins") if fields.has("pins") else [])]
    design, arithmetic = (document.get(key) if fields.has(key) else {} for key in ("design", "arithmetic"))
    recipe = recipe_from(document["recipe"]) if fields.has("recipe") else GALLERY[0]
    return Project(
        name, requirement, _design(design), _arithmetic(arithmetic), code_name, tuple(proofs), tuple(pins),
        _code(code), recipe, _processor(document.get("processor")), _hardware(document.get("hardware")), code.text("folder", "a folder", ""),
    )  # fmt: skip


def _code(fields: Fields) -> CodeChoices:
    standard = CodeChoices()
    found: dict[str, Any] = {}
    for key in CODE_KEYS:
        if not fields.has(key):
            continue
        value, usual = fields.document[key], getattr(standard, key)
        if isinstance(usual, bool):
            if not isinstance(value, bool):
                raise fields.fail(key, "true or false")
            found[key] = value
        elif isinstance(usual, int):
            found[key] = fields.integer(key, 0, 32)
        else:
            found[key] = fields.text(key)
    made = replace(standard, **found)
    try:
        check_code_choices(made)
        for word in (made.file_name, made.type_name):
            if word:
                checked_name(word)
    except CombeError as error:
        raise type(error)(error.what, fields.place(error.where), error.instead) from None
    return made


def _hardware(document: Any) -> HardwareChoices:
    if document is None:
        return HardwareChoices()
    fields = Fields(document, "hardware")
    fields.only(HARDWARE_KEYS)
    usual = HardwareChoices()
    axi = document.get("axi_stream", False)
    if not isinstance(axi, bool):
        raise fields.fail("axi_stream", "true or false")
    return HardwareChoices(
        fields.choice("architecture", ("", *ARCHITECTURES), ""),
        fields.number("clock_hz", "a clock in Hz") if fields.has("clock_hz") else usual.clock_hz,
        fields.integer("multipliers", 0, 4096) if fields.has("multipliers") else usual.multipliers,
        fields.integer("pipeline", 0, 16) if fields.has("pipeline") else usual.pipeline, axi_stream=axi,
    )  # fmt: skip


def _processor(document: Any) -> Processor:
    if document is None:
        return Processor()
    fields = Fields(document, "processor")
    fields.only(("core", "clock_hz", "measured"))
    usual = Processor()
    clock = fields.number("clock_hz", "a clock in Hz") if fields.has("clock_hz") else usual.clock_hz
    if not 1e3 <= clock <= 1e11:
        raise fields.fail("clock_hz", "a clock from 1 kHz to 100 GHz")
    return Processor(
        fields.choice("core", tuple(CYCLES_PER_INSTRUCTION), usual.core), clock, fields.text("measured", "a text", "")
    )


def _design(document: Any) -> DesignChoice:
    fields = Fields(document, "design")
    fields.only((
        "method", "order", "symmetry", "cutoffs_hz", "shape", "spare", "weights", "settings", "given",
    ))  # fmt: skip
    order = fields.integer("order", 0, 10**6) if fields.has("order") else None
    symmetry = fields.choice("symmetry", ("symmetric", "antisymmetric"), "symmetric")
    method = fields.choice("method", [m.name for m in METHODS], "equiripple")
    return DesignChoice(
        method, order, 1 if symmetry == "symmetric" else -1, _numbers(fields, "cutoffs_hz"),
        fields.choice("shape", ("", *SHAPES), ""), fields.choice("spare", SPARE, "shared"), _numbers(fields, "weights"),
        _settings(fields), _given(fields, method),
    )  # fmt: skip


def _numbers(fields: Fields, key: str) -> tuple[float, ...]:
    if not fields.has(key):
        return ()
    values = fields.list(key, "a list of numbers")
    if not all(is_number(value) for value in values):
        raise fields.fail(key, "a list of numbers")
    return tuple(float(value) for value in values)


def _settings(fields: Fields) -> tuple[tuple[str, float], ...]:
    if not fields.has("settings"):
        return ()
    named = Fields(fields.document["settings"], fields.place("settings"))
    return tuple((name, named.number(name)) for name in named.document)


def _given(fields: Fields, method: str) -> Filter | None:
    if not fields.has("given"):
        if method == "given":
            raise fields.fail("given", "the coefficients, as in a design file")
        return None
    return filter_from(Fields(fields.document["given"], fields.place("given")))


def _arithmetic(document: Any) -> Choices:
    fields = Fields(document, "arithmetic")
    fields.only(("coefficient_bits", "structure", "input", "output", "accumulator_bits", "rounding", "overflow",
                 "state_bits", "better", "coefficient_fraction", "product_bits", "guard_bits", "scaling", "ordering",
                 "error_feedback", "branches"))  # fmt: skip
    standard = Choices()
    bits = (
        fields.integer("coefficient_bits", FEWEST_BITS, MOST_BITS)
        if fields.has("coefficient_bits")
        else standard.coefficient_bits
    )
    found = Choices(
        bits,
        fields.choice("structure", ("", *FORMS, *SECTION_STRUCTURES), ""),
        fields.text("input", "a format", standard.input),
        fields.text("output", "a format", ""),
        fields.integer("accumulator_bits", 2, 64) if fields.has("accumulator_bits") else None,
        fields.choice("rounding", ROUNDINGS, standard.rounding),
        fields.choice("overflow", OVERFLOWS, standard.overflow),
        fields.integer("state_bits", 2, 64) if fields.has("state_bits") else None,
        document.get("better") is True,
        fields.integer("coefficient_fraction", -400, 400) if fields.has("coefficient_fraction") else None,
        fields.integer("product_bits", 2, 64) if fields.has("product_bits") else None,
        fields.integer("guard_bits", 0, 32) if fields.has("guard_bits") else 0,
        fields.choice("scaling", SCALINGS, standard.scaling),
        fields.choice("ordering", ORDERINGS, standard.ordering),
        document.get("error_feedback") is True,
        fields.integer("branches", 2, MOST_BRANCHES) if fields.has("branches") else standard.branches,
    )
    parse_format(found.input, "arithmetic.input")
    if found.output:
        parse_format(found.output, "arithmetic.output")
    return found


def _pin(item: Any, where: str) -> Pin:
    fields = Fields(item, where)
    shown = item.get("shown", True)
    if not isinstance(shown, bool):
        raise fields.fail("shown", "true or false")
    return Pin(fields.text("name", "a text", "pin"), filter_from(fields), shown)


def _proof(item: Any, where: str) -> ProofRecord:
    fields = Fields(item, where)
    lines = []
    for index, line in enumerate(item.get("lines") or []):
        place = Fields(line, f"{where}.lines[{index}]")
        at_hz = place.number("at_hz") if place.has("at_hz") else None
        asked, reached, margin = (place.number(key) for key in ("asked", "reached", "margin"))
        lines.append(
            Line(
                place.text("band"),
                place.integer("band_index", -1, 1000),
                place.text("limit"),
                asked,
                reached,
                margin,
                at_hz,
            )
        )
    samples = fields.integer("samples", 0, 10**12)
    return ProofRecord(fields.text("language"), fields.text("checksum"), fields.text("tool"), samples, tuple(lines))


def project_document(project: Project) -> dict[str, Any]:
    """The JSON document of a project; reading it gives the same value again."""
    design: dict[str, Any] = {"method": project.design.method}
    if project.design.order is not None:
        design["order"] = project.design.order
    if project.design.symmetry == -1:
        design["symmetry"] = "antisymmetric"
    choice = project.design
    for key in ("cutoffs_hz", "weights"):
        if getattr(choice, key):
            design[key] = list(getattr(choice, key))
    if choice.shape:
        design["shape"] = choice.shape
    if choice.spare != "shared":
        design["spare"] = choice.spare
    if choice.settings:
        design["settings"] = dict(choice.settings)
    if choice.given is not None:
        design["given"] = filter_document(choice.given)
    choices = project.arithmetic
    arithmetic: dict[str, Any] = {
        "coefficient_bits": choices.coefficient_bits, "structure": choices.structure, "input": choices.input,
        "output": choices.output, "accumulator_bits": choices.accumulator_bits, "rounding": choices.rounding,
        "overflow": choices.overflow,
    }  # fmt: skip
    if choices.state_bits is not None:
        arithmetic["state_bits"] = choices.state_bits
    standard = Choices()
    for key in LATER_CHOICES:
        if getattr(choices, key) != getattr(standard, key):
            arithmetic[key] = getattr(choices, key)
    document: dict[str, Any] = {
        "format": "combe-project", "version": 1, "name": project.name,
        "requirement": requirement_document(project.requirement), "design": design, "arithmetic": arithmetic,
        "code": {"name": project.code_name} | _code_document(project), "proofs": [_proof_document(proof) for proof in project.proofs],
    }  # fmt: skip
    if project.recipe != GALLERY[0]:
        document["recipe"] = recipe_document(project.recipe)
    usual = HardwareChoices()
    hardware = {
        key: getattr(project.hardware, key)
        for key in HARDWARE_KEYS
        if getattr(project.hardware, key) != getattr(usual, key)
    }
    if hardware:
        document["hardware"] = hardware
    if project.processor != Processor():
        document["processor"] = as_dict(project.processor)
    if project.pins:
        document["pins"] = [
            {"name": pin.name, "shown": pin.is_shown} | filter_document(pin.filter) for pin in project.pins
        ]
    return document


def _code_document(project: Project) -> dict[str, Any]:
    standard = CodeChoices()
    found = {
        key: getattr(project.code, key) for key in CODE_KEYS if getattr(project.code, key) != getattr(standard, key)
    }
    return found | ({"folder": project.export_folder} if project.export_folder else {})


def _proof_document(proof: ProofRecord) -> dict[str, Any]:
    lines = []
    for line in proof.lines:
        found: dict[str, Any] = {"band": line.band, "band_index": line.band_index, "limit": line.limit}
        found |= {"asked": line.asked, "reached": line.reached, "margin": line.margin}
        if is_number(line.at_hz):
            found["at_hz"] = line.at_hz
        lines.append(found)
    return {
        "language": proof.language, "checksum": proof.checksum, "tool": proof.tool, "samples": proof.samples,
        "lines": lines,
    }  # fmt: skip
