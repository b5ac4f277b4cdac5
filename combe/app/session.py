"""The one mutable thing: the current project, its history and file, and what follows from it, as it arrives."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from queue import Queue
from threading import Thread
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from combe.app.jobs import Lane
from combe.arithmetic.certified import certified_lines
from combe.arithmetic.choices import Choices
from combe.arithmetic.facts import Fact, facts
from combe.arithmetic.movement import rounding_facts
from combe.arithmetic.realize import FEWEST_BITS, realize, rounded_lines
from combe.arithmetic.stages import Realization
from combe.arithmetic.widths import WidthPoint, width_chart
from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.compare import Compared, compared
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.design.contenders import Contender, contender_of, contenders
from combe.design.designed import Design
from combe.design.nearest import Relaxation, relaxations
from combe.design.prices import Price, prices
from combe.errors import CombeError
from combe.ledger import Line, worst_line
from combe.project.chain import Ideal, Rounded, arithmetic_lines, hardware_of, ideal_of, package_of, rounded_of
from combe.project.document import DesignChoice, Project, ProofRecord
from combe.project.file import read_project, save_project
from combe.project.history import History
from combe.proof.budget import BudgetRow, budget, calibrated
from combe.proof.c import Proof, prove_c
from combe.proof.hdl import HdlProof, prove_hdl
from combe.proof.synthesis import Synthesized, synthesized
from combe.proof.waves import Wave, excerpt
from combe.requirement import Requirement
from combe.signals.listening import SIGNALS, Heard, listen

WIDTHS = range(FEWEST_BITS + 4, 25)
REST_MS = 180
REMEMBERED = 64
EXCERPT_CLOCKS, MOST_EXCERPT = 48, 400
BUDGET_TAPS = (16, 32, 64, 128, 256)

WidthRow = tuple[int, float]
"""Coefficient bits, and the least margin in dB."""


class Session(QObject):
    """Holds the project, asks ``jobs`` for what follows, and hands out results.

    Signals carry values: ``stepped`` names a step of the chain ("ideal", "rounded", "certified", "arithmetic", "facts",
    "code", "proof", "contenders", "widths", "noise", "chart") whose result is new; ``troubled`` a step and its error, or None once it's over.
    """

    project_changed = pyqtSignal(object)
    stepped = pyqtSignal(str)
    troubled = pyqtSignal(str, object)
    told = pyqtSignal(str)
    file_changed = pyqtSignal()

    def __init__(self, project: Project, path: Path | None = None, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.history = History(project)
        self.path = path
        self.saved = project
        self.ideal: Ideal | None = None
        self.rounded: Rounded | None = None
        self.measured: tuple[Line, ...] = ()
        self.package: Package | None = None
        self.proof: Proof | HdlProof | None = None
        self.compared: list[Compared] = []
        self.synthesized: dict[str, list[Synthesized]] = {}
        self.is_synthesizing = False
        self.waves: list[Wave] = []
        self.waves_sentence = ""
        self.proof_step = ""
        self.budget: list[BudgetRow] = []
        self.budget_sentence = ""
        self.is_counting = False
        self.contenders: list[Contender] = []
        self.prices: list[Price] = []
        self.relaxations: list[Relaxation] = []
        self.widths: list[WidthRow] = []
        self.facts: list[Fact] = []
        self.rounding_facts: list[Fact] = []
        self.signal = SIGNALS[0]
        self.heard: Heard | None = None
        self.chart: list[WidthPoint] = []
        self.is_charted = False
        self._chart_key: object = None
        self._wanted = ""
        self.trouble: dict[str, CombeError] = {}
        self._known: dict[tuple[Requirement, DesignChoice], Ideal] = {}
        self._lined_up_for: Requirement | None = None
        self._dragging = False
        self.chain_lane = self._lane("chain", self._take)
        self.side_lane = self._lane("side", self._take)
        self.proof_lane = self._lane("proof", self._take)
        self.look_lane = self._lane("look", self._take)
        self.count_lane = self._lane("count", self._take)
        self.proof_lane.finished.connect(lambda: self.stepped.emit("proof"))
        self.proof_lane.failed.connect(lambda error: self._fail("proof", error))
        self.chain_lane.failed.connect(lambda error: self._fail("chain", error))
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(REST_MS)
        self._rest.timeout.connect(self._after_rest)

    def _lane(self, name: str, take: Callable[[Any], None]) -> Lane:
        lane = Lane(name, self)
        lane.arrived.connect(take)
        return lane

    @property
    def project(self) -> Project:
        """The current value."""
        return self.history.current

    @property
    def is_busy(self) -> bool:
        """Whether anything is still being worked out."""
        lanes = (self.chain_lane, self.side_lane, self.proof_lane, self.look_lane, self.count_lane)
        return self._rest.isActive() or any(lane.is_busy for lane in lanes)

    @property
    def is_dragging(self) -> bool:
        """Whether the hand still holds an edge or a level."""
        return self._dragging

    @property
    def is_modified(self) -> bool:
        """Whether the file, if any, is behind."""
        return self.project != self.saved or self.project.proofs != self.saved.proofs

    def start(self) -> None:
        """Work everything out for the first time."""
        self._follow()

    def close(self) -> None:
        """Stop all background work."""
        for lane in (self.chain_lane, self.side_lane, self.proof_lane, self.look_lane, self.count_lane):
            lane.close()

    # -- changes ---------------------------------------------------------------------------------------------

    def change(self, project: Project, what: str, gesture: str = "") -> None:
        """Replace the project; undo will name the change as ``what``."""
        if self.history.change(project, what, gesture):
            self._dragging = bool(gesture)
            self._follow()

    def ask(self, requirement: Requirement, what: str, gesture: str = "") -> None:
        """Change what is asked. An order chosen by hand gives way to the search, unless a cut-off needs it."""
        design = self.project.design
        if not design.cutoffs_hz:
            weights = design.weights if len(design.weights) == len(requirement.bands) else ()
            design = replace(design, order=None, weights=weights)
        self.change(replace(self.project, requirement=requirement, design=design), what, gesture)

    def end_gesture(self) -> None:
        """The hand let go."""
        self.history.end_gesture()
        if self._dragging:
            self._follow_after_drag()

    def _follow_after_drag(self) -> None:
        """The hand rests: the draft gives way to the design proper, and all else follows."""
        self._dragging = False
        self._submit(with_rest=True)
        self._rest.start()

    def undo(self) -> None:
        """One step back."""
        self._step(self.history.undo)

    def redo(self) -> None:
        """One step forward."""
        self._step(self.history.redo)

    def _step(self, move: Callable[[], Project]) -> None:
        self._dragging = False
        before = self.project
        if move() != before:
            self._follow()

    # -- files -----------------------------------------------------------------------------------------------

    def replace_with(self, project: Project, path: Path | None) -> None:
        """Another project altogether, with a history of its own."""
        self.proof_lane.stop()
        self.history = History(project)
        self.saved, self.path, self.proof = project, path, None
        self.ideal = self.rounded = self.package = None
        self.measured, self.contenders, self.widths = (), [], []
        self.prices, self.relaxations = [], []
        self._lined_up_for = None
        self.file_changed.emit()
        self._follow()

    def open(self, path: Path) -> None:
        """Read a project file; the current project stays if that fails."""
        self.replace_with(read_project(path), path if path.suffix == ".combe" else None)

    def take_up(self, project: Project) -> None:
        """Go on with unsaved work from before: there is no file that holds it."""
        saved = self.saved
        self.replace_with(project, None)
        self.saved = saved

    def save(self, path: Path) -> None:
        """Write the project file."""
        save_project(self.project, path)
        self.saved, self.path = self.project, path
        self.file_changed.emit()

    # -- what follows ----------------------------------------------------------------------------------------

    def _follow(self) -> None:
        self.project_changed.emit(self.project)
        self.side_lane.stop()
        self._submit(with_rest=not self._dragging)
        with_rest = not self._dragging
        if with_rest:
            self._rest.start()
        else:
            self._rest.stop()

    def _submit(self, with_rest: bool) -> None:
        project = self.project
        known = self._known.get((project.requirement, project.design))
        near = self.ideal.design if self.ideal is not None else None
        self.chain_lane.submit(lambda is_stopped: _chain(project, known or near, with_rest, is_stopped))

    def _after_rest(self) -> None:
        project = self.project
        if self.chain_lane.is_busy:
            self._rest.start()  # what stands beside waits for the chain itself
            return
        if self.ideal is not None and self.ideal.is_draft:
            self._submit(with_rest=True)
        known = self.contenders if self._lined_up_for == project.requirement else []
        ideal = self._known.get((project.requirement, project.design))
        self.side_lane.submit(lambda is_stopped: _side(project, ideal, known, is_stopped))

    def _take(self, news: tuple[str, Any]) -> None:
        step, value = news
        if step == "ideal":
            self.ideal = value
            if not value.is_draft:
                self._remember(value)
            self.rounded, self.measured, self.package = None, (), None
            self._clear("chain")
        elif step == "rounded":
            self.rounded = value
        elif step == "rounded-trouble":
            self._fail("rounded", value)
            return
        elif step == "certified":
            if self.rounded is not None:
                self.rounded = replace(self.rounded, lines=value)
        elif step == "facts":
            self.facts = value
            self._look()
        elif step == "rounding-facts":
            self.rounding_facts = value
        elif step == "noise":
            self.heard = value
        elif step == "chart":
            self.chart, self.is_charted = value
        elif step == "arithmetic":
            self.measured = value
        elif step == "code":
            self.package = value
            self._recall_proof(value)
        elif step == "code-trouble":
            self._fail("code", value)
            return
        elif step == "proof":
            self._take_proof(value)
        elif step == "proof-step":
            self.proof_step = value
            self.stepped.emit("proof")
            return
        elif step == "waves":
            self.waves, self.waves_sentence = value
        elif step == "compared":
            self.compared = value
        elif step == "synthesis":
            self.synthesized, self.is_synthesizing = value
        elif step == "budget":
            self.budget, self.budget_sentence, self.is_counting = value
        elif step == "contenders":
            self.contenders = value
        elif step == "prices":
            self.prices = value
        elif step == "relaxations":
            self.relaxations = value
        elif step == "lined-up":
            self._lined_up_for = value
            return
        elif step == "widths":
            self.widths = value
        elif step == "told":
            self.told.emit(value)
            return
        self._clear(step)
        self.stepped.emit(step)

    def _remember(self, ideal: Ideal) -> None:
        if len(self._known) >= REMEMBERED:
            self._known.pop(next(iter(self._known)))
        self._known[(self.project.requirement, self.project.design)] = ideal

    def _fail(self, step: str, error: CombeError) -> None:
        self.trouble[step] = error
        if step == "rounded":
            self.rounded, self.measured, self.package = None, (), None
        self.troubled.emit(step, error)

    def _clear(self, step: str) -> None:
        if self.trouble.pop(step, None) is not None:
            self.troubled.emit(step, None)

    # -- what is looked at -----------------------------------------------------------------------------------

    def want(self, view: str, signal: str = "") -> None:
        """Work out what a view needs, now and after every change: ``noise``, ``widths`` or nothing."""
        self.signal = signal or self.signal
        self._wanted = view if view in ("noise", "widths") else ""
        self._look()

    def _look(self) -> None:
        ideal, rounded, project = self.ideal, self.rounded, self.project
        if self._dragging or ideal is None or rounded is None or ideal.is_draft:
            return
        if self._wanted == "noise":
            realization, signal = rounded.realization, self.signal
            self.look_lane.submit(lambda _: _listened(realization, project.requirement, signal))
        elif self._wanted == "widths":
            key = ideal.design.filter, project.requirement, _uncounted(project.arithmetic)
            if key == self._chart_key and self.is_charted:
                self.stepped.emit("chart")
                return
            self._chart_key = key
            self.look_lane.submit(lambda is_stopped: _charted(ideal.design, project, is_stopped))
        else:
            self.look_lane.stop()

    # -- proof -----------------------------------------------------------------------------------------------

    def prove(self) -> None:
        """Build the code, run it, compare every sample."""
        package, rounded = self.package, self.rounded
        if package is not None and rounded is not None:
            self.proof = None
            self.proof_step = "building"
            self.proof_lane.submit(lambda is_stopped: _prove(package, rounded, is_stopped))
            self.stepped.emit("proof")

    def count(self) -> None:
        """Count instructions for the budget page."""
        rounded, project = self.rounded, self.project
        if rounded is not None:
            self.is_counting = True
            self.count_lane.submit(lambda is_stopped: _counted(rounded, project, is_stopped))

    def synthesize(self) -> None:
        """Measure every architecture for the cost page."""
        rounded, project = self.rounded, self.project
        if rounded is not None:
            self.is_synthesizing = True
            self.count_lane.submit(lambda is_stopped: _synthesized(rounded, project, is_stopped))

    def _take_proof(self, proof: Proof | HdlProof) -> None:
        self.proof = proof
        if proof.holds:
            record = ProofRecord(
                proof.language, proof.checksum, proof.tool, proof.samples, proof.lines if isinstance(proof, Proof) else ()
            )  # fmt: skip
            others = tuple(old for old in self.project.proofs if old.checksum != proof.checksum)
            self.history.current = replace(self.project, proofs=(*others, record)[-8:])

    def _recall_proof(self, package: Package) -> None:
        if self.proof is not None and self.proof.checksum == package.checksum:
            return
        record = self.project.proof_of(package.checksum)
        self.proof = None
        if record is not None:
            self.proof = Proof(record.language, record.checksum, record.tool, record.samples, 0, None, "", record.lines)


def _chain(
    project: Project, start: Ideal | Design | None, with_rest: bool, is_stopped: Callable[[], bool]
) -> Iterator[tuple[str, Any]]:
    """Everything along the chain, each step as it's ready; ``start`` is the design itself or one nearby."""
    ideal = start if isinstance(start, Ideal) else ideal_of(project, is_stopped, start, not with_rest)
    if with_rest:
        yield "ideal", ideal
    try:
        rounded = rounded_of(project, ideal, is_stopped, not with_rest)
    except CombeError as error:
        yield "ideal", ideal
        yield "rounded-trouble", error
        return
    if not with_rest:
        # Under the hand both arrive at once, so that the plot is painted once.
        yield "ideal", ideal
    yield "rounded", rounded
    if not with_rest:
        return
    yield "arithmetic", arithmetic_lines(rounded)
    yield "certified", certified_lines(rounded.realization, project.requirement, rounded.lines)
    if project.code.is_hdl:
        yield "compared", compared(rounded.realization, hardware_of(project), project.requirement)
    try:
        yield "code", package_of(project, rounded, ideal)
    except CombeError as error:
        yield "code-trouble", error
    # Last, for following every state of a section may take seconds.
    yield "facts", facts(rounded.realization)
    told = rounding_facts(ideal.design.filter, rounded.realization, project.requirement, project.arithmetic)
    yield "rounding-facts", told


