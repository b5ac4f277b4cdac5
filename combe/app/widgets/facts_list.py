"""Sentences about the arithmetic, dangers first, each with its remedy as a button."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QResizeEvent, QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from combe.analysis.fact import Fact, Remedy
from combe.app.theme.palette import ROLE_OF, THEME
from combe.app.widgets.parts import clear_layout, label
from combe.errors import CombeError, FractionError, PoleError, StructureError, SumError

BESIDE = 10
"""Pixels the stripe and its gap take."""
WORDS = {"danger": "danger", "warning": "warning", "note": "for the record"}


REMEDIES: dict[type[CombeError], Remedy] = {
    PoleError: Remedy("Take 24 coefficient bits", {"coefficient_bits": 24}),
    SumError: Remedy("Take 16 coefficient bits", {"coefficient_bits": 16, "state_bits": None, "guard_bits": 0}),
    StructureError: Remedy("Let the structure choose itself", {"structure": "", "product_bits": None}),
    FractionError: Remedy("Let the binary point choose itself", {"coefficient_fraction": None}),
}
"""What a button offers where there are no integers at all."""


class Stripe(QWidget):
    """A bar at the side whose length and colour tell how much a sentence matters."""

    def __init__(self, severity: str) -> None:
        super().__init__()
        self.severity = severity
        self.setFixedWidth(4)
        self.setAccessibleName(WORDS[severity])

    def sizeHint(self) -> QSize:
        """Narrow."""
        return QSize(4, 12)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Full for a fault, half for a warning, a dot for the record."""
        painter = QPainter(self)
        share = {"danger": 1.0, "warning": 0.5}.get(self.severity, 0.0)
        bar = (
            QRectF(0, 3, 3, max(self.height() * share - 6, 3.0)) if share else QRectF(0, 6, 3, 3)
        )  # beside the first line
        painter.fillRect(bar, THEME.color(ROLE_OF[self.severity]))


class FactsList(QWidget):
    """``remedy_wanted`` carries the choices a remedy changes, and its words."""

    remedy_wanted = pyqtSignal(object, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.shown: Sequence[Fact] = []
        self.sentences: list[QLabel] = []
        self._is_due = False
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(8)

    def show_facts(self, told: Sequence[Fact]) -> None:
        """Other sentences."""
        if told == self.shown:
            return
        self.shown = told
        if self.isVisible():
            self._fill()
        else:
            self._is_due = True

    def showEvent(self, event: QShowEvent | None) -> None:
        """Sentences that came while nobody could see them."""
        super().showEvent(event)
        if self._is_due:
            self._fill()

    def _fill(self) -> None:
        self._is_due = False
        told = self.shown
        clear_layout(self.column)
        self.sentences = []
        for fact in told:
            self.column.addWidget(self._row(fact))
        self._fit()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Other line breaks."""
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """As high as the words need at this width: a layout within a layout doesn't ask."""
        for sentence in self.sentences:
            sentence.setMinimumHeight(sentence.heightForWidth(max(self.width() - BESIDE, 40)))

    def _row(self, fact: Fact) -> QWidget:
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(6)
        line.addWidget(Stripe(fact.severity))
        inside = QVBoxLayout()
        inside.setSpacing(2)
        if fact.sentence:
            sentence = label(fact.sentence, ROLE_OF[fact.severity], wrap=True)
            sentence.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
            self.sentences.append(sentence)
            inside.addWidget(sentence)
        if fact.remedy is not None:
            inside.addWidget(self._button(fact.remedy, fact.severity))
        line.addLayout(inside, 1)
        return row

    def _button(self, remedy: Remedy, severity: str) -> QPushButton:
        button = QPushButton(remedy.words)
        button.setObjectName("remedy" if severity != "note" else "quiet")
        button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        button.setToolTip(remedy.words)
        button.clicked.connect(partial(self._on_click, remedy))
        return button

    def _on_click(self, remedy: Remedy, *_: object) -> None:
        self.remedy_wanted.emit(remedy.changes, remedy.words[0].lower() + remedy.words[1:])


def told_of(error: CombeError) -> Sequence[Fact]:
    """Why there are no integers, with the way out where there is one."""
    remedy = next((found for kind, found in REMEDIES.items() if isinstance(error, kind)), None)
    return [Fact("danger", error.sentence(), remedy)]
