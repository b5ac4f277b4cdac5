"""The arithmetic: formats, structure, rounding, and what follows from them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QFormLayout, QLineEdit, QWidget

from combe.analysis.fact import Fact
from combe.app.widgets.facts_list import FactsList
from combe.app.widgets.parts import Choice, Panel, Scroller, label, set_look
from combe.errors import CombeError
from combe.project.edits import choose_arithmetic, with_choices
from combe.realization.formats import OVERFLOWS, ROUNDINGS, parse_format
from combe.realization.stages import FORMS, RATE_FORMS
from combe.rounding.assemble import SCALINGS
from combe.rounding.choices import Choices
from combe.rounding.recursive import ORDERINGS, SECTION_STRUCTURES

ITSELF = "by itself"
FORMATS = (("input", "Input"), ("output", "Output"))
BITS = (
    ("state_bits", "State", "Bits of what sections keep and hand on; eight more than input and output by itself"),
    ("product_bits", "Products", "Bits every product is rounded to before it is added; whole by itself"),
    ("guard_bits", "Guard", "Bits accumulators get beyond what any input needs"),
)
BOXES = (
    ("rounding", "Rounding", ROUNDINGS, ""),
    ("overflow", "Overflow", OVERFLOWS, ""),
    ("scaling", "Room for", SCALINGS, "l1: any input at all; l2: signals of the input's energy; peak: sines"),
    ("ordering", "Order", ORDERINGS, "search: the pairing and order of sections with the least noise"),
)
OF_SECTIONS = ("state_bits", "scaling", "ordering", "error_feedback")
OF_TAPS = ("product_bits",)


class ArithmeticPanel(Panel):
    """``edited`` carries an edit; ``remedy_wanted`` a remedy's changes and words."""

    edited = pyqtSignal(object)
    remedy_wanted = pyqtSignal(object, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.choices = Choices()
        self.is_recursive = False
        self.column.addWidget(label("Arithmetic", "title"))
        self.scroller = Scroller(right=10)
        self.form = QFormLayout()
        self.form.setHorizontalSpacing(8)
        self.form.setVerticalSpacing(6)
        self.fields: dict[str, QLineEdit] = {}
        self.boxes: dict[str, Choice] = {}
        for key, words in FORMATS:
            self._add_field(
                key, words, f"{key} format", "s16f15: signed, 16 bits, 15 of them fraction; u12f12: unsigned"
            )
        self._add_box(
            "structure", "Structure", (ITSELF,), "How sums are built: the same filter, other noise and ranges"
        )
        for key, words, hint in BITS:
            self._add_field(key, words, key.replace("_", " "), hint)
        for key, words, items, hint in BOXES:
            self._add_box(key, words, items, hint)
        self.feedback = QCheckBox("Feed errors back")
        self.feedback.setToolTip("Carry the rest of each rounding on to the next sample: less noise where poles are")
        self.feedback.clicked.connect(self._on_feedback)
        self.form.addRow("", self.feedback)
        self.pruning = QCheckBox("Prune registers")
        self.pruning.setToolTip(
            "Sums in a row leave out low bits whose noise stays below what is cut off after them anyway"
        )
        self.pruning.clicked.connect(lambda is_on: self._emit("pruned registers", pruned=is_on))
        self.form.addRow("", self.pruning)
        self.scroller.column.addLayout(self.form)
        self.complaint = label("", "clay", wrap=True)
        self.complaint.hide()
        self.scroller.column.addWidget(self.complaint)
        self.scroller.column.addWidget(label("What follows", "strong"))
        self.facts = FactsList()
        self.facts.remedy_wanted.connect(self.remedy_wanted)
        self.scroller.column.addWidget(self.facts)
        self.column.addWidget(self.scroller, 1)

    def _add_field(self, key: str, words: str, name: str, hint: str) -> None:
        field = QLineEdit()
        field.setObjectName("field")
        field.setAccessibleName(name)
        field.setToolTip(hint)
        field.textEdited.connect(partial(self._check, key))
        field.editingFinished.connect(partial(self._typed, key))
        self.fields[key] = field
        self.form.addRow(words, field)

    def _add_box(self, key: str, words: str, items: tuple[str, ...], hint: str) -> None:
        box = Choice()
        box.addItems(list(items))
        box.setAccessibleName(key)
        box.setToolTip(hint)
        box.activated.connect(partial(self._picked, key))
        self.boxes[key] = box
        self.form.addRow(words, box)

    def show_kind(self, is_recursive: bool, has_sums: bool = False, changes_rate: bool = False) -> None:
        """Offer what sections have, or what taps have, or stages that change the rate; and what sums in a row that go down have."""
        self.is_recursive = is_recursive
        self.form.setRowVisible(self.pruning, has_sums)
        parts: dict[str, QWidget] = {**self.fields, **self.boxes, "error_feedback": self.feedback}
        for key in (*OF_SECTIONS, *OF_TAPS):
            own = key == "state_bits" if changes_rate else is_recursive == (key in OF_SECTIONS)
            self.form.setRowVisible(parts[key], own)
        words = [ITSELF, *(RATE_FORMS if changes_rate else SECTION_STRUCTURES if is_recursive else FORMS)]
        box = self.boxes["structure"]
        if [box.itemText(k) for k in range(box.count())] != words:
            box.clear()
            box.addItems(words)
        box.setCurrentText(self.choices.structure or ITSELF)

    def show_choices(self, choices: Choices) -> None:
        """What is chosen."""
        self.choices = choices
        for key, field in self.fields.items():
            if not (field.hasFocus() and field.isModified()):
                field.setText(self._text_of(key))
                field.setModified(False)
                self._mark(field, "")
        for key, box in self.boxes.items():
            box.setCurrentText(getattr(choices, key) or ITSELF)
        self.feedback.setChecked(choices.error_feedback)
        self.pruning.setChecked(choices.pruned)

    def _text_of(self, key: str) -> str:
        value = getattr(self.choices, key)
        if key == "output":
            return str(value or self.choices.input)
        return ITSELF if value is None else str(value)

    def show_told(self, told: Sequence[Fact]) -> None:
        """Sentences worked out elsewhere."""
        self.facts.show_facts(told)

    def _check(self, key: str, text: str) -> None:
        self._mark(self.fields[key], self._complaint(key, text))

    def _complaint(self, key: str, text: str) -> str:
        if key in ("input", "output"):
            try:
                parse_format(text.strip())
            except CombeError as error:
                return error.sentence()
            return ""
        words = text.strip()
        if words in ("", ITSELF) or (words.isascii() and words.isdigit() and self._reach(key, int(words))):
            return ""
        return f"{words!r} is no width; write {'0 to 32' if key == 'guard_bits' else '2 to 64'} bits, or {ITSELF}"

    def _reach(self, key: str, bits: int) -> bool:
        return bits <= 32 if key == "guard_bits" else 2 <= bits <= 64

    def _mark(self, field: QLineEdit, complaint: str) -> None:
        self.complaint.setText(complaint)
        self.complaint.setVisible(bool(complaint))
        set_look(field, "wrong", bool(complaint))

    def _typed(self, key: str) -> None:
        field = self.fields[key]
        text = field.text().strip()
        if not field.isModified() or self._complaint(key, text):
            return
        field.setModified(False)
        if key in ("input", "output"):
            self._emit(f"{key} format", **{key: text})
            return
        none = 0 if key == "guard_bits" else None
        self._emit(key.replace("_", " "), **{key: none if text in ("", ITSELF) else int(text)})
        field.setText(self._text_of(key))

    def _picked(self, key: str, index: int) -> None:
        text = self.boxes[key].itemText(index)
        self._emit(key, **{key: "" if text == ITSELF else text})

    def _on_feedback(self, is_on: bool) -> None:
        self._emit("error feedback", error_feedback=is_on)

    def _emit(self, what: str, **changes: Any) -> None:
        if with_choices(self.choices, **changes) != self.choices:
            self.edited.emit(choose_arithmetic(what, **changes))
