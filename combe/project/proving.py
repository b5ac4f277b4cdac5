"""What runs when it is asked for: proofs, circuits synthesized, cycles counted; each step is told while it runs."""

from __future__ import annotations

from collections.abc import Callable
from queue import Queue
from threading import Thread
from typing import Any

from combe.delivery.hdl.board import shipped
from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.compare import compared
from combe.delivery.hdl.suiting import suited
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.errors import CombeError, Stopped
from combe.project.chain import Rounded, ideal_of, rounded_of
from combe.project.document import Project, hardware_of
from combe.project.results import Counted, Excerpt, News, Progress, Reports, Stop
from combe.proof.budget import BudgetRow, budget, calibrated
from combe.proof.captured import capture_from, simulated_capture
from combe.proof.device_budget import Circuit
from combe.proof.process import stoppable
from combe.proof.synthesis import Synthesized, known_synthesis, synthesized
from combe.proof.together import Candidate, Taker, on_core, on_device
from combe.proof.waves import excerpt
from combe.values import replace

MEASURED_DEVICES = ("ecp5", "ice40-up5k")
EXCERPT_CLOCKS, MOST_EXCERPT = 48, 400
BUDGET_TAPS = (16, 32, 64, 128, 256)


def prove(package: Package, rounded: Rounded, is_stopped: Stop) -> Reports:
    """The proof, its steps told while it runs; of a circuit the first clocks of its waveforms too."""
    language = package.written_in
    yield Progress("proof", f"proving {package.name} with {language.tools[0]}")
    yield from _with_steps(
        "proof",
        lambda told: language.prove(
            package, rounded.realization, rounded.lines, rounded.exact, told, is_stopped
        ),
    )  # fmt: skip
    if language.is_circuit:
        try:
            with stoppable(is_stopped):
                waves = excerpt(package, excerpt_clocks(rounded, package))
            yield News("waves", Excerpt(tuple(waves)))
        except CombeError as error:
            yield News("waves", Excerpt((), error.sentence()))


def excerpt_clocks(rounded: Rounded, package: Package) -> int:
    """Clocks of the excerpt: until the first outputs have come."""
    built = build_circuit(rounded.realization, package.name, package.circuit or HardwareChoices())
    return min(max(EXCERPT_CLOCKS, built.latency + built.clocks + 4), MOST_EXCERPT)


def _with_steps(name: str, work: Callable[[Callable[[str], None]], Any]) -> Reports:
    """What a long piece of work reports, as it comes, then its result."""
    reports: Queue[News | Progress | BaseException] = Queue()

    def run() -> None:
        try:
            reports.put(News(name, work(lambda step: reports.put(Progress(name, step)))))
        except BaseException as error:
            reports.put(error)

    thread = Thread(target=run, daemon=True)
    thread.start()
    while True:
        report = reports.get()
        if isinstance(report, BaseException):
            raise report
        yield report
        if isinstance(report, News):
            thread.join()
            return


def measured_circuits(rounded: Rounded, project: Project, is_all: bool, is_stopped: Stop) -> Reports:
    """What synthesis makes of the architectures, device by device: of all of them what was counted before, then the one in force
    counted now; the others too with ``is_all``."""
    choices, made = hardware_of(project), rounded.realization
    own = choices.architecture or suited(made, choices)
    packages: dict[str, Package] = {}
    found: dict[str, dict[str, Synthesized]] = {}
    for row in compared(made, choices, project.requirement):
        if is_stopped():
            return
        if row.built is None:
            continue
        package = hdl_package(
            made, "verilog", "filter_measured", choices=replace(choices, architecture=row.architecture)
        )
        packages[row.architecture] = package
        found[row.architecture] = {
            device: cost for device in MEASURED_DEVICES if (cost := known_synthesis(package, device)) is not None
        }
    yield News("synthesized", _by_device(found), is_whole=False)
    for architecture in sorted(packages, key=lambda name: name != own):
        for device in MEASURED_DEVICES if is_all or architecture == own else ():
            if is_stopped():
                return
            if device not in found[architecture]:
                with stoppable(is_stopped):
                    found[architecture][device] = synthesized(packages[architecture], device)
                yield News("synthesized", _by_device(found), is_whole=False)
    yield News("synthesized", _by_device(found))


def _by_device(found: dict[str, dict[str, Synthesized]]) -> dict[str, tuple[Synthesized, ...]]:
    return {
        name: tuple(costs[device] for device in MEASURED_DEVICES if device in costs)
        for name, costs in found.items()
        if costs
    }


def captured(rounded: Rounded, project: Project, heard: bytes | None, source: str, is_stopped: Stop) -> Reports:
    """What came from a board's serial line; or, where nothing has, the first board that ships, simulated."""
    if heard is not None:
        yield News("captured", capture_from(rounded.realization, heard, source))
        return
    choices = hardware_of(project)
    yield Progress("captured", "simulating the board")
    with stoppable(is_stopped):
        own = replace(choices, board=choices.board or shipped()[0], axi_stream=False, described=False)
        yield News("captured", simulated_capture(rounded.realization, own))


def together(project: Project, device: str, is_stopped: Stop) -> Reports:
    """All filters on one device where the open one is a circuit, else on the processor in force; row by row."""
    processor, count = project.processor, len(project.members)
    candidates = (_candidate(project.opened(place), is_stopped) for place in range(count))
    if project.code.written_in.is_circuit:
        rows = on_device(candidates, device, count)
    else:
        # A timer's count is of one filter.
        measured = "" if "/" in processor.measured else processor.measured
        calibration = calibrated(processor.core, processor.clock_hz, measured)
        rows = on_core(candidates, calibration, processor.core, processor.block, count)
    while True:
        with stoppable(is_stopped):
            found = next(rows, None)
        if found is None or is_stopped():
            return
        yield News("together", found, is_whole=found.is_whole)


def _candidate(one: Project, is_stopped: Stop) -> Candidate:
    try:
        made = rounded_of(one, ideal_of(one, is_stopped), is_stopped).realization
    except Stopped:
        raise
    except CombeError as error:
        return Taker(one.code_name, one.requirement.input_rate_hz, failure=error.sentence())
    return Circuit(one.code_name, made, hardware_of(one))


def counted(rounded: Rounded, project: Project, is_stopped: Stop) -> Reports:
    """Rows of a processor's budget, as they are measured."""
    processor = project.processor
    rows: list[BudgetRow] = []
    known = None
    if "/" in processor.measured:
        usual = calibrated(processor.core, processor.clock_hz, "")
        found = [row for row in budget(rounded.realization, usual, (), ("intrinsics",)) if isinstance(row, BudgetRow)]
        known = next((row.instructions for row in found if row.block == 256), None)
    calibration = calibrated(processor.core, processor.clock_hz, processor.measured, known)
    sentence = ""
    lengths = () if rounded.realization.is_recursive else BUDGET_TAPS
    for each in budget(rounded.realization, calibration, lengths, is_stopped=is_stopped):
        if isinstance(each, BudgetRow):
            rows.append(each)
        else:
            sentence = each
        yield News("budget", Counted(tuple(rows), sentence), is_whole=False)
    yield News("budget", Counted(tuple(rows), sentence))
