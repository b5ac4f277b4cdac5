"""Coefficients typed or pasted, read while they are typed."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QFileDialog, QPlainTextEdit, QPushButton, QVBoxLayout, QWidget

from combe.app.widgets.parts import label, set_role
from combe.designing.file import read_design
from combe.designing.given import Given
from combe.errors import CombeError
from combe.files import read_text

HINT = "1/7 x7\n\nb = {1, 2, 1}\na = {1, -0.5, 0.25}\n\nzeros: 1j, -1j\npoles: 0.9+0.1j"
EXPLAINED = (
    "Taps, b and a, sections or roots; numbers, C arrays, JSON or hexadecimal. They become the design and are held "
    "against the brief."
)


class HandDialog(QDialog):
    """``found`` is the filter read, None where the text isn't one."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Coefficients by hand")
        self.resize(560, 420)
        self.found: Given | None = None
        column = QVBoxLayout(self)
        column.addWidget(label(EXPLAINED, "muted", wrap=True))
        self.text = QPlainTextEdit()
        self.text.setPlaceholderText(HINT)
        self.text.setAccessibleName("coefficients")
        self.text.textChanged.connect(self._read)
        column.addWidget(self.text, 1)
        self.verdict = label("", "muted", wrap=True)
        column.addWidget(self.verdict)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        take = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        assert take is not None
        self.take: QPushButton = take
        self.take.setText("Take them")
        self.buttons.addButton("From a file…", QDialogButtonBox.ButtonRole.ActionRole).clicked.connect(self._open)  # type: ignore[union-attr]
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column.addWidget(self.buttons)
        self._read()

    def _open(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Coefficients", "", "All files (*)")
        if path:
            self.open_path(Path(path))

    def open_path(self, path: Path) -> None:
        """Put a file's text in; nothing changes where it can't be read."""
        try:
            self.text.setPlainText(read_text(path))
        except CombeError as error:
            self._tell(error.sentence(), "clay")

    def _read(self) -> None:
        """What the text stands for, or what is wrong with it."""
        self.found = None
        text = self.text.toPlainText()
        if text.strip():
            try:
                design = read_design("pasted text", None, text)
                words = design.notes[0].removeprefix("read as ") if design.notes else f"order {design.order}"
                self.found = Given(design.filter, words)
                self._tell(f"Read as {words}.", "moss")
            except CombeError as error:
                self._tell(error.sentence().removeprefix("pasted text: "), "clay")
        else:
            self._tell("Type or paste to begin.", "muted")
        self.take.setEnabled(self.found is not None)

    def _tell(self, sentence: str, role: str) -> None:
        self.verdict.setText(sentence)
        set_role(self.verdict, role)
