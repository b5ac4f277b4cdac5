"""``combe list``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe.api.projects import listed
from combe.cli.output import print_json
from combe.requirement.quantities import rate_text


def run(
    project: Annotated[str, typer.Argument(metavar="PROJECT", help="The project file.")],
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """A project's filters: where each takes its samples from, its rates, whether it keeps its brief."""
    rows = listed(project)
    if json:
        print_json(rows)
    else:
        for row in rows:
            verdict = "keeps its brief" if row["meets"] else "misses its brief"
            rates = f"{rate_text(row['input_rate_hz'])} → {rate_text(row['output_rate_hz'])}"
            print(f"{row['name']}: from {row['source']}, {rates}, {verdict}")
            if "joint" in row:
                print(f"  {row['joint']}")
    return 0 if all(row["meets"] for row in rows) else 1
