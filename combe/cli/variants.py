"""``combe variants``"""

from __future__ import annotations

from typing import Annotated

import typer

from combe import api
from combe.cli.output import print_json
from combe.cli.sources import FilterName
from combe.errors import FileError
from combe.project.document import Project


def run(
    project: Annotated[str, typer.Argument(metavar="PROJECT", help="The project file.")],
    filter: FilterName = "",
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """A filter as it stands and its variants side by side: what each reaches and costs, and what differs."""
    from combe.project.chosen import chosen
    from combe.project.compared import NOW, states_of, table_of_states
    from combe.project.differences import differences

    found = api.load(project)
    if not isinstance(found, Project):
        raise FileError("is no project", project, "give a project file")
    states = tuple(states_of(chosen(found, filter)))
    if not json:
        print(table_of_states(states).text())
    else:
        print_json(
            [
                {
                    "name": state.name, "note": state.note, "is_now": state.name == NOW and k == 0,
                    "design": state.design.summary() if state.design is not None else None, "trouble": state.trouble or None,
                    "coefficient_bits": state.kept.arithmetic.coefficient_bits,
                    "multiplies": state.cost.multiplies if state.cost is not None else None,
                    "lines": [line.document() for line in state.lines], "differs": list(differences(states[0].kept, state.kept)),
                }
                for k, state in enumerate(states)
            ]
        )  # fmt: skip
    return 0 if all(line.margin >= 0 for line in states[0].lines) and not states[0].trouble else 1
