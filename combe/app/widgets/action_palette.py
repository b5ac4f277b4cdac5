"""Every action by name: type a few letters of it."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QAction, QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget


class ActionPalette(QDialog):
    """Opens over the window; Enter runs the marked action, Escape closes."""

    def __init__(self, actions: list[QAction], parent: QWidget | None = None) -> None:
        super().__init__(parent, Qt.WindowType.Popup | Qt.WindowType.FramelessWindowHint)
        self.setFixedSize(460, 320)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        self.field = QLineEdit()
        self.field.setObjectName("field")
        self.field.setPlaceholderText("What should be done?")
        self.list = QListWidget()
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        column.addWidget(self.field)
        column.addWidget(self.list, 1)
        self._actions = [action for action in actions if action.text()]
        self.field.textChanged.connect(self._filter)
        self.field.installEventFilter(self)
        self.list.itemActivated.connect(self._run)
        self.list.itemClicked.connect(self._run)
        self._filter("")
        self.field.setFocus()

    def _filter(self, text: str) -> None:
        self.list.clear()
        for action in self._actions:
            name = action.text().replace("&", "").rstrip("…")
            if action.isEnabled() and matches(text, name):
                keys = action.shortcut().toString()
                item = QListWidgetItem(f"{name}    {keys}" if keys else name)
                item.setData(Qt.ItemDataRole.UserRole, action)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Up, down and Enter work from the field."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                item = self.list.currentItem()
                if item is not None:
                    self._run(item)
                return True
        return super().eventFilter(watched, event)

    def _run(self, item: QListWidgetItem) -> None:
        action = item.data(Qt.ItemDataRole.UserRole)
        self.accept()
        action.trigger()


def matches(typed: str, name: str) -> bool:
    """Whether the letters typed stand in the name in that order, each word from its start or in one run."""
    words = typed.lower().split()
    text = name.lower()
    return all(word in text for word in words)
