"""A page that is a table: it copies as text, CSV or Markdown."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt
from PyQt6.QtGui import QFontMetrics, QShowEvent
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QHeaderView, QTableView, QVBoxLayout

from combe.app.pages.page import Page
from combe.app.theme.palette import mono
from combe.ledger.goodness import Table

WAYS = ("text", "csv", "markdown")
ROOT = QModelIndex()
MEASURED_ROWS = 500
"""Columns are as wide as so many rows need: thousands aren't gone through."""


class Cells(QAbstractTableModel):
    """A table's words, asked for as they come into view."""

    def __init__(self) -> None:
        super().__init__()
        self.table = Table((), ())
        self.is_figures = False
        self._font = mono()

    def show_table(self, table: Table, figures: bool) -> None:
        """Another table; ``figures`` sets the cells in a type of even width."""
        self.beginResetModel()
        self.table, self.is_figures = table, figures
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = ROOT) -> int:
        """All rows."""
        return 0 if parent.isValid() else len(self.table.rows)

    def columnCount(self, parent: QModelIndex = ROOT) -> int:
        """The row's own name, then the named columns."""
        return 0 if parent.isValid() else len(self.table.names) + 1

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """A cell."""
        if role == Qt.ItemDataRole.DisplayRole:
            words = self.table.rows[index.row()]
            return words[index.column()] if index.column() < len(words) else ""
        if self.is_figures and role == Qt.ItemDataRole.FontRole:
            return self._font
        if self.is_figures and role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """A column's name."""
        if role == Qt.ItemDataRole.TextAlignmentRole and self.is_figures:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role != Qt.ItemDataRole.DisplayRole or orientation != Qt.Orientation.Horizontal:
            return None
        return ("", *self.table.names)[section]


class SheetPage(Page):
    """Rows of words."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.cells = Cells()
        self.sheet = QTableView()
        self.sheet.setModel(self.cells)
        self.sheet.setAccessibleName(name)
        self.sheet.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.sheet.setShowGrid(False)
        self.sheet.setAlternatingRowColors(True)
        header = self.sheet.verticalHeader()
        if header is not None:
            header.hide()
        across = self.sheet.horizontalHeader()
        if across is not None:
            across.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
            across.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.sheet)
        self.table = Table((), ())
        self._is_measured = self._stretches = False

    def fill(self, table: Table, figures: bool = False) -> None:
        """Show a table; ``figures`` sets the cells in a type of even width."""
        self.table = table
        self._stretches = not figures
        self.cells.show_table(table, figures)
        self._is_measured = False
        if self.isVisible():
            self._measure()

    def showEvent(self, event: QShowEvent | None) -> None:
        """Columns as wide as their words: measured when they are first seen, and not whenever the style is looked at."""
        super().showEvent(event)
        self._measure()

    def _measure(self) -> None:
        if not self._is_measured:
            self._is_measured = True
            self.sheet.ensurePolished()
            across, view = self.sheet.horizontalHeader(), self.sheet.viewport()
            assert across is not None and view is not None
            across.setStretchLastSection(False)  # what is wider than the page is scrolled, not cut
            for column in range(self.cells.columnCount()):
                self.sheet.setColumnWidth(column, max(across.sectionSizeHint(column), self._width_of(column)))
            across.setStretchLastSection(self._stretches and across.length() < view.width())

    def _width_of(self, column: int) -> int:
        """What the longest word needs: asked of the style for that one, where all would take twenty times as long."""
        words = [row[column] if column < len(row) else "" for row in self.table.rows[:MEASURED_ROWS]]
        if not words:
            return 0
        measure = QFontMetrics(mono() if self.cells.is_figures else self.sheet.font())
        longest = max(range(len(words)), key=lambda row: measure.horizontalAdvance(words[row]))
        return self.sheet.sizeHintForIndex(self.cells.index(longest, column)).width()

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
