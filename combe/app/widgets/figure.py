"""A figure in a sentence: reads as text, is typed over in place, checked as it's typed."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QFontMetrics, QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QLineEdit, QWidget

from combe.app.widgets.parts import set_look
from combe.errors import CombeError


class Figure(QLineEdit):
    """Emits ``typed`` when a valid figure is entered; ``complained`` with a sentence while it isn't one.

    Parameters
    ----------
    check
        Takes the text; raises ``CombeError`` if it won't do.
    """

    typed = pyqtSignal(str)
    complained = pyqtSignal(str)

    def __init__(self, check: Callable[[str], object], name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("figure")
        self.setAccessibleName(name)
        self.setToolTip(f"{name}: click to type another")
        self._check = check
        self._shown = ""
        self.textEdited.connect(self._on_edited)
        self.textChanged.connect(lambda _: self.updateGeometry())
        self.editingFinished.connect(self._on_finished)

    def show_text(self, text: str) -> None:
        """The figure as it stands, unless somebody is typing."""
        self._shown = text
        if not (self.hasFocus() and self.isModified()):
            self._restore()

    def sizeHint(self) -> QSize:
        """As wide as the text."""
        metrics = QFontMetrics(self.font())
        return QSize(metrics.horizontalAdvance(self.text() or "0") + 7, metrics.height() + 4)

    def minimumSizeHint(self) -> QSize:
        """As wide as the text."""
        return self.sizeHint()

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Select all, so that typing replaces."""
        super().focusInEvent(event)
        self.selectAll()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Keep the whole figure selected after the first click; the row around it isn't meant."""
        super().mouseReleaseEvent(event)
        if not self.isModified() and not self.hasSelectedText():
            self.selectAll()
        if event is not None:
            event.accept()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Escape brings the old figure back."""
        if event is not None and event.key() == Qt.Key.Key_Escape:
            self._restore()
            self.clearFocus()
            return
        super().keyPressEvent(event)
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            event.accept()  # the row around it isn't meant

    def _restore(self) -> None:
        self.setText(self._shown)
        self.setModified(False)
        self._mark(False)
        self.complained.emit("")

    def _on_edited(self, text: str) -> None:
        self._mark(bool(self._complaint(text)))
        self.complained.emit(self._complaint(text))

    def _complaint(self, text: str) -> str:
        try:
            self._check(text)
        except CombeError as error:
            return error.what + (f"; {error.instead}" if error.instead else "")
        return ""

    def _on_finished(self) -> None:
        if not self.isModified():
            return
        text = self.text()
        if self._complaint(text):
            if not self.hasFocus():
                self._restore()
            return
        self.setModified(False)
        self._mark(False)
        self.complained.emit("")
        if text != self._shown:
            self.typed.emit(text)

    def _mark(self, wrong: bool) -> None:
        set_look(self, "wrong", wrong)
