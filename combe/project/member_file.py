"""One filter of a project file: its keys, read and written."""

from __future__ import annotations

from difflib import get_close_matches
from typing import Any

from combe.benching.asks import ask_from
from combe.benching.setup import MODELS, PINS, TOOLS, BenchSetup
from combe.checking import is_number
from combe.delivery.code_choices import CodeChoices, check_code_choices
from combe.delivery.hdl.choices import ARCHITECTURES, HARDWARE_KEYS, HardwareChoices
from combe.delivery.package import checked_name, identifier_from
from combe.delivery.recipes import GALLERY, recipe_document, recipe_from
from combe.designing.file import filter_document, filter_from
from combe.designing.methods import METHODS
from combe.errors import CombeError, FileError
from combe.ledger import Line
from combe.project.document import INPUT, DesignChoice, Kept, Member, Pin, Processor, ProofRecord, Variant
from combe.project.shape import (
    ArithmeticShape,
    BenchShape,
    CodeShape,
    DesignShape,
    FilterShape,
    HardwareShape,
    ProofShape,
    VariantShape,
)
from combe.realization.formats import parse_format
from combe.realization.stages import FORMS
from combe.requirement import Requirement, requirement_document, requirement_from
from combe.rounding.choices import Choices
from combe.rounding.recursive import ORDERINGS, SECTION_STRUCTURES
from combe.signals.spec import signal_from_sentence
from combe.values import as_dict

CODE_KEYS = CodeChoices.__struct_fields__
LATER_CHOICES = (
    "better", "coefficient_fraction", "product_bits", "guard_bits", "scaling", "ordering", "error_feedback", "branches",
    "pruned",
)  # fmt: skip
"""Written only where they differ from the standard, so that older files stay as they were."""


def member_from(found: FilterShape, document: dict[str, Any], name: str | None = None) -> Member:
    """The filter of a document that has the shape; ``name`` is what its code is called where it doesn't say so itself."""
    requirement = requirement_from(document["requirement"], "requirement")
    code_name = checked_name(
        found.code.name if found.code.name is not None else identifier_from(name or requirement.name)
    )
    pins = tuple(
        Pin(pin.name, filter_from(document["pins"][k], f"pins[{k}]"), pin.shown) for k, pin in enumerate(found.pins)
    )
    return Member(
        requirement, _design(found.design), _arithmetic(found.arithmetic), code_name,
        tuple(_proof(proof) for proof in found.proofs), pins, _code(found.code),
        recipe_from(document["recipe"], "recipe") if found.recipe is not None else GALLERY[0],
        Processor(found.processor.core, found.processor.clock_hz, found.processor.measured, found.processor.block), _hardware(found.hardware),
        _bench(found.bench, requirement), found.code.folder, found.source,
        tuple(_variant(variant, document["variants"][k], k) for k, variant in enumerate(found.variants)),
    )  # fmt: skip


def _variant(found: VariantShape, document: dict[str, Any], place: int) -> Variant:
    try:
        kept = Kept(
            requirement_from(document["requirement"], "requirement"), _design(found.design), _arithmetic(found.arithmetic), _code(found.code),
            _hardware(found.hardware),
        )  # fmt: skip
    except CombeError as error:
        raise type(error)(error.what, f"variants[{place}].{error.where}", error.instead) from None
    return Variant(found.name, found.note, kept)


def _code(found: CodeShape) -> CodeChoices:
    made = CodeChoices(**{key: getattr(found, key) for key in CODE_KEYS})
    try:
        check_code_choices(made)
        for word in (made.file_name, made.type_name):
            if word:
                checked_name(word)
    except CombeError as error:
        raise type(error)(error.what, f"code.{error.where}", error.instead) from None
    return made


def _bench(found: BenchShape, requirement: Requirement) -> BenchSetup:
    for name in found.through:
        if name not in (*MODELS, *TOOLS, PINS):
            known = ", ".join((*MODELS, *TOOLS, PINS))
            raise FileError(f'"{name}" is nothing a signal goes through', "bench.through", f"known are {known}")
    if found.signal:
        try:
            signal_from_sentence(found.signal, requirement.input_rate_hz)
        except CombeError as error:
            raise FileError(error.what, "bench.signal", error.instead) from None
    for text in found.asks:
        ask_from(text, requirement.input_rate_hz)
    return BenchSetup(
        found.signal, found.samples, found.seed, tuple(found.through) or ("ideal",), found.average, tuple(found.asks)
    )


def _hardware(found: HardwareShape) -> HardwareChoices:
    made = HardwareChoices(**{key: getattr(found, key) for key in HARDWARE_KEYS})
    if made.architecture not in ("", *ARCHITECTURES):
        raise FileError(
            f'"{made.architecture}" is not an architecture',
            "hardware.architecture",
            f"known are {', '.join(ARCHITECTURES)}",
        )
    return made


