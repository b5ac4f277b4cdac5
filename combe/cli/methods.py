"""``combe methods``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe.cli.output import print_json
from combe.designing.methods import METHODS


def run(json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False) -> int:
    """List the design methods: what each can do and what it needs."""
    if json:
        print_json([method.document() for method in METHODS])
        return 0
    for method in METHODS:
        print(f"{method.name}  ({method.kind})  {method.summary}")
        print(f"    can: {', '.join(method.can)}")
        print(f"    needs: {', or '.join(method.asks)}")
        for setting in method.settings:
            default = "" if setting.default is None else f", {setting.default:g} without it"
            unit = f" in {setting.unit}" if setting.unit else ""
            print(f"    --set {setting.name}=…  {setting.summary}{unit}{default}")
    return 0
