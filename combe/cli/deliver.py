"""``combe deliver``"""

from __future__ import annotations

from typing import Annotated, Any

import typer

from combe.arithmetic.reading import RealizationFile, read_realization
from combe.arithmetic.realize import rounded_lines
from combe.cli.output import print_json, say
from combe.delivery import checked_name, identifier_from
from combe.delivery.c import c_package
from combe.errors import CombeError, FormatError
from combe.proof.c import Proof, prove_c

LANGUAGES = ("c",)


def run(
    realization: Annotated[str, typer.Argument(metavar="REALIZATION.json", help="The realization file.")],
    language: Annotated[str, typer.Option(help="c")],
    to: Annotated[str, typer.Option(metavar="DIR", help="The folder the files go into.")],
    name: Annotated[str, typer.Option(metavar="ID", help="The name code is given.")] = "",
    prove: Annotated[bool, typer.Option("--prove", help="Build and run it, compare every sample.")] = False,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Write generated code, and prove it on real tools."""
    if language not in LANGUAGES:
        raise FormatError(
            f'"{language}" is not a language Combe writes', "--language", f"known are {', '.join(LANGUAGES)}"
        )
    found = read_realization(realization)
    identifier = checked_name(name) if name else identifier_from(found.realization.name)
    asked = found.design.requirement if found.design else None
    lines = rounded_lines(found.realization, asked) if asked else ()
    try:
        package = c_package(found.realization, identifier, asked, lines)
    except CombeError as error:
        raise error.at(realization) from None
    written = package.write(to)
    proof = prove_c(package, found.realization, lines, report=say) if prove else None
    document: dict[str, Any] = {
        "format": "combe-delivery", "version": 1, "language": language, "name": identifier,
        "checksum": package.checksum, "files": [str(path) for path in written],
        "lines": [line.document() for line in lines] or list(found.lines),
    }  # fmt: skip
    missed = [line.document() for line in lines if line.margin < 0] if lines else found.missed
    document["missed"] = missed
    if proof is not None:
        document["proof"] = proof.document()
    if json:
        print_json(document)
    else:
        for path in written:
            print(path)
        _say_rest(proof, missed, found)
    return 1 if missed or (proof is not None and not proof.holds) else 0


def _say_rest(proof: Proof | None, missed: list[dict[str, Any]], found: RealizationFile) -> None:
    if proof is not None:
        print(("proved: " if proof.holds else "NOT PROVED: ") + proof.sentence())
    for line in missed:
        print(f"limit missed: {line.get('band') or ''} {line['limit']}".replace("  ", " "))
