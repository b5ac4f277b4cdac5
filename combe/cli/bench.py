"""``combe bench``"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Annotated

import typer

from combe import api
from combe.api.benching import benched, with_joints
from combe.api.projects import way
from combe.benching.asks import ask_lines, mask_from_file
from combe.benching.files import FILES, write_bench
from combe.benching.nodes import told
from combe.benching.run import THROUGH, USUAL, Bench
from combe.benching.setup import signal_of
from combe.benching.sound import write_sound
from combe.cli.output import print_json, say
from combe.cli.sources import FilterName, WholePath
from combe.errors import CombeError, FileError, FormatError
from combe.ledger.words import figure_text, limit_name
from combe.project.chosen import chosen
from combe.project.document import Project
from combe.project.way import Way
from combe.signals.spec import EXAMPLE, Part, Signal, check_length, checked, read_signal, signal_from_sentence


def run(
    file: Annotated[str, typer.Argument(metavar="FILE", help="A realization, a project or a design.")],
    filter: FilterName = "",
    whole_path: WholePath = False,
    signal: Annotated[str, typer.Option(metavar="S", help=f'A signal file, or a sentence like "{EXAMPLE}".')] = "",
    recording: Annotated[
        str, typer.Option(metavar="F", help="A recording instead: sound, a table, raw integers.")
    ] = "",
    column: Annotated[
        str, typer.Option(metavar="C", help="Of a table its name or number, of a sound its channel.")
    ] = "",
    offset: Annotated[float | None, typer.Option(help="Subtracted from a recording first.")] = None,
    full_scale: Annotated[float | None, typer.Option(help="Which number of a recording is full scale.")] = None,
    samples: Annotated[int | None, typer.Option(help="Length of a signal told in a sentence.")] = None,
    seed: Annotated[int, typer.Option(help="Of the random parts of a signal told in a sentence.")] = 1,
    through: Annotated[str, typer.Option(metavar="NAME,…", help=f"Any of {', '.join(THROUGH)}.")] = ",".join(USUAL),
    against: Annotated[
        list[str] | None, typer.Option(metavar="moving-average:N", help="Compare with a moving average, too.")
    ] = None,
    mask: Annotated[
        str, typer.Option(metavar="F", help="What the bit-true output's spectrum stays under: lines of Hz and dB.")
    ] = "",
    to: Annotated[str, typer.Option(metavar="DIR", help="Write bench.json, traces.csv and spectrum.csv here.")] = "",
    sound: Annotated[
        float | None, typer.Option(metavar="TIMES", help="With --to: all of it as sound files, so many times slower.")
    ] = None,
    json: Annotated[bool, typer.Option("--json", help="Print one JSON document.")] = False,
) -> int:
    """Send a signal through the filter: exact, rounded, bit-true, compiled, simulated."""
    loaded = api.load(file)
    own = chosen(loaded, filter) if isinstance(loaded, Project) and not signal and not recording else None
    if own is None and bool(signal) == bool(recording):
        raise FormatError("give a signal or a recording", "--signal", f'write one like --signal "{EXAMPLE}"')
    check_length(samples, seed)
    if sound is not None and not to:
        raise FormatError("sound files need a folder", "--sound", "give one with --to")
    whole = _way(loaded, filter) if whole_path else None
    realized = whole.file() if whole is not None else benched(loaded, filter)
    rate = realized.realization.sample_rate_hz
    if own is not None:
        played = signal_from_sentence(
            signal_of(own.bench, own.requirement), rate, samples or own.bench.samples, own.bench.seed
        )
    elif recording:
        number = int(column) if column.isdigit() else column or None
        part = Part("recording", file=recording, column=number, offset=offset, full_scale=full_scale)
        played = Signal(rate, (checked(part, "--recording", rate),), samples, seed)
    elif signal == "-" or Path(signal).suffix == ".json" or Path(signal).is_file():
        played = read_signal(signal)
    else:
        played = signal_from_sentence(signal, rate, samples, seed)
    under = mask_from_file(mask, rate) if mask else ()
    names = tuple(dict.fromkeys(word.strip() for word in through.split(",") if word.strip()))
    if under and "bit-true" not in names:
        raise FormatError("a mask is held against the bit-true output", "--mask", "let it go through bit-true")
    try:
        lengths = [_length(word) for word in against or []]
        bench = api.bench(realized, played, through=names, against=lengths, to="" if whole is not None else to, say=say)
        if whole is not None:
            bench = with_joints(whole, played, bench, say)
            if to:
                write_bench(bench, to)
    except CombeError as error:
        raise error.at(file) if error.where in ("through", "against") else error from None
    sounds = write_sound(bench, to, sound) if sound is not None else []
    asks = (*(own.bench.asks if own is not None else ()), *under)
    lines = ask_lines(bench, asks) if "bit-true" in names else ()
    if json:
        asked = {"asked": [line.document() for line in lines]} if lines else {}
        print_json(bench.document() | asked)
    else:
        _print(bench)
        for line in lines:
            verdict = "kept" if line.margin >= 0 else "MISSED"
            print(
                f"{limit_name(line)}: {figure_text(line, line.reached)}, asked {figure_text(line, line.asked)}, {verdict}"
            )
        for name in FILES if to else ():
            print(Path(to) / name)
        for path in sounds:
            print(path)
    return 0 if bench.is_identical and all(line.margin >= 0 for line in lines) else 1


def _way(loaded: object, name: str) -> Way:
    """The whole way to a filter of a project."""
    if not isinstance(loaded, Project):
        raise FileError("is no project", "--path", "leave it out")
    return way(loaded, name)[0]


def _length(word: str) -> int:
    match = re.fullmatch(r"moving-average:(\d{1,9})", word.strip())
    if not match:
        raise FormatError(f'"{word}" is nothing to compare with', "--against", "write moving-average:16")
    return int(match[1])


def _print(bench: Bench) -> None:
    given = bench.input.document()
    clipped = f", {bench.clipped} clipped" if bench.clipped else ""
    print(f"{bench.samples} samples, input {given['rms_dbfs']:.2f} dB of full scale, peak {given['peak']:.6g}{clipped}")
    if bench.nodes:
        print(f"inside: {told(bench.nodes)}")
    for heard in bench.through:
        row = heard.document()
        words = f"{heard.name}: {row['rms_dbfs']:.2f} dB, peak {row['peak']:.6g}"
        if heard.saturated:
            words += f", {heard.saturated} saturated"
        if heard.identical is not None:
            words += ", identical to the bit-true run" if heard.identical else ", DIFFERS from the bit-true run"
        if heard.snr_db is not None:
            words += f", error {heard.rms_error:.3g} rms ({heard.snr_db:.1f} dB down)"
        if heard.delay_samples is not None:
            words += f", {heard.delay_samples:.2f} samples later"
        if heard.evm_db is not None:
            words += f", error vector {heard.evm_db:.1f} dB"
        print(words)
        for tone in heard.tones:
            print(f"  {tone.hz:g} Hz: {tone.words()}")
