"""``combe budget``"""

from __future__ import annotations

from typing import Annotated

import typer
from rich.console import Console
from rich.table import Table

from combe import api
from combe.cli.output import hertz, print_json, say
from combe.cli.sources import FilterName, WholePath, realization_in
from combe.errors import FileError, FormatError
from combe.ledger.cycles import CYCLES_PER_INSTRUCTION
from combe.project.chosen import realized_file
from combe.project.document import Project, hardware_of
from combe.proof.budget import BudgetRow, budget, calibrated, shared
from combe.proof.device_budget import CAPACITY, PARTS, Circuit, CircuitShare, check_device, fits, shared_device, taken
from combe.requirement.quantities import frequency_text

USUAL_CLOCK = "80M"


def run(
    realization: Annotated[str, typer.Argument(metavar="REALIZATION.json", help="The realization file.")],
    filter: FilterName = "",
    whole_path: WholePath = False,
    every: Annotated[bool, typer.Option("--every", help="All filters of a project on one core together.")] = False,
    device: Annotated[
        str,
        typer.Option(metavar="DEVICE", help=f"With --every: all circuits on one device: {', '.join(CAPACITY)}."),
    ] = "",
    block: Annotated[int, typer.Option(metavar="N", help="With --every: in blocks nearest to this length.")] = 128,
    core: Annotated[str, typer.Option(help=f"The processor: {', '.join(CYCLES_PER_INSTRUCTION)}.")] = "cortex-m4",
    clock: Annotated[
        str, typer.Option(metavar="HZ", help="Its clock, 80M by default; of circuits that of each filter.")
    ] = "",
    taps: Annotated[str, typer.Option(metavar="N,N,…", help="Other numbers of taps to count too.")] = "",
    measured: Annotated[
        str,
        typer.Option(
            metavar="C|CYCLES/SAMPLES", help="Cycles an instruction, or what a timer counted in blocks of 256."
        ),
    ] = "",
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Instructions of generated C on an emulated processor, and the share of its clock they take."""
    if device:
        return _device(realization, every and not (filter or whole_path), device, clock, json)
    clock = clock or USUAL_CLOCK
    if every:
        return _every(realization, filter, whole_path, core, hertz(clock, "--clock"), measured, block, json)
    found = realization_in(realization, filter, whole_path).realization
    lengths = _lengths(taps)
    clock_hz = hertz(clock, "--clock")
    calibrated(core, clock_hz, "")
    first = None
    if "/" in measured:
        usual = calibrated(core, clock_hz, "")
        rows = [row for row in budget(found, usual, (), ("intrinsics",)) if isinstance(row, BudgetRow)]
        first = next((row.instructions for row in rows if row.block == 256), None)
    calibration = calibrated(core, clock_hz, measured, first)
    rows, troubles = [], []
    for each in budget(found, calibration, lengths):
        if isinstance(each, BudgetRow):
            rows.append(each)
        else:
            troubles.append(each)
            say(each)
    how = "measured" if calibration.is_measured else "typical"
    if json:
        print_json({
            "format": "combe-budget", "version": 1, "core": core, "clock_hz": clock_hz,
            "sample_rate_hz": found.sample_rate_hz, "cycles_per_instruction": calibration.cycles_per_instruction,
            "calibration": how, "rows": [row.document() for row in rows], "troubles": troubles,
        })  # fmt: skip
    else:
        _print(rows)
        print(
            f"Instructions are counted; cycles are instructions times {calibration.cycles_per_instruction:.4g} ({how})."
        )
    return 0 if rows else 1


def _every(
    path: str, name: str, whole_path: bool, core: str, clock_hz: float, measured: str, block: int, json: bool
) -> int:
    """All filters of a project, each at its own rate, on one core."""
    if name or whole_path:
        raise FormatError("all filters are counted", "--every", "leave --filter and --path out")
    if "/" in measured:
        raise FormatError("a timer's count is of one filter", "--measured", "give cycles an instruction, such as 1.2")
    loaded = _project(path)
    calibration = calibrated(core, clock_hz, measured)
    filters = []
    for place, member in enumerate(loaded.members):
        say(member.code_name)
        filters.append((member.code_name, realized_file(loaded.opened(place)).realization))
    found = list(shared(filters, calibration, block))
    known = [each.share for each in found if each.share is not None]
    total = sum(known) if len(known) == len(found) else None
    if json:
        print_json({
            "format": "combe-budget", "version": 1, "core": core, "clock_hz": clock_hz, "block": block,
            "cycles_per_instruction": calibration.cycles_per_instruction,
            "calibration": "measured" if calibration.is_measured else "typical",
            "filters": [each.document() for each in found], "share": total,
        })  # fmt: skip
    else:
        for each in found:
            what = each.failure
            if each.cycles is not None and each.share is not None:
                what = f"{each.cycles:.1f} cycles a sample, {100 * each.share:.2f} %"
            print(f"{each.name} at {frequency_text(each.sample_rate_hz)}: {what}")
        if total is not None:
            rest = "" if total <= 1 else f"; {frequency_text(float(f'{total * clock_hz:.3g}'))} would do"
            print(f"together: {100 * total:.2f} % of {frequency_text(clock_hz)}{rest}")
    return 0 if total is not None and total <= 1 else 1


def _project(path: str) -> Project:
    loaded = api.load(path)
    if not isinstance(loaded, Project):
        raise FileError("is no project", path, "leave --every out")
    return loaded


def _device(path: str, is_every: bool, device: str, clock: str, json: bool) -> int:
    """The circuits of all filters on one device."""
    if not is_every:
        raise FormatError(
            "a device holds all filters of a project", "--device", "give --every, and no --filter or --path"
        )
    check_device(device)
    project, circuits = _project(path), []
    for place, member in enumerate(project.members):
        say(member.code_name)
        opened = project.opened(place)
        circuits.append(Circuit(member.code_name, realized_file(opened).realization, hardware_of(opened)))
    found = []
    for each in shared_device(circuits, device, hertz(clock, "--clock") if clock else 0.0, say):
        found.append(each)
        if not json:
            _print_circuit(each)
    total, room = taken(found), CAPACITY[device]
    if json:
        print_json({
            "format": "combe-device-budget", "version": 1, "device": device, "filters": [each.document() for each in found],
            "taken": total, "capacity": room, "fits": fits(found, device),
        })  # fmt: skip
    else:
        words = [f"{total[part]} of {room[part]} {part}" for part in PARTS]
        print(f"together on {device}: {', '.join(words)}{'' if fits(found, device) else ': does not fit'}")
    return 0 if fits(found, device) else 1


def _print_circuit(each: CircuitShare) -> None:
    cells = each.cells
    what = each.failure
    if cells is not None and not cells.failure:
        parts = ", ".join(f"{getattr(cells, part)} {part}" for part in PARTS)
        what = f"{each.architecture}, {each.clocks} clocks a sample: {parts}" + (f"; {what}" if what else "")
    print(f"{each.name} at {frequency_text(each.sample_rate_hz)}: {what}")


def _print(rows: list[BudgetRow]) -> None:
    table = Table(box=None, pad_edge=False)
    for head in ("variant", "taps", "block", "instructions", "cycles", "share", "highest rate"):
        table.add_column(head, justify="left" if head == "variant" else "right")
    for row in rows:
        table.add_row(
            row.variant, str(row.taps or "as it is"), str(row.block), f"{row.instructions:.1f}", f"{row.cycles:.1f}",
            f"{100 * row.share:.2f} %", f"{row.highest_rate_hz:.5g} Hz",
        )  # fmt: skip
    Console(width=110).print(table)


def _lengths(text: str) -> tuple[int, ...]:
    words = [word for word in text.split(",") if word.strip()]
    if any(not word.strip().isdigit() for word in words) or len(words) > 12:
        raise FormatError(f"{text!r} are not numbers of taps", "--taps", "at most 12 of them, such as 16,64,256")
    return tuple(int(word) for word in words)
