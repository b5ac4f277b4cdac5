"""A table to be read, filled in one go."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem

from combe.app.theme.palette import THEME


class Cell(NamedTuple):
    """What stands in one place: its words, the colour's role, a tip, whether it is set to the right, over how many columns."""

    text: str
    role: str = "ink"
    tip: str = ""
    is_right: bool = False
    span: int = 1


class QuietTable(QTableWidget):
    """No grid, no numbers at the side; columns as wide as their words and the last one to the end, or all equally wide."""

    def __init__(self, name: str, heads: Sequence[str] = (), row_height: int = 22, is_even: bool = False) -> None:
        super().__init__(0, len(heads))
        self._wide = QHeaderView.ResizeMode.Stretch if is_even else QHeaderView.ResizeMode.ResizeToContents
        self._heads = list(heads)
        self._shown: tuple[str, list[list[Cell]]] = ("", [])
        self.setHorizontalHeaderLabels(self._heads)
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setAccessibleName(name)
        rows_head, columns_head = self.verticalHeader(), self.horizontalHeader()
        if rows_head is not None and columns_head is not None:
            rows_head.hide()
            rows_head.setDefaultSectionSize(row_height)
            columns_head.setSectionResizeMode(self._wide)
            columns_head.setStretchLastSection(not is_even)

    def show_cells(self, rows: Sequence[Sequence[Cell]], heads: Sequence[str] | None = None) -> None:
        """Other rows, and columns. Cells that are what they were stay; widths are measured once, not after every cell."""
        if heads is not None and list(heads) != self._heads:
            self._heads, self._shown = list(heads), ("", [])
            self.setColumnCount(len(self._heads))
            self.setHorizontalHeaderLabels(self._heads)
        kept = [list(row) for row in rows]
        before = self._shown[1] if self._shown[0] == THEME.name else []
        if self._shown == (THEME.name, kept):
            return
        self._shown = THEME.name, kept
        head = self.horizontalHeader()
        assert head is not None
        head.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.clearSpans()
        self.setRowCount(len(kept))
        for row, cells in enumerate(kept):
            known = before[row] if row < len(before) else []
            for column, cell in enumerate(cells):
                if cell.span > 1:
                    self.setSpan(row, column, 1, cell.span)
                if column >= len(known) or known[column] != cell:
                    self.setItem(row, column, _item(cell))
            for column in range(len(cells), self.columnCount()):
                self.takeItem(row, column)
        head.setSectionResizeMode(self._wide)


def _item(cell: Cell) -> QTableWidgetItem:
    made = QTableWidgetItem(cell.text)
    if cell.is_right:
        made.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
    if cell.role != "ink":
        made.setForeground(THEME.color(cell.role))
    if cell.tip:
        made.setToolTip(cell.tip)
    return made
