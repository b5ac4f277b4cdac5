"""``combe deliver``"""

from __future__ import annotations

from cmath import phase
from dataclasses import dataclass, field
from math import degrees, log10
from typing import Annotated, Any

import typer
from click.core import ParameterSource

from combe import api
from combe.analysis.exact import exact_filter
from combe.api.realizing import package_of
from combe.cli.output import hertz, print_json, say
from combe.cli.sources import FilterName, WholePath, realization_and_project
from combe.delivery.code_choices import BUILDS, HISTORIES, NUMBERS
from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import ARCHITECTURES
from combe.delivery.hdl.page import multipliers_text, several
from combe.delivery.languages import NAMES, check_options, language_named
from combe.delivery.package import Package
from combe.errors import CombeError, FormatError
from combe.ledger import Line
from combe.project.chosen import chosen_code
from combe.proof.cores import CORES, prove_on_target
from combe.proof.synthesis import DEVICES, synthesized
from combe.realization.reading import RealizationFile
from combe.realization.stages import Realization
from combe.requirement.quantities import frequency_text
from combe.signals.sweep import gain_at

OPTIONS = {
    "target": "--target", "number": "--number", "history": "--history", "unroll": "--unroll",
    "intrinsics": "--intrinsics", "reloadable": "--reloadable", "guard": "--denormal-guard", "converter_in": "--converter-in",
    "converter_out": "--converter-out", "build": "--build", "single_file": "--single-file", "file_name": "--file-name", "type_name": "--type-name",
    "architecture": "--architecture", "clock": "--clock", "multipliers": "--multipliers", "pipeline": "--pipeline",
    "axi_stream": "--axi-stream", "double_buffer": "--double-buffer", "board": "--board", "described": "--describe", "synthesize": "--synthesize",
}  # fmt: skip
"""What may belong to some languages only, by the name of its parameter."""
KEYS = {"clock": "clock_hz"}


