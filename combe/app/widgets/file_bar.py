"""A bar that asks what is to happen with a project whose file was changed, or removed, by someone else."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from combe.app.widgets.parts import Panel, label

ANSWERS = {
    "changed": (("mine", "Keep mine"), ("theirs", "Take theirs"), ("beside", "Save mine beside…")),
    "deleted": (("mine", "Keep mine and save it again"), ("beside", "Save mine elsewhere…")),
}
"""What may be answered, by what happened."""
WORDS = {
    "changed": "{name} was changed on disk by another program.",
    "deleted": "{name} is no longer where it was.",
}


class FileBar(Panel):
    """``answered`` carries ``mine``, ``theirs`` or ``beside``. Hidden until there is something to ask."""

    answered = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.column.setContentsMargins(12, 6, 12, 6)
        row = QHBoxLayout()
        self.words = label("", "amber")
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self.words, 1)
        self.buttons: dict[str, QPushButton] = {}
        for answer, text in ANSWERS["changed"]:
            button = QPushButton(text)
            button.clicked.connect(partial(self._on_click, answer))
            row.addWidget(button)
            self.buttons[answer] = button
        self.column.addLayout(row)
        self.hide()

    def ask(self, kind: str, name: str) -> None:
        """Say what happened, and offer what can be done."""
        self.words.setText(WORDS[kind].format(name=name))
        self.words.setToolTip(self.words.text())
        texts = dict(ANSWERS[kind])
        for answer, button in self.buttons.items():
            button.setVisible(answer in texts)
            button.setText(texts.get(answer, ""))
        self.show()

    def _on_click(self, answer: str, *_: object) -> None:
        self.hide()
        self.answered.emit(answer)
