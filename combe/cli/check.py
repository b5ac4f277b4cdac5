"""``combe check``"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from combe import api
from combe.cli.output import print_json, say
from combe.cli.sources import FilterName


def run(
    project: Annotated[str, typer.Argument(metavar="PROJECT", help="The project file.")],
    filter: FilterName = "",
    to: Annotated[str, typer.Option(metavar="DIR", help="Compare with this folder instead of those exported to.")] = "",
    jobs: Annotated[int, typer.Option(metavar="N", help="How many filters are checked at a time.", min=1, max=64)] = 1,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Make what a project exports anew, compare it byte for byte with what lies there, and prove it."""
    found = api.check(project, filter=filter, to=Path(to) if to else None, jobs=jobs, say=say)
    if json:
        print_json(found.document())
        return 0 if found.holds else 1
    for joint in found.joints:
        print(joint)
    for each in found.filters:
        for complaint in each.complaints():
            print(complaint)
        if each.holds:
            count = len(each.files)
            same = f"{count} files are as the project makes them" if count else "nothing was exported so far"
            print(f"{each.name}: keeps every limit, is proved, {same}")
    return 0 if found.holds else 1
