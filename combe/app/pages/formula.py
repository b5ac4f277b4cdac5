"""The transfer function in standard form."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QApplication, QPlainTextEdit, QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.theme.palette import mono
from combe.errors import CombeError
from combe.filters import Filter
from combe.filters.writing import FORMS, written


class FormulaPage(Page):
    """H(z), written one of a few ways."""

    def __init__(self) -> None:
        super().__init__()
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(mono())
        self.text.setAccessibleName("transfer function")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.text)
        self.form = FORMS[0]
        self.source: Filter | None = None
        self._shown: object = None

    def show_scene(self, scene: Scene) -> None:
        """The chosen filter's."""
        self.source = scene.chosen
        self._write()

    def _write(self) -> None:
        if (self.source, self.form) == self._shown:
            return
        self._shown = self.source, self.form
        try:
            self.text.setPlainText("" if self.source is None else written(self.source, self.form))
        except CombeError as error:
            self.text.setPlainText(error.sentence())

    def modes(self) -> Sequence[str]:
        """Ways of writing it."""
        return FORMS

    @property
    def mode(self) -> str:
        """Which of them."""
        return self.form

    def set_mode(self, mode: str) -> None:
        """Another one."""
        self.form = mode
        self._write()

    def copy(self) -> str:
        """The formula as text."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.text.toPlainText())
        return "the formula is on the clipboard"
