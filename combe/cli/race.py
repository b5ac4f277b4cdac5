"""``combe race``"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from combe.cli.output import hertz, print_json, say
from combe.errors import CombeError, FormatError
from combe.requirement import read_requirement
from combe.requirement.quantities import short

WORDS = {
    "cycles_per_sample": "{} cycles a sample", "instructions_per_sample": "{} instructions", "luts": "{} LUTs", "registers": "{} registers",
    "multipliers": "{} multipliers", "adders": "{} adders", "memories": "{} memories", "clocks_per_sample": "{} clocks a sample",
    "needed_mhz": "needs {} MHz", "clock_mhz": "runs at {} MHz",
}  # fmt: skip


def run(
    requirement: Annotated[str, typer.Argument(metavar="REQ.json", help="The requirement file, - for standard input.")],
    target: Annotated[
        str, typer.Option(metavar="CORE|DEVICE", help="What it is to run on: cortex-m4, ice40-up5k and so on.")
    ],
    clock: Annotated[
        str, typer.Option(metavar="HZ", help="The target's clock; 80M for a core, 48M for a device.")
    ] = "",
    input: Annotated[str, typer.Option(metavar="FMT", help="Format of the input.")] = "s16f15",
    output: Annotated[str, typer.Option(metavar="FMT", help="Format of the output; the input's without it.")] = "",
    signal_to_noise: Annotated[
        float | None, typer.Option(metavar="DB", help="What a full-scale sine must have over all roundings.")
    ] = None,
    workers: Annotated[int | None, typer.Option(metavar="N", help="Processes of this machine.")] = None,
    cluster: Annotated[str, typer.Option(metavar="ADDRESS", help="A dask.distributed scheduler instead.")] = "",
    limit: Annotated[int, typer.Option(metavar="N", help="How many are listed.")] = 10,
    out: Annotated[str, typer.Option(metavar="DIR", help="Where the realizations are written.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Complete realizations that keep every limit with their integers, cheapest on a core or a device first."""
    from combe import api

    asked = read_requirement(requirement)
    try:
        found = api.race(
            asked, target, clock_hz=hertz(clock, "--clock") if clock else 0.0, input=input, output=output,
            signal_to_noise_db=signal_to_noise, workers=workers, cluster=cluster, limit=limit, say=say,
        )  # fmt: skip
    except FormatError:
        raise
    except CombeError as error:
        raise error.at(requirement) from None
    files = api.write_race(found, Path(out)) if out else [None] * len(found)
    if json:
        print_json([entry.document(file) for entry, file in zip(found, files)])
        return 0 if found else 1
    for place, entry in enumerate(found, 1):
        print(f"{place:3}  {_line(entry.document())}")
    if not found:
        say("nothing that was tried keeps every limit with integers on this target")
    return 0 if found else 1


def _line(row: dict[str, object]) -> str:
    cost = row["cost"]
    assert isinstance(cost, dict)
    words = ", ".join(text.format(short(float(cost[key]), 6)) for key, text in WORDS.items() if key in cost)
    built = f", {row['architecture']}" if row["architecture"] else ""
    figures = "measured" if row["is_measured"] else "estimated"
    return f"{row['method']} of order {row['order']}, {row['structure']}{built}, {row['coefficient_bits']} bits: {words} ({figures})"