def run(
    context: typer.Context,
    realization: Annotated[str, typer.Argument(metavar="REALIZATION.json", help="The realization file.")],
    language: Annotated[str, typer.Option(help=", ".join(NAMES))],
    to: Annotated[str, typer.Option(metavar="DIR", help="The folder the files go into.")],
    filter: FilterName = "",
    whole_path: WholePath = False,
    name: Annotated[str, typer.Option(metavar="ID", help="The name code is given.")] = "",
    prove: Annotated[bool, typer.Option("--prove", help="Build and run it, compare every sample.")] = False,
    target: Annotated[
        list[str] | None,
        typer.Option(metavar="CORE", help=f"Prove it on an emulated processor too: {', '.join(CORES)}."),
    ] = None,
    number: Annotated[str, typer.Option(help=f"What it computes in: {', '.join(NUMBERS)}.")] = "integer",
    history: Annotated[str, typer.Option(help=f"How a FIR keeps its samples: {', '.join(HISTORIES)}.")] = "blocks",
    unroll: Annotated[
        int, typer.Option(help="Taps in one turn of the inner loop: 0 (as many as pay), 4, 8, 16, 32.")
    ] = 0,
    intrinsics: Annotated[bool, typer.Option(help="Dual multiply-accumulate behind #ifdef.")] = True,
    reloadable: Annotated[
        bool, typer.Option("--reloadable", help="Coefficients that can be replaced while it runs.")
    ] = False,
    guard: Annotated[bool, typer.Option("--denormal-guard", help="Loops in floating point end in zeros.")] = False,
    converter_in: Annotated[str, typer.Option(metavar="BITS[@OFFSET]", help="An entry for raw unsigned codes.")] = "",
    converter_out: Annotated[str, typer.Option(metavar="BITS[@OFFSET]", help="The codes that entry gives.")] = "",
    build: Annotated[str, typer.Option(help=f"Build files beside the Makefile: {', '.join(BUILDS)}.")] = "make",
    single_file: Annotated[bool, typer.Option("--single-file", help="All of the C in one header.")] = False,
    file_name: Annotated[str, typer.Option(metavar="ID", help="What files are called, where not as the code.")] = "",
    type_name: Annotated[str, typer.Option(metavar="ID", help="What types are called, where not as the code.")] = "",
    architecture: Annotated[str, typer.Option(metavar="A", help=f"Of a circuit: {', '.join(ARCHITECTURES)}.")] = "",
    clock: Annotated[str, typer.Option(metavar="HZ", help="The circuit's clock, such as 40M.")] = "",
    multipliers: Annotated[int, typer.Option(help="Of semi-parallel; 0: as few as clock and rate allow.")] = 0,
    pipeline: Annotated[
        int, typer.Option(help="Adders in a row between two registers; 0: no registers in between.")
    ] = 1,
    double_buffer: Annotated[
        bool, typer.Option("--double-buffer", help="Replaced coefficients take over together, between two samples.")
    ] = False,
    axi_stream: Annotated[bool, typer.Option("--axi-stream", help="A wrapper with AXI4-Stream ports too.")] = False,
    board: Annotated[
        str, typer.Option(metavar="BOARD", help="A top level with a self-test for a board: one that ships, or a file.")
    ] = "",
    described: Annotated[
        bool,
        typer.Option("--describe", help="Describe the core for other tools: NAME.core (CAPI2), NAME.xml (IP-XACT)."),
    ] = False,
    phase_at: Annotated[
        float, typer.Option(metavar="HZ", help="Tell gain and phase of the circuit's outputs there.")
    ] = 0.0,
    synthesize: Annotated[
        bool, typer.Option("--synthesize", help="Count cells with real synthesis, place where it fits.")
    ] = False,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Write generated code, and prove it on real tools."""
    written_in = language_named(language, "--language")
    given = {
        KEYS.get(name, name): option for name, option in OPTIONS.items()
        if context.get_parameter_source(name) is ParameterSource.COMMANDLINE
    }  # fmt: skip
    check_options(written_in, given)
    for core in target or []:
        if core not in CORES:
            raise FormatError(
                f'"{core}" is not a processor Combe builds for', "--target", f"known are {', '.join(CORES)}"
            )
    found, project = realization_and_project(realization, filter, whole_path)
    lines = api.lines(found)
    values = {
        "number": number, "history": history, "unroll": unroll, "intrinsics": intrinsics, "reloadable": reloadable,
        "guard": guard, "converter_in": converter_in, "converter_out": converter_out, "build": build, "single_file": single_file, "file_name": file_name,
        "type_name": type_name, "architecture": architecture, "clock_hz": hertz(clock, "--clock") if clock else 0.0,
        "multipliers": multipliers, "pipeline": pipeline, "double_buffer": double_buffer, "axi_stream": axi_stream, "board": board,
        "described": described,
    }  # fmt: skip
    if project is not None:
        # What the command line leaves open is as the project has chosen it, so that what is written is what it exports.
        if not whole_path:
            name = name or project.code_name
        if language == project.code.language:
            values |= {key: value for key, value in chosen_code(project).items() if key in values and key not in given}
    try:
        if target and values["number"] != "integer":
            raise FormatError("integer C is what runs on an emulated processor", "--target", "leave it out")
        choices = {key: value for key, value in values.items() if key in written_in.choices}
        package = package_of(found, language, name, **choices)
    except CombeError as error:
        raise error.at(realization) from None
    at_frequency = _at_frequency(found.realization, phase_at) if phase_at else {}
    written = package.write(to)
    document: dict[str, Any] = {
        "format": "combe-delivery", "version": 1, "language": language, "name": package.name,
        "checksum": package.checksum, "files": [str(path) for path in written],
        "lines": [line.document() for line in lines] or list(found.lines),
    }  # fmt: skip
    missed = [line.document() for line in lines if line.margin < 0] if lines else found.missed
    document["missed"] = missed
    if at_frequency:
        document["at_frequency"] = at_frequency
    proofs = _proved(package, found, lines, prove, synthesize, target or [], document)
    if json:
        print_json(document)
    else:
        for path in written:
            print(path)
        for sentence in proofs.sentences:
            print(sentence)
        for line in missed:
            print(f"limit missed: {line.get('band') or ''} {line['limit']}".replace("  ", " "))
    return 1 if missed or not proofs.hold else 0


def _at_frequency(made: Realization, hz: float) -> dict[str, float]:
    if not 0 < hz < made.sample_rate_hz / 2:
        raise FormatError(
            f"{frequency_text(hz)} can't be measured",
            "--phase-at",
            f"above 0 and below {frequency_text(made.sample_rate_hz / 2)}",
        )
    gain = gain_at(made, hz)
    say(f"at {frequency_text(hz)}: {20 * log10(max(abs(gain), 1e-20)):.4f} dB, {degrees(phase(gain)):.3f} degrees")
    return {
        "hz": hz,
        "db": 20 * log10(max(abs(gain), 1e-20)),
        "phase_rad": phase(gain),
        "phase_degrees": degrees(phase(gain)),
    }


@dataclass(slots=True)
class _Proofs:
    """What was proved, in sentences."""

    hold: bool = True
    sentences: list[str] = field(default_factory=list)

    def add(self, holds: bool, sentence: str) -> None:
        """One more."""
        self.hold = self.hold and holds
        self.sentences.append(("proved: " if holds else "NOT PROVED: ") + sentence)


def _proved(
    package: Package, found: RealizationFile, lines: tuple[Line, ...], prove: bool, synthesize: bool, target: list[str],
    document: dict[str, Any],
) -> _Proofs:  # fmt: skip
    """Everything that was asked to be proved or measured, put into the document."""
    proofs, made = _Proofs(), found.realization
    if package.circuit is not None:
        built = build_circuit(made, package.name, package.circuit)
        document["circuit"] = {
            "architecture": built.architecture, "latency_clocks": built.latency, "clocks_per_sample": built.clocks,
            "multipliers": built.count.multipliers, "adders": built.count.adders, "register_bits": built.count.registers,
            "memory_bits": built.count.memory_bits, "multiplier_blocks": built.count.blocks,
        }  # fmt: skip
        proofs.sentences.append(
            f"{built.architecture}: latency {built.latency} clocks, {built.clocks} clocks a sample, "
            f"{multipliers_text(built.count)}, {several(built.count.adders, 'adder')}, {built.count.registers} register bits"
        )
    if prove:
        ideal = found.design.filter if found.design else exact_filter(made)
        proof = package.written_in.prove(package, made, lines, ideal, say)
        document["proof"] = proof.document()
        proofs.add(proof.holds, proof.sentence())
    if synthesize:
        costs = [synthesized(package, device, report=say) for device in DEVICES]
        document["synthesis"] = [cost.document() for cost in costs]
        proofs.sentences += [cost.sentence() for cost in costs]
    on_targets = [prove_on_target(package, made, core, report=say) for core in target]
    for each in on_targets:
        proofs.add(each.holds, each.sentence())
    if on_targets:
        document["targets"] = [each.document() for each in on_targets]
    return proofs
