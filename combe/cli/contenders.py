"""``combe contenders``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe import api
from combe.cli.output import print_json, say
from combe.designing.contenders import Contender, ranked
from combe.designing.nearest import relaxations
from combe.errors import CombeError
from combe.requirement import read_requirement


def run(
    requirement: Annotated[str, typer.Argument(metavar="REQ.json", help="The requirement file, - for standard input.")],
    antisymmetric: Annotated[
        bool, typer.Option("--antisymmetric", help="Try taps that turn the phase by 90 degrees too.")
    ] = False,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Line up every method that applies, cheapest first, with the reason where one doesn't."""
    asked = read_requirement(requirement)
    try:
        found = list(api.contenders(asked, antisymmetric=antisymmetric))
    except CombeError as error:
        raise error.at(requirement) from None
    if json:
        print_json([contender.document() for contender in ranked(found)])
    else:
        for contender in ranked(found):
            print(_line(contender))
    for better in relaxations(asked, found):
        say(f"nothing keeps every limit; {better.sentence}")
    return 0 if any(contender.keeps for contender in found) else 1


def _line(contender: Contender) -> str:
    kind = ", antisymmetric" if contender.symmetry == -1 else ""
    if contender.cost is None or contender.delay is None or contender.design is None:
        return f"{contender.method}{kind}: {contender.reason}"
    verdict = "keeps every limit" if contender.keeps else "misses"
    size = contender.design.size_words
    delay = contender.delay
    span = f"{delay.least:.4g}" if delay.most - delay.least < 1e-9 else f"{delay.least:.4g} to {delay.most:.4g}"
    return (
        f"{contender.method}{kind}, {size}: {contender.cost.multiply_words}, {contender.cost.adds} adds, "
        f"{contender.cost.delays} words, delay {span} samples, {contender.phase} phase, {verdict}, "
        f"spare {contender.spare_db:.4f} dB"
    )
