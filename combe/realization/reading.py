"""The realization file: JSON to the list of stages and back."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from msgspec import Struct

from combe.checking import Fields, describe, is_number
from combe.designing.designed import Design
from combe.designing.file import design_document, design_from
from combe.errors import CombeError, FileError
from combe.files import read_json
from combe.ledger import Line
from combe.realization.formats import OVERFLOWS, ROUNDINGS, WIDEST_ACCUMULATOR, parse_format
from combe.realization.network import NamedTerm, Network, Node
from combe.realization.section import SECTION_FORMS, Section
from combe.realization.stages import FORMS, MOST_BRANCHES, Realization, Requantize, Stage, TapSum
from combe.realization.term import REST, Term


class RealizationFile(Struct, frozen=True):
    """What a realization file holds: the program, what it was made from, and its recorded lines."""

    realization: Realization
    design: Design | None
    lines: tuple[dict[str, Any], ...] = ()

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
    rate = fields.number("sample_rate_hz", "the sample rate in Hz, above zero")
    if rate <= 0:
        raise fields.fail("sample_rate_hz", "the sample rate in Hz, above zero")
    stages = [_stage(item, f"stages[{k}]") for k, item in enumerate(fields.list("stages", "a list of stages"))]
    realization = Realization(
        fields.text("name", "a text", "filter"),
        rate,
        fields.text("structure", "a structure", "direct"),
        parse_format(document.get("input"), "input"),
        parse_format(document.get("output"), "output", WIDEST_ACCUMULATOR),
        tuple(stages),
    )
    design = _design(document.get("design"))
    lines = [item for item in (fields.list("lines") if fields.has("lines") else []) if _is_line(item)]
    return RealizationFile(realization, design, tuple(lines))


def _stage(item: Any, where: str) -> Stage:
    fields = Fields(item, where)
    kind = fields.choice("kind", ("tap-sum", "section", "network", "requantize"))
    if kind == "section":
        return _section(fields, item, where)
    if kind == "network":
        return _network(fields, item, where)
    if kind == "tap-sum":
        fields.only(("kind", "form", "coefficients", "coefficient", "accumulator", "branches"))
        return TapSum(
            tuple(
                _integer(x, f"{where}.coefficients[{k}]")
                for k, x in enumerate(fields.list("coefficients", "a list of integers"))
            ),
            parse_format(item.get("coefficient"), f"{where}.coefficient"),
            parse_format(item.get("accumulator"), f"{where}.accumulator", WIDEST_ACCUMULATOR),
            fields.choice("form", FORMS, "direct"),
            fields.integer("branches", 1, MOST_BRANCHES) if fields.has("branches") else 1,
        )
    fields.only(("kind", "from", "to", "rounding", "overflow"))
    return Requantize(
        parse_format(item.get("from"), f"{where}.from", WIDEST_ACCUMULATOR),
        parse_format(item.get("to"), f"{where}.to", WIDEST_ACCUMULATOR),
        fields.choice("rounding", ROUNDINGS),
        fields.choice("overflow", OVERFLOWS),
    )


def _section(fields: Fields, item: Any, where: str) -> Section:
    fields.only(("kind", "form", "b", "a", "numerator", "denominator", "accumulator", "to", "rounding", "overflow"))
    numbers = {}
    for key, count in (("b", 3), ("a", 2)):
        values = fields.list(key, f"{count} integers")
        if len(values) != count:
            raise fields.fail(key, f"{count} integers")
        numbers[key] = [_integer(x, f"{where}.{key}[{k}]") for k, x in enumerate(values)]
    (b0, b1, b2), (a1, a2) = numbers["b"], numbers["a"]
    return Section(
        (b0, b1, b2), (a1, a2),
        parse_format(item.get("numerator"), f"{where}.numerator"),
        parse_format(item.get("denominator"), f"{where}.denominator"),
        parse_format(item.get("accumulator"), f"{where}.accumulator", WIDEST_ACCUMULATOR),
        parse_format(item.get("to"), f"{where}.to"),
        fields.choice("rounding", ROUNDINGS),
        fields.choice("overflow", OVERFLOWS),
        fields.choice("form", SECTION_FORMS, "direct-1"),
    )  # fmt: skip


def _network(fields: Fields, item: Any, where: str) -> Network:
    fields.only(("kind", "form", "nodes", "output"))
    nodes = [_node(node, f"{where}.nodes[{k}]") for k, node in enumerate(fields.list("nodes", "a list of nodes"))]
    return Network(tuple(nodes), fields.text("output", "a node's name"), fields.text("form", "a text", "network"))


def _node(item: Any, where: str) -> Node:
    fields = Fields(item, where)
    fields.only(("name", "terms", "accumulator", "to", "rounding", "overflow"))
    return Node(
        fields.text("name", "a name"),
        tuple(_term(term, f"{where}.terms[{k}]") for k, term in enumerate(fields.list("terms", "a list of terms"))),
        parse_format(item.get("accumulator"), f"{where}.accumulator", WIDEST_ACCUMULATOR),
        parse_format(item.get("to"), f"{where}.to", WIDEST_ACCUMULATOR),
        fields.choice("rounding", ROUNDINGS, "floor"),
        fields.choice("overflow", OVERFLOWS, "wrap"),
    )


def _term(item: Any, where: str) -> NamedTerm:
    if not isinstance(item, list) or len(item) != 4 or not isinstance(item[0], str):
        raise FileError(f"expected [signal, delay, integer, format], found {describe(item)}", where)
    delay, value = _integer(item[1], f"{where}[1]"), _integer(item[2], f"{where}[2]")
    signal, is_rest = item[0].removesuffix(REST), item[0].endswith(REST)
    return Term(signal, delay, value, parse_format(item[3], f"{where}[3]"), is_rest)


def _integer(value: Any, where: str) -> int:
    if isinstance(value, int) and not isinstance(value, bool):
        return value
    raise FileError(f"expected a whole number, found {describe(value)}", where)


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
        } | ({"branches": stage.branches} if stage.form == "polyphase" else {})  # fmt: skip
    if isinstance(stage, Section):
        return {
            "kind": "section", "form": stage.form, "b": list(stage.b), "a": list(stage.a),
            "numerator": str(stage.numerator), "denominator": str(stage.denominator),
            "accumulator": str(stage.accumulator), "to": str(stage.result), "rounding": stage.rounding,
            "overflow": stage.overflow,
        }  # fmt: skip
    if isinstance(stage, Network):
        return {"kind": "network", "form": stage.form, "nodes": [_node_document(node) for node in stage.nodes],
                "output": stage.output}  # fmt: skip
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
