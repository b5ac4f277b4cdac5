"""The package of a circuit: text, test bench, vectors, Makefile, and a page that says what it is."""

from __future__ import annotations

from typing import Any

from combe.delivery.hdl.axi import axi_values
from combe.delivery.hdl.board import board_named
from combe.delivery.hdl.build import Built, build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.described import core_files
from combe.delivery.hdl.page import facts_of, page_text
from combe.delivery.hdl.selftest import board_values
from combe.delivery.hdl.vectors import Vectors, hdl_vectors
from combe.delivery.hdl.verilog import verilog_text
from combe.delivery.hdl.vhdl import vhdl_text
from combe.delivery.hdl.words import checked_hdl_name
from combe.delivery.languages import Order
from combe.delivery.package import Package, SourceFile, checked_name
from combe.delivery.story import OWNERSHIP, story
from combe.errors import FormatError
from combe.ledger import Line
from combe.realization.stages import Realization
from combe.requirement import Requirement
from combe.templates import rendered

ENDINGS = {"verilog": "v", "vhdl": "vhd"}
PORTS = ("clk", "rst", "in_valid", "in_ready", "in_data", "out_valid", "out_data")


def hdl_package(
    realization: Realization,
    language: str,
    name: str,
    requirement: Requirement | None = None,
    lines: tuple[Line, ...] = (),
    choices: HardwareChoices = HardwareChoices(),
    made: str = "",
) -> Package:
    """All files of a circuit in one language.

    Raises
    ------
    FormatError
        If the name is reserved, or the architecture can't be had.
    """
    checked_name(name)
    checked_hdl_name(name)
    built = build_circuit(realization, name, choices)
    played = hdl_vectors(realization, choices, built, language)
    told = story(realization, name, requirement, lines, made=made)
    head = [*told[:-2], *facts_of(realization, built, choices), "", *told[-2:]]
    text = verilog_text(built.circuit, head) if language == "verilog" else vhdl_text(built.circuit, head)
    ending = ENDINGS[language]
    files = [SourceFile(f"{name}.{ending}", text), *bench_files(realization, built, language, played, choices)]
    if choices.board:
        files += _board_files(realization, built, language, played, choices)
    if choices.axi_stream:
        files.append(
            SourceFile(
                f"{name}_axi.{ending}",
                _render(f"axi.{ending}.j2", _values(built, language, played, choices, realization.ratio)),
            )
        )
    if choices.described:
        values = _values(built, language, played, choices, realization.ratio)
        rtl = [f"{name}.{ending}", *([f"{name}_axi.{ending}"] if choices.axi_stream else [])]
        data = [file.name for file in files if file.name.endswith(".txt")]
        described = core_files(built, language, rtl, data, f"{name}: {made or realization.name}", values)
        files += [SourceFile(file, written) for file, written in described.items()]
    files.append(SourceFile(f"{name}.md", page_text(realization, built, choices, told)))
    return Package(language, name, tuple(files), choices)


def _board_files(
    realization: Realization, built: Built, language: str, played: Vectors, choices: HardwareChoices
) -> list[SourceFile]:  # fmt: skip
    """The top level with its self-test, its test bench, and where its ports go; for VHDL the bench of the netlist too."""
    if choices.converter_in:
        raise FormatError(
            "a board's self-test plays the filter's own format", "converter_in", "leave the converter out"
        )
    name, ending = built.circuit.name, ENDINGS[language]
    plain = _values(built, language, played, choices, realization.ratio)
    values = plain | board_values(realization, built, board_named(choices.board)) | {"language": language}
    files = [
        SourceFile(f"{name}_top.{ending}", _render(f"top.{ending}.j2", values)),
        SourceFile(f"{name}_top_tb.{ending}", _render(f"top_tb.{ending}.j2", values)),
        *(SourceFile(f"{name}_top.{kind}", _render(f"pins.{kind}.j2", values)) for kind in ("pcf", "sdc", "xdc", "lpf")),
    ]  # fmt: skip
    if language == "vhdl":
        files.append(SourceFile(f"{name}_gates_tb.v", _render("tb.v.j2", plain | {"language": "verilog"})))
    return files


def written(order: Order) -> Package:
    """The circuit an order asks for."""
    return hdl_package(
        order.realization, order.code.language, order.name, order.requirement, order.lines, order.circuit, order.made
    )


def bench_files(
    realization: Realization, built: Built, language: str, played: Vectors, choices: HardwareChoices
) -> list[SourceFile]:
    """Test bench, its vectors and the Makefile."""
    name, ending = built.circuit.name, ENDINGS[language]
    values = _values(built, language, played, choices, realization.ratio)
    samples, expected = played.rows(built.input_bits, built.output_bits)
    return [
        SourceFile(f"{name}_tb.{ending}", _render(f"tb.{ending}.j2", values)),
        SourceFile(f"{name}_samples.txt", samples), SourceFile(f"{name}_expected.txt", expected),
        SourceFile("Makefile", _render("Makefile.j2", values)),
        *([SourceFile(f"{name}_due.txt", "".join(f"{value:032b}\n" for value in played.due.tolist()))] if played.due is not None else []),
    ]  # fmt: skip


def _values(
    built: Built, language: str, played: Vectors, choices: HardwareChoices, ratio: tuple[int, int]
) -> dict[str, Any]:
    extra = [port.signal for port in built.circuit.ports if port.signal.name not in PORTS]
    out = built.circuit.signals["out_data"]
    return {
        "name": built.circuit.name, "language": language, "count": len(played.samples), "extra": extra,
        "board": board_named(choices.board) if choices.board else None,
        "outputs": len(played.outputs), "changes_rate": played.due is not None,
        "latency": built.latency, "clocks": built.clocks, "span": built.span, "timed": built.timed or built.clocks,
        "patience": (12 if played.due is not None else 4) * (built.latency + built.clocks) + 100,
        "ownership": OWNERSHIP, "axi": choices.axi_stream,
        "out_signed": out.kind == "signed", **axi_values(built, ratio),
    }  # fmt: skip


def _render(template: str, values: dict[str, Any]) -> str:
    return rendered("delivery/hdl", template, values)
