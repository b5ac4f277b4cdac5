"""The realization file: JSON to the list of stages and back."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from msgspec import Struct

from combe.checking import Fields, is_number
from combe.designing.designed import Design
from combe.designing.file import design_document, design_from
from combe.errors import CombeError
from combe.files import read_json
from combe.ledger import Line
from combe.realization.cic import Cic
from combe.realization.formats import WIDEST_ACCUMULATOR, Format, parse_format
from combe.realization.network import NamedTerm, Network, Node
from combe.realization.section import Section
from combe.realization.shape import (
    CicShape,
    NetworkShape,
    NodeShape,
    RealizationShape,
    SectionShape,
    StageShape,
    TapSumShape,
    TermShape,
)
from combe.realization.stages import Realization, Requantize, Stage, TapSum
from combe.realization.term import REST, TURNED, Term
from combe.schema import read


class RealizationFile(Struct, frozen=True):
    """What a realization file holds: the program, what it was made from, and its recorded lines."""

    realization: Realization
    design: Design | None
    lines: tuple[dict[str, Any], ...] = ()

    def __repr__(self) -> str:
        """The program and what it was made from."""
        return f"RealizationFile({self.realization!r}, {self.design!r})"

    @property
    def missed(self) -> list[dict[str, Any]]:
        """The recorded lines whose limit is missed."""
        return [line for line in self.lines if any(key.startswith("margin") and line[key] < 0 for key in line)]


def read_realization(path: str | Path) -> RealizationFile:
    """The realization in a file; errors name the file and the key."""
    document = read_json(path)
    try:
        return realization_from(document)
    except CombeError as error:
        raise error.at(str(path)) from None


def realization_from(document: Any) -> RealizationFile:
    """The realization in a JSON document."""
    fields = Fields(document)
    fields.header("combe-realization", 1)
    found = read(document, RealizationShape)
    realization = Realization(
        found.name, found.sample_rate_hz, found.structure, parse_format(found.input, "input"),
        parse_format(found.output, "output", WIDEST_ACCUMULATOR),
        tuple(_stage(stage, f"stages[{k}]") for k, stage in enumerate(found.stages)),
    )  # fmt: skip
    design = _design(document.get("design"))
    lines = [item for item in (fields.list("lines") if fields.has("lines") else []) if _is_line(item)]
    return RealizationFile(realization, design, tuple(lines))


def _wide(value: Any, where: str) -> Format:
    return parse_format(value, where, WIDEST_ACCUMULATOR)


def _stage(found: StageShape, where: str) -> Stage:
    if isinstance(found, TapSumShape):
        return TapSum(
            tuple(found.coefficients), parse_format(found.coefficient, f"{where}.coefficient"),
            _wide(found.accumulator, f"{where}.accumulator"), found.form, found.branches,
            found.up, found.down,
        )  # fmt: skip
    if isinstance(found, CicShape):
        accumulator = _wide(found.accumulator, f"{where}.accumulator")
        return Cic(found.order, found.up, found.down, found.delay, accumulator, found.discarded)
    if isinstance(found, SectionShape):
        return Section(
            found.b, found.a, parse_format(found.numerator, f"{where}.numerator"),
            parse_format(found.denominator, f"{where}.denominator"), _wide(found.accumulator, f"{where}.accumulator"),
            parse_format(found.to, f"{where}.to"), found.rounding, found.overflow, found.form,
        )  # fmt: skip
    if isinstance(found, NetworkShape):
        nodes = tuple(_node(node, f"{where}.nodes[{k}]") for k, node in enumerate(found.nodes))
        phase = parse_format(found.phase, f"{where}.phase") if found.phase is not None else None
        return Network(nodes, found.output, found.form, found.up, found.down, phase)
    return Requantize(
        _wide(found.source, f"{where}.from"), _wide(found.to, f"{where}.to"), found.rounding, found.overflow
    )


def _node(found: NodeShape, where: str) -> Node:
    return Node(
        found.name, tuple(_term(term, f"{where}.terms[{k}]") for k, term in enumerate(found.terms)),
        _wide(found.accumulator, f"{where}.accumulator"), _wide(found.to, f"{where}.to"), found.rounding, found.overflow,
    )  # fmt: skip


def _term(found: TermShape, where: str) -> NamedTerm:
    name, delay, value, entry = found
    signal = name.removesuffix(REST).removesuffix(TURNED)
    return Term(signal, delay, value, parse_format(entry, f"{where}[3]"), name.endswith(REST), name.endswith(TURNED))


def _design(item: Any) -> Design | None:
    """What the program was made from, where the file says so in a form that can be read."""
    if isinstance(item, dict) and item.get("format") == "combe-design":
        return design_from(item, "design")
    return None


def _is_line(item: Any) -> bool:
    """Whether an entry is a line of the ledger; anything else is a remark, and no reader obeys remarks."""
    return isinstance(item, dict) and all(is_number(item[key]) for key in item if key.startswith("margin"))


def stage_document(stage: Stage) -> dict[str, Any]:
    """One stage as the file has it."""
    if isinstance(stage, TapSum):
        return {
            "kind": "tap-sum", "form": stage.form, "coefficients": list(stage.coefficients),
            "coefficient": str(stage.coefficient), "accumulator": str(stage.accumulator),
        } | ({"branches": stage.branches} if stage.form == "polyphase" else {}) | (
            {"up": stage.up, "down": stage.down} if stage.up > 1 or stage.down > 1 else {}
        )  # fmt: skip
    if isinstance(stage, Cic):
        return {
            "kind": "cic", "order": stage.order, "up": stage.up, "down": stage.down, "delay": stage.delay,
            "accumulator": str(stage.accumulator),
        } | ({"discarded": list(stage.discarded)} if stage.discarded else {})  # fmt: skip
    if isinstance(stage, Section):
        return {
            "kind": "section", "form": stage.form, "b": list(stage.b), "a": list(stage.a),
            "numerator": str(stage.numerator), "denominator": str(stage.denominator),
            "accumulator": str(stage.accumulator), "to": str(stage.result), "rounding": stage.rounding,
            "overflow": stage.overflow,
        }  # fmt: skip
    if isinstance(stage, Network):
        return {"kind": "network", "form": stage.form, "nodes": [_node_document(node) for node in stage.nodes],
                "output": stage.output} | ({"up": stage.up, "down": stage.down} if stage.up > 1 or stage.down > 1 else {}) | (
                {"phase": str(stage.phase)} if stage.phase is not None else {})  # fmt: skip
    return {
        "kind": "requantize", "from": str(stage.source), "to": str(stage.target),
        "rounding": stage.rounding, "overflow": stage.overflow,
    }  # fmt: skip


def _node_document(node: Node) -> dict[str, Any]:
    return {
        "name": node.name, "terms": [[t.key, t.delay, t.coefficient, str(t.format)] for t in node.terms],
        "accumulator": str(node.accumulator), "to": str(node.result), "rounding": node.rounding,
        "overflow": node.overflow,
    }  # fmt: skip


def file_document(found: RealizationFile) -> dict[str, Any]:
    """The JSON document of a program with its design and its recorded lines."""
    document = realization_document(found.realization) | {"lines": list(found.lines)}
    if found.design is not None:
        document |= {"meets": not found.missed, "design": design_document(found.design)}
    return document


def realization_document(
    realization: Realization, lines: tuple[Line, ...] = (), design: Design | None = None
) -> dict[str, Any]:
    """The JSON document of a realization; reading it gives the same program again."""
    document: dict[str, Any] = {
        "format": "combe-realization", "version": 1, "name": realization.name,
        "sample_rate_hz": realization.sample_rate_hz, "structure": realization.structure,
        "input": str(realization.input), "output": str(realization.output),
        "stages": [stage_document(stage) for stage in realization.stages],
        "lines": [line.document() for line in lines],
    }  # fmt: skip
    if design is not None:
        document["meets"] = all(line.margin >= 0 for line in lines)
        document["design"] = design_document(design)
    return document
