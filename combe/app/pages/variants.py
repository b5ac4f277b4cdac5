"""States of the filter kept under names, side by side; and the steps behind undo, each with what it did to the ledger."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QModelIndex
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QWidget

from combe.app.pages.page import Scene
from combe.app.pages.sheet import WAYS, SheetPage
from combe.app.plots.curve import Curve
from combe.ledger.goodness import Table
from combe.project.compared import table_of_states
from combe.project.edits import pin
from combe.project.variant_edits import drop_variant, keep_variant, take_variant

VARIANTS, STEPS = "variants", "steps"
MODES = (VARIANTS, STEPS)


class VariantsPage(SheetPage):
    """A column for each variant, or a row for each step. ``asked`` is emitted with ``step`` and a place to return to."""

    def __init__(self) -> None:
        super().__init__("variants and steps")
        self._mode = VARIANTS
        self._scene: Scene | None = None
        self.extra = QWidget()
        row = QHBoxLayout(self.extra)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        self.name, self.note = QLineEdit(), QLineEdit()
        for field, words, width in ((self.name, "name", 96), (self.note, "note", 110)):
            field.setObjectName("field")
            field.setPlaceholderText(words)
            field.setAccessibleName(f"{words} of the variant")
            field.setFixedWidth(width)
            field.setMaxLength(200)
            field.returnPressed.connect(self._keep)
            row.addWidget(field)
        self.keep = self._button("Keep", "Keep the filter as it stands under this name", self._keep, row)
        self.take = self._button("Go back", "Go back to what is picked in the table", self._take, row)
        self.show_it = self._button("Pin", "Draw the picked variant behind the filter", self._pin, row)
        self.drop = self._button("Let go", "Forget the picked variant; undo brings it back", self._drop, row)
        self.sheet.doubleClicked.connect(lambda _: self._take())
        self.sheet.clicked.connect(lambda _: self._offer())
        self._offer()

    def _button(self, words: str, hint: str, run: Callable[[], None], row: QHBoxLayout) -> QPushButton:
        made = QPushButton(words)
        made.setToolTip(hint)
        made.clicked.connect(lambda _: run())
        row.addWidget(made)
        return made

    def modes(self) -> Sequence[str]:
        """The two tables, and ways of copying."""
        return (*MODES, *(f"copy as {way}" for way in WAYS))

    def legend(self) -> Sequence[Curve]:
        """No strokes."""
        return ()

    @property
    def mode(self) -> str:
        """Which table is shown."""
        return self._mode

    def set_mode(self, mode: str) -> None:
        """The other table; or copy this one."""
        if mode in MODES:
            self._mode = mode
            self._fill()
            return
        self.copy_as(mode.removeprefix("copy as "))
        self.told.emit(f"the table is on the clipboard as {mode.removeprefix('copy as ')}")

    def show_scene(self, scene: Scene) -> None:
        """Other states."""
        self._scene = scene
        self._fill()

    def _fill(self) -> None:
        if self._scene is None:
            return
        table = steps_table(self._scene) if self._mode == STEPS else table_of_states(self._scene.results.states)
        if table != self.table:
            picked = self.sheet.currentIndex()
            self.fill(table)
            self.sheet.setCurrentIndex(self.cells.index(picked.row(), picked.column()))
        self._offer()

    @property
    def picked(self) -> str:
        """The variant whose column is picked; empty if none is."""
        index = self.sheet.currentIndex()
        states = self._scene.results.states if self._scene is not None else ()
        place = index.column() - 1
        return states[place].name if self._mode == VARIANTS and index.isValid() and 1 <= place < len(states) else ""

    def _offer(self) -> None:
        is_variants = self._mode == VARIANTS
        for part in (self.name, self.note, self.keep, self.show_it, self.drop):
            part.setVisible(is_variants)
        for button in (self.show_it, self.drop):
            button.setEnabled(bool(self.picked))
        self.take.setEnabled(bool(self.picked) if is_variants else self._step is not None)

    @property
    def _step(self) -> int | None:
        index = self.sheet.currentIndex()
        return index.row() if self._mode == STEPS and index.isValid() else None

    def _keep(self) -> None:
        name = self.name.text().strip() or f"variant {len(self._scene.project.variants) + 1 if self._scene else 1}"
        self.edited.emit(keep_variant(name, self.note.text()))
        self.name.clear()
        self.note.clear()

    def _take(self) -> None:
        if self._step is not None:
            self.asked.emit("step", self._step)
        elif self.picked:
            self.edited.emit(take_variant(self.picked))

    def _pin(self) -> None:
        states = self._scene.results.states if self._scene is not None else ()
        for state in states:
            if state.name == self.picked and state.design is not None:
                self.edited.emit(pin(state.design))

    def _drop(self) -> None:
        if self.picked:
            self.edited.emit(drop_variant(self.picked))

    def pick(self, row: int, column: int) -> None:
        """Pick a cell, as a click does."""
        self.sheet.setCurrentIndex(self.cells.index(row, column, QModelIndex()))
        self._offer()


def steps_table(scene: Scene) -> Table:
    """A row for each step, the first on top: what was done, and the tightest limit once it had been."""
    rows = []
    for step in scene.steps:
        mark = "●" if step.is_now else "○" if step.is_ahead else ""
        rows.append((mark, step.what, step.standing))
    return Table(("step", "tightest limit with its integers"), tuple(rows))
