"""The arithmetic: formats, structure, rounding, and what follows from them."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFormLayout, QLineEdit, QWidget

from combe.app.widgets.parts import Choice, Panel, label, set_role
from combe.arithmetic.facts import Fact, facts
from combe.arithmetic.formats import OVERFLOWS, ROUNDINGS, parse_format
from combe.arithmetic.realize import Choices
from combe.arithmetic.stages import FORMS
from combe.errors import CombeError
from combe.project.chain import Rounded

STRUCTURES = ("by itself", *FORMS)


class ArithmeticPanel(Panel):
    """``chosen`` carries changed choices and the name of the change."""

    chosen = pyqtSignal(object, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.choices = Choices()
        self.column.addWidget(label("Arithmetic", "title"))
        form = QFormLayout()
        form.setHorizontalSpacing(8)
        form.setVerticalSpacing(8)
        self.fields: dict[str, QLineEdit] = {}
        for key, words in (("input", "Input"), ("output", "Output")):
            field = QLineEdit()
            field.setObjectName("field")
            field.setAccessibleName(f"{key} format")
            field.setToolTip("s16f15: signed, 16 bits, 15 of them fraction; u12f12: unsigned")
            field.textEdited.connect(partial(self._check, key))
            field.editingFinished.connect(partial(self._typed, key))
            self.fields[key] = field
            form.addRow(words, field)
        self.boxes: dict[str, Choice] = {}
        for key, words, items in (
            ("structure", "Structure", STRUCTURES),
            ("rounding", "Rounding", ROUNDINGS),
            ("overflow", "Overflow", OVERFLOWS),
        ):
            box = Choice()
            box.addItems(list(items))
            box.setAccessibleName(key)
            box.activated.connect(partial(self._picked, key))
            self.boxes[key] = box
            form.addRow(words, box)
        self.column.addLayout(form)
        self.complaint = label("", "clay", wrap=True)
        self.complaint.hide()
        self.column.addWidget(self.complaint)
        self.column.addSpacing(4)
        self.column.addWidget(label("What follows", "strong"))
        self.facts = [label("", "muted", wrap=True) for _ in range(6)]
        for fact in self.facts:
            self.column.addWidget(fact)
        self.column.addStretch(1)

    def show_choices(self, choices: Choices) -> None:
        """What is chosen."""
        self.choices = choices
        for key, field in self.fields.items():
            if not (field.hasFocus() and field.isModified()):
                field.setText(getattr(choices, key) or (choices.input if key == "output" else ""))
                field.setModified(False)
                self._mark(field, "")
        self.boxes["structure"].setCurrentText(choices.structure or STRUCTURES[0])
        self.boxes["rounding"].setCurrentText(choices.rounding)
        self.boxes["overflow"].setCurrentText(choices.overflow)

    def show_rounded(self, rounded: Rounded | None, sentence: str = "", with_cycles: bool = False) -> None:
        """What follows from it, or why nothing does."""
        told = [Fact("clay", sentence)] if sentence else []
        if rounded is not None:
            told = facts(rounded.realization, with_cycles)
        for index, place in enumerate(self.facts):
            place.setVisible(index < len(told))
            if index < len(told):
                place.setText(told[index].sentence)
                set_role(place, told[index].weight)

    def _check(self, key: str, text: str) -> None:
        self._mark(self.fields[key], self._complaint(text))

    def _complaint(self, text: str) -> str:
        try:
            parse_format(text.strip())
        except CombeError as error:
            return error.sentence()
        return ""

    def _mark(self, field: QLineEdit, complaint: str) -> None:
        self.complaint.setText(complaint)
        self.complaint.setVisible(bool(complaint))
        field.setProperty("wrong", bool(complaint))
        style = field.style()
        if style is not None:
            style.unpolish(field)
            style.polish(field)

    def _typed(self, key: str) -> None:
        field = self.fields[key]
        if not field.isModified() or self._complaint(field.text()):
            return
        field.setModified(False)
        self._emit(changed(self.choices, key, field.text().strip()), f"{key} format")

    def _picked(self, key: str, index: int) -> None:
        text = self.boxes[key].itemText(index)
        value = "" if text == STRUCTURES[0] else text
        self._emit(changed(self.choices, key, value), key)

    def _emit(self, choices: Choices, what: str) -> None:
        if choices != self.choices:
            self.chosen.emit(choices, what)


def changed(choices: Choices, key: str, value: str) -> Choices:
    """The choices with one of them, all texts, replaced."""
    texts = {name: getattr(choices, name) for name in ("input", "output", "structure", "rounding", "overflow")}
    texts[key] = value
    return replace(choices, accumulator_bits=None, **texts)