def _side(
    project: Project, ideal: Ideal | None, known: list[Contender], is_stopped: Callable[[], bool]
) -> Iterator[tuple[str, Any]]:
    """What stands beside the chain: contenders (those ``known`` already stay), and the margin at every width."""
    if ideal is None:
        with contextlib.suppress(CombeError):
            ideal = ideal_of(project, is_stopped)
    found = list(known)
    if not found:
        yield "relaxations", []
        for contender in contenders(project.requirement, is_stopped):
            found.append(contender)
            yield "contenders", list(found)
    if ideal is not None:
        own = contender_of(ideal.design, project.requirement, project.design.symmetry)
        if not any(_same(own, other) for other in found):
            found.append(own)
    yield "contenders", list(found)
    if is_stopped():
        return
    yield "lined-up", project.requirement
    yield from _beside(project, ideal, found, is_stopped)
    if ideal is None:
        return
    rows: list[WidthRow] = []
    for bits in WIDTHS:
        try:
            choices = replace(project.arithmetic, coefficient_bits=bits, accumulator_bits=None, better=False)
            made = realize(ideal.design.filter, project.requirement.sample_rate_hz, choices)
        except CombeError as error:
            if error.where == "coefficient_bits":
                continue  # a pole moved out at this width
            break
        worst = worst_line(rounded_lines(made, project.requirement))
        if is_stopped() or worst is None:
            return
        rows.append((bits, worst.margin))
    yield "widths", rows


