"""``combe board``"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import numpy as np
import typer

from combe import api
from combe.benching.board.run import THROUGH, BoardRun
from combe.benching.board.schedule import INTERRUPT_CYCLES
from combe.cli.output import hertz, print_json, say
from combe.cli.sources import FilterName
from combe.errors import FormatError
from combe.files import json_text, make_folder
from combe.ledger.cycles import CYCLES_PER_INSTRUCTION
from combe.placing import write_files
from combe.requirement.quantities import duration_text, frequency_text, short
from combe.signals.spec import EXAMPLE, Signal, check_length, read_signal

FILES = ("codes.csv", "interrupts.csv", "board.json")


def run(
    file: Annotated[str, typer.Argument(metavar="FILE", help="A realization, a project or a design.")],
    signal: Annotated[str, typer.Option(metavar="S", help=f'A signal file, or a sentence like "{EXAMPLE}".')],
    filter: FilterName = "",
    samples: Annotated[int | None, typer.Option(help="Length of a signal told in a sentence.")] = None,
    seed: Annotated[int, typer.Option(help="Of the random parts of a signal told in a sentence.")] = 1,
    block: Annotated[int, typer.Option(metavar="N", help="Samples of half a buffer.")] = 128,
    core: Annotated[str, typer.Option(help=f"The processor: {', '.join(CYCLES_PER_INSTRUCTION)}.")] = "cortex-m4",
    clock: Annotated[str, typer.Option(metavar="HZ", help="Its clock, such as 80M.")] = "80M",
    cycles: Annotated[
        float | None, typer.Option(metavar="C", help="Cycles a sample; counted on an emulator without.")
    ] = None,
    interrupt: Annotated[
        float, typer.Option(metavar="C", help="Cycles an interrupt takes by itself.")
    ] = INTERRUPT_CYCLES,
    converter_in: Annotated[str, typer.Option(metavar="BITS[@ZERO]", help="The input converter.")] = "12",
    converter_out: Annotated[
        str, typer.Option(metavar="BITS[@ZERO]", help="The output converter; like the input's.")
    ] = "",
    change_to: Annotated[str, typer.Option(metavar="FILE", help="Another filter of taps that takes over.")] = "",
    change_at: Annotated[int, typer.Option(metavar="N", help="At which sample it does.")] = 0,
    fade: Annotated[int, typer.Option(metavar="N", help="Over how many samples one gives way to the other.")] = 0,
    through: Annotated[str, typer.Option(help=f"What runs the filter: {' or '.join(THROUGH)}.")] = "code",
    to: Annotated[str, typer.Option(metavar="DIR", help=f"Write {', '.join(FILES)} here.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """A signal from converter to converter through a double buffer and the compiled filter, against a clock."""
    loaded = api.load(file)
    other = api.load(change_to) if change_to else None
    if other is None and (change_at or fade):
        raise FormatError("nothing to change to is given", "--change-to", "name a realization or a design")
    check_length(samples, seed)
    if not signal.strip():
        raise FormatError("give a signal", "--signal", f'write one like --signal "{EXAMPLE}"')
    played: Signal | str = signal
    if signal == "-" or Path(signal).suffix == ".json" or Path(signal).is_file():
        played = read_signal(signal)
    found = api.board(
        loaded, played, filter=filter, block=block, core=core, clock_hz=hertz(clock, "--clock"), cycles_per_sample=cycles,
        cycles_per_interrupt=interrupt, converter_in=converter_in, converter_out=converter_out, change_to=other,
        change_at=change_at, fade=fade, through=through, samples=samples, seed=seed, say=say,
    )  # fmt: skip
    if to:
        _write(found, make_folder(to))
    if json:
        print_json(found.document())
    else:
        _print(found)
        for name in FILES if to else ():
            print(Path(to) / name)
    return 1 if found.late else 0


def _print(found: BoardRun) -> None:
    pace = found.pace
    print(
        f"{len(found.inputs):,} samples at {frequency_text(pace.sample_rate_hz)}, blocks of {pace.block}, "
        f"{frequency_text(pace.clock_hz)}: {100 * pace.load:.1f} % of the clock, "
        f"{short(pace.cycles_per_sample, 4)} cycles a sample, through {found.runner}"
    )
    spare = (
        f"the least time left is {duration_text(found.slack_s)}"
        if found.slack_s >= 0
        else f"by up to {duration_text(-found.slack_s)}"
    )
    print(f"{len(found.schedule.served)} interrupts, {len(found.late)} too late, {spare}")
    print(
        f"{found.delay_samples} samples ({duration_text(found.delay_samples / pace.sample_rate_hz)}) from converter to "
        "converter, the filter's own delay besides"
    )
    if found.click is not None:
        print(found.click.sentence())
    for remedy in found.remedies:
        print(f"! {remedy}")


def _write(found: BoardRun, folder: Path) -> None:
    rate = found.pace.sample_rate_hz
    times = (np.arange(len(found.inputs)) / rate).tolist()
    rows = zip(times, found.inputs.tolist(), found.outputs.tolist())
    codes = "time_s,input,output\n" + "".join(f"{time!r},{a},{b}\n" for time, a, b in rows)
    late = set(found.late)
    served = "block,full_s,start_s,stop_s,late\n" + "".join(
        f"{each.block},{each.full_s!r},{each.start_s!r},{each.stop_s!r},{int(each.block in late)}\n"
        for each in found.schedule.served
    )
    contents = (codes, served, json_text(found.document()))
    write_files([(folder / name, text.encode("utf-8")) for name, text in zip(FILES, contents)])
