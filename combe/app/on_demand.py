"""What is worked out only when somebody asks for it: proofs, counts, measured circuits; and what is kept of a proof."""

from __future__ import annotations

from abc import abstractmethod
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal

from combe.app.looked_at import ASKED_FOR, work
from combe.app.working import Working
from combe.project.edits import Note, record_proof

if TYPE_CHECKING:
    from combe.delivery.package import Package
    from combe.project.document import Project
    from combe.proof.c import Proof
    from combe.proof.hdl import HdlProof


class OnDemand(Working):
    """Works on what is asked for, of the project and the results as they are then."""

    told = pyqtSignal(str)

    @property
    @abstractmethod
    def project(self) -> Project:
        """The current value."""

    @abstractmethod
    def note(self, note: Note) -> None:
        """Keep what follows the project."""

    @abstractmethod
    def _look(self) -> None:
        """Work out what the open page needs."""

    def prove(self) -> None:
        """Build the code, run it, compare every sample."""
        package, rounded = self.results.package, self.results.rounded
        if package is None or rounded is None or "package" not in self.results.fresh:
            self.told.emit("the code is not there yet")
            return
        self._show(self.results.cleared(("proof", "waves")))
        self._submit(
            "proof", ("proof", "waves"), lambda is_stopped: work(ASKED_FOR).prove(package, rounded, is_stopped)
        )

    def count(self) -> None:
        """Count instructions for the budget page."""
        rounded, project = self.results.rounded, self.project
        if rounded is not None and "rounded" in self.results.fresh:
            self._submit("count", ("budget",), lambda is_stopped: work(ASKED_FOR).counted(rounded, project, is_stopped))

    def synthesize(self, is_all: bool) -> None:
        """Measure every architecture for the cost page, or the one in force beside what is known."""
        rounded, project = self.results.rounded, self.project
        if rounded is not None and "rounded" in self.results.fresh:
            self._submit(
                "count",
                ("synthesized",),
                lambda is_stopped: work(ASKED_FOR).measured_circuits(rounded, project, is_all, is_stopped),
            )

    def capture(self, heard: bytes | None = None, source: str = "") -> None:
        """What a board heard of itself for the page that shows it: read, or simulated."""
        rounded, project = self.results.rounded, self.project
        if rounded is not None and "rounded" in self.results.fresh:
            self._submit(
                "count",
                ("captured",),
                lambda is_stopped: work(ASKED_FOR).captured(rounded, project, heard, source, is_stopped),
            )

    def put_together(self, device: str) -> None:
        """Build or count all filters, for the page that holds them against one device or core."""
        project = self.project
        self._submit("count", ("together",), lambda is_stopped: work(ASKED_FOR).together(project, device, is_stopped))

    def _record(self, proof: Proof | HdlProof) -> None:
        from combe.project.document import ProofRecord

        if proof.holds:
            record = ProofRecord(proof.language, proof.checksum, proof.tool, proof.samples, proof.lines)
            self.note(record_proof(record))

    def _take_package(self, package: Package) -> None:
        """Other code; where it is the text that was proved, the proof goes with it."""
        known = self.results.proof
        if known is None or known.checksum != package.checksum:
            record = self.project.proof_of(package.checksum)
            known = None
            if record is not None:
                from combe.proof.c import Proof

                known = Proof(record.language, record.checksum, record.tool, record.samples, 0, None, "", record.lines)
        self._show(self.results.with_result("package", package).with_result("proof", known), "package")
        self._look()
