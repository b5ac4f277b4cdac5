"""``combe demo``"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from pathlib import Path
from typing import Annotated, Any

import typer
from msgspec import Struct

from combe import api
from combe.benching.files import write_bench
from combe.benching.run import run_bench
from combe.cli.output import print_json, print_lines, say
from combe.delivery.languages import LANGUAGES
from combe.delivery.package import Package
from combe.designing.file import design_document
from combe.errors import FileError
from combe.files import json_text, make_folder, write_text
from combe.ledger import Line, meets
from combe.project.chain import Ideal, Rounded, chain_of, ideal_of, package_of, rounded_of
from combe.project.demo import recorder_project
from combe.project.document import Project, project_of
from combe.project.edits import choose_language
from combe.project.way import report, way_of
from combe.proof.c import Proof
from combe.proof.hdl import HdlProof
from combe.realization.reading import realization_document
from combe.reports.page import html_text
from combe.reports.project import project_report
from combe.requirement import requirement_document
from combe.running.simulate import ideal_run
from combe.signals.report import arithmetic_document
from combe.signals.spec import signal_from
from combe.signals.survey import night_recording
from combe.values import replace


class _Made(Struct, frozen=True):
    """Everything the demo made."""

    ideal: Ideal
    rounded: Rounded
    measured: tuple[Line, ...]
    package: Package
    proof: Proof
    files: list[str]
    picture: str
    circuits: list[HdlProof]


def run(
    headless: Annotated[bool, typer.Option("--headless", help="No window: write everything into a folder.")] = False,
    out: Annotated[str, typer.Option(metavar="DIR", help="The folder for --headless.")] = "",
    json: Annotated[bool, typer.Option("--json", help="Print a summary as one JSON document.")] = False,
) -> int:
    """The Alder Combe bat survey: the recorder's band filter, from its requirement to proved C and circuits."""
    if not headless:
        if out or json:
            raise FileError("--out and --json go with --headless", "demo")
        from combe.app.start import open_demo

        return open_demo()
    folder = make_folder(out or "demo-out")
    project = recorder_project()
    made = _make(project, folder)
    every = (made.ideal.lines, made.rounded.lines, made.measured)
    kept = all(meets(lines) for lines in every)
    if json:
        print_json(_summary(project, made, kept))
    else:
        print_lines(made.ideal.lines, f"ideal: {made.ideal.design.order + 1} taps")
        print_lines(made.rounded.lines, f"rounded: {project.arithmetic.coefficient_bits}-bit coefficients")
        print_lines(made.measured, "arithmetic: measured with tones through the bit-true model")
        proofs: list[Proof | HdlProof] = [made.proof, *made.circuits]
        for proof in proofs:
            print(("proved: " if proof.holds else "NOT PROVED: ") + proof.sentence())
        print(f"files are in {folder}")
    # A simulator that isn't there is told, and no fault; one that disagrees is.
    failed = any(each.simulated and not each.holds for each in made.circuits)
    return 0 if kept and made.proof.holds and not failed else 1


def _make(project: Project, folder: Path) -> _Made:
    say("requirement")
    files = {"project.combe": None, "requirement.json": requirement_document(project.requirement)}
    chain = chain_of(project, say)
    ideal, rounded, measured, package = chain.ideal, chain.rounded, chain.measured, chain.package
    files["design.json"] = design_document(ideal.design)
    files["realization.json"] = realization_document(rounded.realization, rounded.lines, ideal.design) | {
        "arithmetic": arithmetic_document(rounded.realization, ideal.design.filter, project.requirement)
    }
    for name, document in files.items():
        if document is not None:
            write_text(folder / name, json_text(document))
    signal = night_recording(rounded.realization.input, project.requirement.sample_rate_hz)
    runs = {
        "recording.txt": signal.tolist(),
        "filtered.txt": api.simulate(rounded.realization, signal).tolist(),
        "filtered-ideal.txt": ideal_run(ideal.design.filter, rounded.realization, signal).tolist(),
    }
    for name, values in runs.items():
        write_text(folder / name, "".join(f"{value}\n" for value in values))
    written = package.write(folder / "c")
    # Compilers and simulators are at it while the rest is made here.
    with _beside() as beside:
        say("proof")
        proving = beside.submit(package.written_in.prove, package, rounded.realization, rounded.lines)
        circuits, proving_circuits = _circuits(project, ideal, rounded, folder, beside)
        written += circuits
        written += _bench(rounded, ideal, folder)
        written += _others(project, folder)
        say("report")
        told, _ = project_report(project, say)
        write_text(folder / "report.html", html_text(told))
        written.append(folder / "report.html")
        picture = _draw(project, folder / "window.png")
        proof, circuit_proofs = proving.result(), [each.result() for each in proving_circuits]
    names = [*files, *runs, *(str(path.relative_to(folder)) for path in written)] + (
        ["window.png"] if not picture else []
    )
    return _Made(ideal, rounded, measured, package, proof, names, picture, circuit_proofs)


