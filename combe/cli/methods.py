"""``combe methods``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe.cli.output import print_json
from combe.design.methods import METHODS


def run(json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False) -> int:
    """List the design methods and what each can do."""
    if json:
        print_json([method.document() for method in METHODS])
        return 0
    for method in METHODS:
        print(f"{method.name}  ({method.kind})  {method.summary}")
        print(f"    {', '.join(method.can)}")
    return 0