def _beside(
    project: Project, ideal: Ideal | None, found: list[Contender], is_stopped: Callable[[], bool]
) -> Iterator[tuple[str, Any]]:
    """What each figure costs; what could be relaxed where nothing keeps the requirement."""
    priced: list[Price] = []
    yield "prices", []
    if ideal is not None:
        with contextlib.suppress(CombeError):
            for price in prices(project.requirement, project.design, ideal.design, is_stopped):
                priced.append(price)
            yield "prices", list(priced)
    relaxed: list[Relaxation] = []
    with contextlib.suppress(CombeError):
        for relaxation in relaxations(project.requirement, found, is_stopped):
            relaxed.append(relaxation)
            yield "relaxations", list(relaxed)


def _same(left: Contender, right: Contender) -> bool:
    return (left.method, left.order, left.symmetry) == (right.method, right.order, right.symmetry)


def _uncounted(choices: Choices) -> Choices:
    """The choices a chart of widths depends on."""
    return replace(choices, structure="", coefficient_bits=16, state_bits=None, better=False, product_bits=None)


def _listened(realization: Realization, requirement: Requirement, signal: str) -> Iterator[tuple[str, Any]]:
    yield "noise", listen(realization, requirement, signal)


def _charted(design: Design, project: Project, is_stopped: Callable[[], bool]) -> Iterator[tuple[str, Any]]:
    points: list[WidthPoint] = []
    yield "chart", ([], False)
    for point in width_chart(design.filter, project.requirement, _uncounted(project.arithmetic), is_stopped):
        points.append(point)
        if len(points) % 8 == 0:
            yield "chart", (list(points), False)
    yield "chart", (points, True)


