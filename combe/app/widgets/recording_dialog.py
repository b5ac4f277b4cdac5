"""A table that is to be played: its first rows, and which of its columns."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QHeaderView,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from combe.app.pages.sheet import Cells
from combe.app.widgets.parts import field, label, ok_or_cancel
from combe.ledger.goodness import Table
from combe.signals.sheets import Sheet, column_numbers

ROWS = 12


class RecordingDialog(QDialog):
    """Click a column; ``sentence`` is the part of a signal it makes."""

    def __init__(self, path: Path, sheet: Sheet, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.path, self.sheet = path, sheet
        self.setWindowTitle(path.name)
        self.resize(560, 430)
        column = QVBoxLayout(self)
        column.addWidget(label(f"Which column of {path.name} is played?", "strong", wrap=True))
        self.cells = Cells()
        rows = tuple((str(sheet.first_row + k), *row) for k, row in enumerate(sheet.rows[:ROWS]))
        self.cells.show_table(
            Table(tuple(f"{k + 1}: {name}" for k, name in enumerate(sheet.names)), rows, "line"), False
        )
        self.table = QTableView()
        self.table.setModel(self.cells)
        self.table.setAccessibleName("first rows")
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectColumns)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setShowGrid(False)
        side, across = self.table.verticalHeader(), self.table.horizontalHeader()
        assert side is not None and across is not None
        side.hide()
        across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        column.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.offset, self.full = field("subtract first", width=90), field("full scale is", width=90)
        for box in (self.offset, self.full):
            row.addWidget(label(box.accessibleName()))
            box.textChanged.connect(lambda _: self._offer())
            row.addWidget(box)
        row.addStretch(1)
        column.addLayout(row)
        self.told = label("", "muted", wrap=True)
        column.addWidget(self.told)
        self.buttons = ok_or_cancel(self)
        column.addWidget(self.buttons)
        self.table.clicked.connect(lambda index: self.pick(index.column() - 1))
        across.sectionClicked.connect(lambda place: self.pick(place - 1))
        self.place = -1
        self.pick(next((k for k in column_numbers(sheet)[::-1]), 0))

    def pick(self, place: int) -> None:
        """Take a column."""
        if not 0 <= place < len(self.sheet.names):
            return
        self.place = place
        self.table.selectColumn(place + 1)
        self._offer()

    def _offer(self) -> None:
        is_number = self.place in column_numbers(self.sheet)
        wrong = [
            box.accessibleName()
            for box in (self.offset, self.full)
            if box.text().strip() and _number(box.text()) is None
        ]
        button = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        if button is not None:
            button.setEnabled(is_number and not wrong)
        words = f'"{wrong[0]}" wants a number' if wrong else "" if is_number else "this column holds no numbers"
        self.told.setText(words or "Without a full scale numbers are raw integers of the input's format.")

    @property
    def sentence(self) -> str:
        """The part of a signal that plays it."""
        words = f'recording "{self.path}"'
        if len(self.sheet.names) > 1:
            words += f" column {self.place + 1}"
        for name, box in (("offset", self.offset), ("full scale", self.full)):
            value = _number(box.text())
            if value is not None:
                words += f" {name} {value:g}"
        return words


def _number(text: str) -> float | None:
    try:
        return float(text.strip().replace(",", "."))
    except ValueError:
        return None
