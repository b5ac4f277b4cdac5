"""``combe deliver``"""

from __future__ import annotations

from typing import Annotated, Any

import typer

from combe.arithmetic.reading import RealizationFile, read_realization
from combe.arithmetic.realize import rounded_lines
from combe.cli.output import print_json, say
from combe.delivery import checked_name, identifier_from
from combe.delivery.c import c_package
from combe.delivery.code_choices import HISTORIES, NUMBERS, CodeChoices
from combe.errors import CombeError, FormatError
from combe.proof.arm import RISCV, TARGETS, built_for_riscv, prove_on_target
from combe.proof.c import Proof, prove_c

LANGUAGES = ("c", "c++")


def run(
    realization: Annotated[str, typer.Argument(metavar="REALIZATION.json", help="The realization file.")],
    language: Annotated[str, typer.Option(help=", ".join(LANGUAGES))],
    to: Annotated[str, typer.Option(metavar="DIR", help="The folder the files go into.")],
    name: Annotated[str, typer.Option(metavar="ID", help="The name code is given.")] = "",
    prove: Annotated[bool, typer.Option("--prove", help="Build and run it, compare every sample.")] = False,
    target: Annotated[
        list[str] | None,
        typer.Option(metavar="CORE", help=f"Prove it on an emulated processor too: {', '.join(TARGETS)}."),
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
    file_name: Annotated[str, typer.Option(metavar="ID", help="What files are called, where not as the code.")] = "",
    type_name: Annotated[str, typer.Option(metavar="ID", help="What types are called, where not as the code.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Write generated code, and prove it on real tools."""
    if language not in LANGUAGES:
        raise FormatError(
            f'"{language}" is not a language Combe writes', "--language", f"known are {', '.join(LANGUAGES)}"
        )
    for core in target or []:
        if core not in (*TARGETS, RISCV):
            raise FormatError(
                f'"{core}" is not a processor Combe builds for', "--target", f"known are {', '.join((*TARGETS, RISCV))}"
            )
    found = read_realization(realization)
    identifier = checked_name(name) if name else identifier_from(found.realization.name)
    asked = found.design.requirement if found.design else None
    lines = rounded_lines(found.realization, asked) if asked else ()
    choices = CodeChoices(
        language, number, history, unroll, intrinsics, reloadable, guard, converter_in, converter_out, file_name, type_name
    )  # fmt: skip
    if target and (choices.is_float or language != "c"):
        raise FormatError("integer C is what runs on an emulated processor", "--target", "leave it out")
    made = found.design.told() if found.design else ""
    try:
        package = c_package(found.realization, identifier, asked, lines, choices, made)
    except CombeError as error:
        raise error.at(realization) from None
    written = package.write(to)
    proof = prove_c(package, found.realization, lines, report=say) if prove else None
    on_targets = [
        prove_on_target(package, found.realization, core, report=say) for core in target or [] if core != RISCV
    ]  # fmt: skip
    if RISCV in (target or []):
        on_targets.append(built_for_riscv(package))
    document: dict[str, Any] = {
        "format": "combe-delivery", "version": 1, "language": language, "name": identifier,
        "checksum": package.checksum, "files": [str(path) for path in written],
        "lines": [line.document() for line in lines] or list(found.lines),
    }  # fmt: skip
    missed = [line.document() for line in lines if line.margin < 0] if lines else found.missed
    document["missed"] = missed
    if proof is not None:
        document["proof"] = proof.document()
    if on_targets:
        document["targets"] = [each.document() for each in on_targets]
    if json:
        print_json(document)
    else:
        for path in written:
            print(path)
        for each in on_targets:
            print(("proved: " if each.holds else "NOT PROVED: ") + each.sentence())
        _say_rest(proof, missed, found)
    failed = (proof is not None and not proof.holds) or any(not each.holds for each in on_targets)
    return 1 if missed or failed else 0


def _say_rest(proof: Proof | None, missed: list[dict[str, Any]], found: RealizationFile) -> None:
    if proof is not None:
        print(("proved: " if proof.holds else "NOT PROVED: ") + proof.sentence())
    for line in missed:
        print(f"limit missed: {line.get('band') or ''} {line['limit']}".replace("  ", " "))