def _prove(package: Package, rounded: Rounded, is_stopped: Callable[[], bool]) -> Iterator[tuple[str, Any]]:
    """The proof, its steps told while it runs."""
    if package.hardware is not None:
        ideal = rounded.realization.exact()
        yield from _with_steps(
            lambda report: ("proof", prove_hdl(package, rounded.realization, ideal, report=report, is_stopped=is_stopped))
        )  # fmt: skip
        try:
            yield "waves", (excerpt(package, excerpt_clocks(rounded, package)), "")
        except CombeError as error:
            yield "waves", ([], error.sentence())
        return
    yield "told", f"proving {package.name} with {'g++' if package.language == 'c++' else 'gcc'}"
    yield from _with_steps(
        lambda report: ("proof", prove_c(package, rounded.realization, rounded.lines, report=report, is_stopped=is_stopped))
    )  # fmt: skip


def excerpt_clocks(rounded: Rounded, package: Package) -> int:
    """Clocks of the excerpt: until the first outputs have come."""
    built = build_circuit(rounded.realization, package.name, package.hardware or HardwareChoices())
    return min(max(EXCERPT_CLOCKS, built.latency + built.clocks + 4), MOST_EXCERPT)


def _with_steps(work: Callable[[Callable[[str], None]], tuple[str, Any]]) -> Iterator[tuple[str, Any]]:
    """What a long piece of work reports, as it comes, then its result."""
    news: Queue[tuple[str, Any]] = Queue()

    def run() -> None:
        try:
            news.put(work(lambda step: news.put(("proof-step", step))))
        except BaseException as error:
            news.put(("", error))

    thread = Thread(target=run, daemon=True)
    thread.start()
    while True:
        step, value = news.get()
        if isinstance(value, BaseException):
            raise value
        yield step, value
        if step != "proof-step":
            thread.join()
            return


