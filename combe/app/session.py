"""The one mutable thing: the current project, its history and file, and what follows from it, as it arrives."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from combe.app.following import WidthRow, chain, charted, counted, listened, measured_circuits, prove, side, uncounted
from combe.app.jobs import Lane
from combe.arithmetic.facts import Fact
from combe.arithmetic.widths import WidthPoint
from combe.delivery.hdl.compare import Compared
from combe.delivery.package import Package
from combe.design.contenders import Contender
from combe.design.nearest import Relaxation
from combe.design.prices import Price
from combe.errors import CombeError
from combe.ledger import Line
from combe.project.chain import Ideal, Rounded
from combe.project.document import DesignChoice, Project, ProofRecord
from combe.project.file import read_project, save_project
from combe.project.history import History
from combe.proof.budget import BudgetRow
from combe.proof.c import Proof
from combe.proof.hdl import HdlProof
from combe.proof.synthesis import Synthesized
from combe.proof.waves import Wave
from combe.requirement import Requirement
from combe.signals.listening import SIGNALS, Heard

REST_MS = 180
REMEMBERED = 64


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
        self.chain_lane.submit(lambda is_stopped: chain(project, known or near, with_rest, is_stopped))

    def _after_rest(self) -> None:
        project = self.project
        if self.chain_lane.is_busy:
            self._rest.start()  # what stands beside waits for the chain itself
            return
        if self.ideal is not None and self.ideal.is_draft:
            self._submit(with_rest=True)
        known = self.contenders if self._lined_up_for == project.requirement else []
        ideal = self._known.get((project.requirement, project.design))
        self.side_lane.submit(lambda is_stopped: side(project, ideal, known, is_stopped))

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
            self.look_lane.submit(lambda _: listened(realization, project.requirement, signal))
        elif self._wanted == "widths":
            key = ideal.design.filter, project.requirement, uncounted(project.arithmetic)
            if key == self._chart_key and self.is_charted:
                self.stepped.emit("chart")
                return
            self._chart_key = key
            self.look_lane.submit(lambda is_stopped: charted(ideal.design, project, is_stopped))
        else:
            self.look_lane.stop()

    # -- proof -----------------------------------------------------------------------------------------------

    def prove(self) -> None:
        """Build the code, run it, compare every sample."""
        package, rounded = self.package, self.rounded
        if package is not None and rounded is not None:
            self.proof = None
            self.proof_step = "building"
            self.proof_lane.submit(lambda is_stopped: prove(package, rounded, is_stopped))
            self.stepped.emit("proof")

    def count(self) -> None:
        """Count instructions for the budget page."""
        rounded, project = self.rounded, self.project
        if rounded is not None:
            self.is_counting = True
            self.count_lane.submit(lambda is_stopped: counted(rounded, project, is_stopped))

    def synthesize(self) -> None:
        """Measure every architecture for the cost page."""
        rounded, project = self.rounded, self.project
        if rounded is not None:
            self.is_synthesizing = True
            self.count_lane.submit(lambda is_stopped: measured_circuits(rounded, project, is_stopped))

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
