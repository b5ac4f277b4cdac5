"""A list of the copies of unsaved work that windows left behind, each to be taken up, thrown away, or decided on later."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from combe.app.widgets.parts import label
from combe.project.unsaved import Copy, drop


class LeftBehind(QDialog):
    """``chosen`` is the copy to go on with once it is closed; None to leave everything as it is."""

    def __init__(self, copies: Sequence[Copy], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Unsaved work")
        self.resize(680, 300)
        self.chosen: Copy | None = None
        column = QVBoxLayout(self)
        column.addWidget(label("Combe ended before this work was saved. Copies were kept:", wrap=True))
        self.list = QListWidget()
        self.list.setWordWrap(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        for copy in copies:
            item = QListWidgetItem(copy.sentence())
            item.setData(Qt.ItemDataRole.UserRole, copy)
            item.setToolTip(copy.sentence())
            self.list.addItem(item)
        self.list.currentItemChanged.connect(self._on_current)
        column.addWidget(self.list, 1)
        row = QHBoxLayout()
        self.take = QPushButton("Go on with it")
        self.take.setDefault(True)
        self.take.clicked.connect(self._on_take)
        self.throw = QPushButton("Throw it away")
        self.throw.clicked.connect(self._on_throw)
        self.later = QPushButton("Decide later")
        self.later.clicked.connect(self.reject)
        row.addWidget(self.take)
        row.addWidget(self.throw)
        row.addStretch(1)
        row.addWidget(self.later)
        column.addLayout(row)
        self.list.setCurrentRow(0)

    @property
    def current(self) -> Copy | None:
        """The copy pointed at."""
        item = self.list.currentItem()
        found = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        return found if isinstance(found, Copy) else None

    def _on_current(self, *_: object) -> None:
        copy = self.current
        self.take.setEnabled(copy is not None and copy.project is not None)
        self.throw.setEnabled(copy is not None)

    def _on_take(self) -> None:
        self.chosen = self.current
        self.accept()

    def _on_throw(self) -> None:
        copy = self.current
        if copy is None:
            return
        drop(copy)
        self.list.takeItem(self.list.currentRow())
        if not self.list.count():
            self.reject()