@contextlib.contextmanager
def _beside() -> Iterator[Executor]:
    """A thread beside this one; whoever breaks off here doesn't wait for what it has still to do."""
    thread = ThreadPoolExecutor(1, "combe-proof")
    try:
        yield thread
    except BaseException:
        thread.shutdown(wait=False, cancel_futures=True)
        raise
    thread.shutdown()


def _others(project: Project, folder: Path) -> list[Path]:
    """The recorder's other filters, each where the project says it went, so that ``combe check`` finds all of it; and the
    whole way to the envelope as one."""
    places = {project.code_name: "c"} | {member.code_name: member.code_name for member in project.after}
    members = [replace(member, export_folder=places[member.code_name]) for member in project.members]
    api.save(project_of(project.name, members, project.place), folder / "project.combe")
    written = []
    for place, member in enumerate(members):
        if place != project.place:
            say(member.code_name)
            one = project.opened(place)
            ideal = ideal_of(one)
            written += package_of(one, rounded_of(one, ideal), ideal).write(folder / member.export_folder)
    say("path")
    way = way_of(project, "envelope")
    written += api.deliver(way.file(), "c", folder / "path", way.name).files
    write_text(folder / "path.json", json_text(report(way)))
    return [*written, folder / "path.json"]


def _circuits(
    project: Project, ideal: Ideal, rounded: Rounded, folder: Path, beside: Executor
) -> tuple[list[Path], list[Future[HdlProof]]]:
    """The same stages as Verilog and VHDL, and their proofs by whichever simulators are there."""
    written, proofs = [], []
    for language in (each.name for each in LANGUAGES if each.is_circuit):
        say(language)
        package = package_of(choose_language(language).make(project), rounded, ideal)
        written += package.write(folder / language)
        prove = package.written_in.prove
        proofs.append(beside.submit(prove, package, rounded.realization, rounded.lines, ideal.design.filter, say))
    return written, proofs


def _bench(rounded: Rounded, ideal: Ideal, folder: Path) -> list[Path]:
    """The night's recording on the bench."""
    say("bench")
    document = {
        "format": "combe-signal", "version": 1, "sample_rate_hz": rounded.realization.sample_rate_hz,
        "parts": [{"kind": "recording", "file": "recording.txt"}],
    }  # fmt: skip
    write_text(folder / "signal.json", json_text(document))
    signal = signal_from(document, "", str(folder))
    bench = run_bench(rounded.realization, ideal.design.filter, signal)
    return [folder / "signal.json", *write_bench(bench, folder / "bench")]


def _draw(project: Project, path: Path) -> str:
    """The window as a picture; without Qt's libraries the reason why there is none."""
    say("picture")
    try:
        from combe.app.picture import draw_view

        draw_view("ideal", project, str(path), (1280, 800), "light")
    except ImportError as error:
        say(f"no picture: {error}; on Debian, make setup as root installs what it needs")
        return str(error)
    return ""


def _summary(project: Project, made: _Made, kept: bool) -> dict[str, Any]:
    return {
        "format": "combe-demo", "version": 1, "name": project.name, "meets": kept,
        "taps": made.ideal.design.order + 1, "coefficient_bits": project.arithmetic.coefficient_bits,
        "ideal": [line.document() for line in made.ideal.lines],
        "rounded": [line.document() for line in made.rounded.lines],
        "arithmetic": [line.document() for line in made.measured],
        "code": {"language": "c", "name": project.code_name, "checksum": made.package.checksum},
        "proof": made.proof.document(), "circuits": [proof.document() for proof in made.circuits], "files": made.files, "picture_missing": made.picture or None,
    }  # fmt: skip
