"""A page that is a table: it copies as text, CSV or Markdown."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
)

from combe.app.pages.page import Page
from combe.app.theme.palette import mono
from combe.ledger.goodness import Table

WAYS = ("text", "csv", "markdown")


class SheetPage(Page):
    """Rows of words."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.sheet = QTableWidget()
        self.sheet.setAccessibleName(name)
        self.sheet.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.sheet.setShowGrid(False)
        self.sheet.setAlternatingRowColors(True)
        header = self.sheet.verticalHeader()
        if header is not None:
            header.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.sheet)
        self.table = Table((), ())

    def fill(self, table: Table, figures: bool = False) -> None:
        """Show a table; ``figures`` sets the cells in a type of even width."""
        self.table = table
        self.sheet.setColumnCount(len(table.names) + 1)
        self.sheet.setRowCount(len(table.rows))
        self.sheet.setHorizontalHeaderLabels(["", *table.names])
        for row, words in enumerate(table.rows):
            for column, word in enumerate(words):
                item = QTableWidgetItem(word)
                if figures:
                    item.setFont(mono())
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.sheet.setItem(row, column, item)
        header = self.sheet.horizontalHeader()
        if header is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            header.setStretchLastSection(True)

    def modes(self) -> Sequence[str]:
        """Not ways of looking but of copying."""
        return "copy as", *WAYS

    def set_mode(self, mode: str) -> None:
        """Copy it so."""
        if mode in WAYS:
            self.copy_as(mode)
            self.told.emit(f"the table is on the clipboard as {mode}")

    def copy(self) -> str:
        """As text."""
        self.copy_as("text")
        return "the table is on the clipboard"

    def copy_as(self, form: str = "text") -> str:
        """Put the table on the clipboard."""
        text = {"text": self.table.text, "csv": self.table.csv, "markdown": self.table.markdown}[form]()
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(text)
        return text