def _synthesized(rounded: Rounded, project: Project, is_stopped: Callable[[], bool]) -> Iterator[tuple[str, Any]]:
    found: dict[str, list[Synthesized]] = {}
    yield "synthesis", ({}, True)
    choices = hardware_of(project)
    for row in compared(rounded.realization, choices, project.requirement):
        if row.built is None:
            continue
        own = replace(choices, architecture=row.architecture)
        package = hdl_package(rounded.realization, "verilog", "filter_measured", choices=own)
        found[row.architecture] = []
        for device in ("ecp5", "ice40-up5k"):
            if is_stopped():
                return
            found[row.architecture].append(synthesized(package, device))
            yield "synthesis", ({key: list(value) for key, value in found.items()}, True)
    yield "synthesis", (found, False)


def _counted(rounded: Rounded, project: Project, is_stopped: Callable[[], bool]) -> Iterator[tuple[str, Any]]:
    processor = project.processor
    rows: list[BudgetRow] = []
    try:
        known = None
        if "/" in processor.measured:
            usual = calibrated(processor.core, processor.clock_hz, "")
            found = [
                row for row in budget(rounded.realization, usual, (), ("intrinsics",)) if isinstance(row, BudgetRow)
            ]
            known = next((row.instructions for row in found if row.block == 256), None)
        calibration = calibrated(processor.core, processor.clock_hz, processor.measured, known)
    except CombeError as error:
        yield "budget", ([], error.sentence(), False)
        return
    sentence = ""
    lengths = () if rounded.realization.is_recursive else BUDGET_TAPS
    for each in budget(rounded.realization, calibration, lengths, is_stopped=is_stopped):
        if isinstance(each, BudgetRow):
            rows.append(each)
        else:
            sentence = each
        yield "budget", (list(rows), sentence, True)
    yield "budget", (rows, sentence, False)