def _design(found: DesignShape) -> DesignChoice:
    names = [method.name for method in METHODS]
    if found.method not in names:
        near = get_close_matches(found.method, names, 1, 0.6)
        hint = f"did you mean {near[0]!r}?" if near else "see combe methods"
        raise FileError(f'"{found.method}" is not a method', "design.method", hint)
    given = None
    if found.given is not None:
        given = filter_from(found.given, "design.given")
    elif found.method == "given":
        raise FileError("is missing, expected the coefficients, as in a design file", "design.given")
    return DesignChoice(
        found.method, found.order, 1 if found.symmetry == "symmetric" else -1, tuple(found.cutoffs_hz), found.shape,
        found.spare, tuple(found.weights), tuple(found.settings.items()), given, found.holds_with_bits, found.plan,
    )  # fmt: skip


def _arithmetic(found: ArithmeticShape) -> Choices:
    structures = ("", *FORMS, *SECTION_STRUCTURES)
    for key, word, known in (("structure", found.structure, structures), ("ordering", found.ordering, ORDERINGS)):
        if word not in known:
            among = ", ".join(f'"{each}"' for each in known)
            raise FileError(f'expected one of {among}, found "{word}"', f"arithmetic.{key}")
    parse_format(found.input, "arithmetic.input")
    if found.output:
        parse_format(found.output, "arithmetic.output")
    return Choices(**{key: getattr(found, key) for key in Choices.__struct_fields__})


def _proof(found: ProofShape) -> ProofRecord:
    lines = tuple(
        Line(each.band, each.band_index, each.limit, each.asked, each.reached, each.margin, each.at_hz)
        for each in found.lines
    )
    return ProofRecord(found.language, found.checksum, found.tool, found.samples, lines)


def member_document(member: Member) -> dict[str, Any]:
    """The JSON document of a filter; reading it gives the same value again."""
    document: dict[str, Any] = {} if member.source == INPUT else {"source": member.source}
    folder = {"folder": member.export_folder} if member.export_folder else {}
    document |= {
        "requirement": requirement_document(member.requirement), "design": _design_document(member.design), "arithmetic": _arithmetic_document(member.arithmetic),
        "code": {"name": member.code_name} | _code_document(member.code) | folder, "proofs": [_proof_document(proof) for proof in member.proofs],
    }  # fmt: skip
    if member.recipe != GALLERY[0]:
        document["recipe"] = recipe_document(member.recipe)
    if hardware := _hardware_document(member.hardware):
        document["hardware"] = hardware
    if member.bench != BenchSetup():
        bench = {key: getattr(member.bench, key) for key in BenchSetup.__struct_fields__}
        document["bench"] = bench | {"through": list(member.bench.through), "asks": list(member.bench.asks)}
    if member.processor != Processor():
        usual = {"block": Processor().block}
        document["processor"] = {k: v for k, v in as_dict(member.processor).items() if usual.get(k) != v}
    if member.pins:
        document["pins"] = [
            {"name": pin.name, "shown": pin.is_shown} | filter_document(pin.filter) for pin in member.pins
        ]
    if member.variants:
        document["variants"] = [_variant_document(variant) for variant in member.variants]
    return document


def _variant_document(variant: Variant) -> dict[str, Any]:
    kept = variant.kept
    document: dict[str, Any] = {"name": variant.name} | ({"note": variant.note} if variant.note else {})
    document |= {
        "requirement": requirement_document(kept.requirement), "design": _design_document(kept.design), "arithmetic": _arithmetic_document(kept.arithmetic),
    }  # fmt: skip
    for key, part in (("code", _code_document(kept.code)), ("hardware", _hardware_document(kept.hardware))):
        if part:
            document[key] = part
    return document


def _design_document(choice: DesignChoice) -> dict[str, Any]:
    design: dict[str, Any] = {"method": choice.method}
    if choice.order is not None:
        design["order"] = choice.order
    if choice.symmetry == -1:
        design["symmetry"] = "antisymmetric"
    for key in ("cutoffs_hz", "weights"):
        if getattr(choice, key):
            design[key] = list(getattr(choice, key))
    if choice.holds_with_bits is not None:
        design["holds_with_bits"] = choice.holds_with_bits
    if choice.plan:
        design["plan"] = choice.plan
    if choice.shape:
        design["shape"] = choice.shape
    if choice.spare != "shared":
        design["spare"] = choice.spare
    if choice.settings:
        design["settings"] = dict(choice.settings)
    if choice.given is not None:
        design["given"] = filter_document(choice.given)
    return design


def _arithmetic_document(choices: Choices) -> dict[str, Any]:
    arithmetic: dict[str, Any] = {
        "coefficient_bits": choices.coefficient_bits, "structure": choices.structure, "input": choices.input,
        "output": choices.output, "accumulator_bits": choices.accumulator_bits, "rounding": choices.rounding,
        "overflow": choices.overflow,
    }  # fmt: skip
    if choices.state_bits is not None:
        arithmetic["state_bits"] = choices.state_bits
    standard = Choices()
    return arithmetic | {
        key: getattr(choices, key) for key in LATER_CHOICES if getattr(choices, key) != getattr(standard, key)
    }


def _hardware_document(hardware: HardwareChoices) -> dict[str, Any]:
    usual = HardwareChoices()
    return {key: getattr(hardware, key) for key in HARDWARE_KEYS if getattr(hardware, key) != getattr(usual, key)}


def _code_document(code: CodeChoices) -> dict[str, Any]:
    standard = CodeChoices()
    return {key: getattr(code, key) for key in CODE_KEYS if getattr(code, key) != getattr(standard, key)}


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
