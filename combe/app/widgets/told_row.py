"""A row of the brief that tells below itself how its line stands, and what is wrong with a figure while it is typed."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel

from combe.app.widgets.parts import Row, Verdict, set_role


class ToldRow(Row):
    """Rows of it make ``story`` and ``mark`` themselves, where their layout has them."""

    story: QLabel
    mark: Verdict
    _story: tuple[str, str]
    """What is told while nothing is wrong: role and text."""

    def _tell(self, role: str, text: str) -> None:
        self._story = (role, text)
        self.story.setText(text)
        set_role(self.story, role)

    def _on_complaint(self, sentence: str) -> None:
        if sentence:
            self.story.setText(sentence)
            set_role(self.story, "clay")
            self.mark.show_verdict("missed")
        else:
            self._tell(*self._story)
