"""The generated text, file by file, lightly coloured."""

from __future__ import annotations

import re

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFont, QSyntaxHighlighter, QTextCharFormat, QTextDocument
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPlainTextEdit, QToolButton, QWidget

from combe.app.theme.palette import THEME, mono
from combe.app.widgets.parts import Panel
from combe.delivery.package import Package

KEYWORDS = r"\b(static|const|return|if|for|else|while|typedef|struct|void|size_t|extern|unsigned|long|char|u?int(8|16|32|64)_t|\w+_t)\b"


class Colored(QSyntaxHighlighter):
    """Comments quiet, words of the language strong, directives and numbers tinted."""

    def highlightBlock(self, text: str | None) -> None:
        """One line."""
        text = text or ""
        for pattern, role, bold in (
            (KEYWORDS, "river", False),
            (r"\b(0x[0-9a-f]+|\d+)u?\b", "ochre", False),
            (r"^\s*#\w+", "heather", False),
        ):
            shape = QTextCharFormat()
            shape.setForeground(THEME.color(role))
            if bold:
                shape.setFontWeight(QFont.Weight.DemiBold)
            for match in re.finditer(pattern, text):
                self.setFormat(match.start(), match.end() - match.start(), shape)
        self._comments(text)

    def _comments(self, text: str) -> None:
        shape = QTextCharFormat()
        shape.setForeground(THEME.color("muted"))
        start = 0 if self.previousBlockState() == 1 else text.find("/*")
        self.setCurrentBlockState(0)
        while start >= 0:
            end = text.find("*/", start)
            if end < 0:
                self.setCurrentBlockState(1)
                end = len(text)
            else:
                end += 2
            self.setFormat(start, end - start, shape)
            start = text.find("/*", end)


class CodeView(Panel):
    """Tabs for files, the text below."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.package: Package | None = None
        self.tabs = QHBoxLayout()
        self.tabs.setSpacing(16)
        self.group = QButtonGroup(self)
        self.buttons: list[QToolButton] = []
        head = QWidget()
        head.setLayout(self.tabs)
        self.tabs.setContentsMargins(0, 0, 0, 0)
        self.column.addWidget(head)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(mono())
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
        self.text.setAccessibleName("generated code")
        self.colors = Colored(self.text.document() or QTextDocument())
        self.column.addWidget(self.text, 1)
        self._current = 1
        self._names: list[str] = []

    def dress(self) -> None:
        """The theme's colours."""
        self.colors.rehighlight()

    def show_package(self, package: Package | None, trouble: str = "") -> None:
        """Other text, the same file staying open."""
        self.package = package
        names = [file.name for file in package.files] if package else []
        if names != self._names:
            self._names = names
            self._make_tabs(names)
        self._show(trouble)

    def _make_tabs(self, names: list[str]) -> None:
        for button in self.buttons:
            self.group.removeButton(button)
            self.tabs.removeWidget(button)
            button.deleteLater()
        while self.tabs.count():
            self.tabs.takeAt(0)
        self.buttons = []
        for index, name in enumerate(names):
            button = QToolButton()
            button.setObjectName("tab")
            button.setCheckable(True)
            button.setText(name)
            button.setChecked(index == self._current)
            button.clicked.connect(lambda _, index=index: self.open_file(index))
            self.group.addButton(button)
            self.tabs.addWidget(button)
            self.buttons.append(button)
        self.tabs.addStretch(1)

    def open_file(self, index: int) -> None:
        """Show another file."""
        self._current = index
        self._show("")

    def _show(self, trouble: str) -> None:
        if self.package is None:
            self.text.setPlainText(trouble or "The code appears here once a filter keeps its integers.")
            return
        text = self.package.files[min(self._current, len(self.package.files) - 1)].text
        if text != self.text.toPlainText():
            bar = self.text.verticalScrollBar()
            place = bar.value() if bar is not None else 0
            self.text.setPlainText(text)
            if bar is not None:
                bar.setValue(place)
