"""Code: its name, where it goes, and its proof."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFormLayout, QLineEdit, QProgressBar, QPushButton, QWidget

from combe.app.theme.marks import icon
from combe.app.widgets.parts import Panel, label, set_role
from combe.delivery.package import Package, checked_name
from combe.errors import CombeError
from combe.proof.c import Proof


class CodePanel(Panel):
    """``named`` carries a valid name; ``export_wanted`` and ``proof_wanted`` say what was pressed."""

    named = pyqtSignal(str)
    export_wanted = pyqtSignal()
    proof_wanted = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.column.addWidget(label("C code", "title"))
        form = QFormLayout()
        self.name = QLineEdit()
        self.name.setObjectName("field")
        self.name.setAccessibleName("name in code")
        self.name.textEdited.connect(self._check)
        self.name.editingFinished.connect(self._typed)
        form.addRow("Name", self.name)
        self.column.addLayout(form)
        self.complaint = label("", "clay", wrap=True)
        self.complaint.hide()
        self.column.addWidget(self.complaint)
        self.prove = QPushButton("Prove it")
        self.prove.setObjectName("main")
        self.prove.setToolTip("Build it with gcc, run it, compare every sample  (Ctrl+P)")
        self.prove.clicked.connect(self.proof_wanted)
        self.export = QPushButton("Export to a folder…")
        self.export.setToolTip("Write header, source, check and Makefile  (Ctrl+E)")
        self.export.clicked.connect(self.export_wanted)
        self.column.addWidget(self.prove)
        self.column.addWidget(self.export)
        self.progress = QProgressBar()
        self.progress.setRange(0, 0)
        self.progress.setTextVisible(False)
        self.progress.hide()
        self.column.addWidget(self.progress)
        self.outcome = label("", "muted", wrap=True)
        self.column.addWidget(self.outcome)
        self.column.addSpacing(4)
        self.column.addWidget(label("What is written", "strong"))
        self.files = label("", "muted", wrap=True)
        self.column.addWidget(self.files)
        self.column.addStretch(1)
        self._shown = ""
        self.dress()

    def dress(self) -> None:
        """Icons in the theme's colours."""
        self.prove.setIcon(icon("prove", "raised"))
        self.export.setIcon(icon("export"))

    def show_name(self, name: str) -> None:
        """The name in force."""
        self._shown = name
        if not (self.name.hasFocus() and self.name.isModified()):
            self.name.setText(name)
            self.name.setModified(False)

    def show_package(self, package: Package | None, trouble: str = "") -> None:
        """What would be written, or why nothing can be."""
        self.prove.setEnabled(package is not None)
        self.export.setEnabled(package is not None)
        if package is None:
            self.files.setText(trouble)
            set_role(self.files, "clay" if trouble else "muted")
            return
        set_role(self.files, "muted")
        rows = [f"{file.name}: {file.text.count(chr(10))} lines" for file in package.files]
        self.files.setText("\n".join([*rows, "", "It belongs to you, with no conditions."]))

    def show_proof(self, proof: Proof | None, running: bool) -> None:
        """The proof, or that it's under way."""
        self.progress.setVisible(running)
        self.prove.setEnabled(not running)
        if running:
            set_role(self.outcome, "muted")
            self.outcome.setText("Building and running…")
        elif proof is None:
            set_role(self.outcome, "muted")
            self.outcome.setText("Not proved since the last change.")
        else:
            set_role(self.outcome, "moss" if proof.holds else "clay")
            self.outcome.setText(("Proved. " if proof.holds else "Not proved. ") + proof.sentence())

    def _complain(self, text: str) -> str:
        try:
            checked_name(text)
        except CombeError as error:
            return error.sentence()
        return ""

    def _check(self, text: str) -> None:
        complaint = self._complain(text)
        self.complaint.setText(complaint)
        self.complaint.setVisible(bool(complaint))

    def _typed(self) -> None:
        if not self.name.isModified() or self._complain(self.name.text()):
            return
        self.name.setModified(False)
        if self.name.text() != self._shown:
            self.named.emit(self.name.text())
