"""``combe contenders``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe.cli.output import print_json
from combe.design.contenders import contenders, ranked
from combe.requirement import read_requirement


def run(
    requirement: Annotated[str, typer.Argument(metavar="REQ.json", help="The requirement file, - for standard input.")],
    antisymmetric: Annotated[
        bool, typer.Option("--antisymmetric", help="Try taps that turn the phase by 90 degrees too.")
    ] = False,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Line up what could do it, cheapest first."""
    found = ranked(list(contenders(read_requirement(requirement), with_antisymmetric=antisymmetric)))
    if json:
        print_json([contender.document() for contender in found])
    else:
        for contender in found:
            kind = ", antisymmetric" if contender.symmetry == -1 else ""
            if contender.cost is None:
                print(f"{contender.method}{kind}: {contender.reason}")
                continue
            verdict = "keeps every limit" if contender.keeps else "misses"
            print(
                f"{contender.method}{kind}, {contender.order + 1} taps: {contender.cost.multiplies} multiplies, "
                f"{verdict}, spare {contender.spare_db:.4f} dB"
            )
    return 0 if any(contender.keeps for contender in found) else 1
