"""Preferences: how things look, what a new filter starts with, where tools are. All of it is sensible without ever being opened."""

from __future__ import annotations

import os
from pathlib import Path

from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from combe.app.settings import SCALES, Settings, is_format
from combe.app.widgets.parts import Choice, field, label, ok_or_cancel
from combe.rounding.choices import FEWEST_BITS, MOST_BITS

COUNTED = {"hz": "in Hz", "fs": "as shares of the sample rate", "fn": "as shares of half the sample rate"}


class Preferences(QDialog):
    """Shows the settings; ``apply`` writes what was chosen into them."""

    def __init__(self, settings: Settings, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.settings = settings
        self.setWindowTitle("Preferences")
        column = QVBoxLayout(self)
        form = QFormLayout()
        form.setHorizontalSpacing(16)
        column.addLayout(form)
        self.theme = _choice(("light", "dark"), settings.theme, "theme")
        self.counted = _choice(tuple(COUNTED.values()), COUNTED[settings.counted], "frequencies")
        self.scale = QSpinBox()
        self.scale.setRange(*SCALES)
        self.scale.setSingleStep(5)
        self.scale.setSuffix(" %")
        self.scale.setValue(settings.scale)
        self.scale.setToolTip("of everything in the window, from the next start on")
        for words, part in (
            ("Theme", self.theme),
            ("Frequencies", self.counted),
            ("Scale, from the next start", self.scale),
        ):
            form.addRow(words, part)
        self.input = field("input format of a new filter", settings.input_format, "s16f15")
        self.output = field("output format of a new filter", settings.output_format, "as the input")
        self.bits = QSpinBox()
        self.bits.setRange(FEWEST_BITS, MOST_BITS)
        self.bits.setValue(settings.coefficient_bits)
        form.addRow(label("A new filter", "strong"))
        for words, own in (("Input", self.input), ("Output", self.output), ("Coefficient bits", self.bits)):
            form.addRow(words, own)
        form.addRow(label("Compilers and simulators", "strong"))
        self.folders = field("folders of tools", os.pathsep.join(settings.tool_folders), "the usual places")
        self.folders.setMinimumWidth(280)
        row = QHBoxLayout()
        row.addWidget(self.folders, 1)
        more = QPushButton("Add a folder…")
        more.clicked.connect(self._add_folder)
        row.addWidget(more)
        form.addRow("Looked for first in", row)
        self.told = label("", "clay", wrap=True)
        column.addWidget(self.told)
        self.buttons = ok_or_cancel(self)
        column.addWidget(self.buttons)
        for each in (self.input, self.output, self.folders):
            each.textChanged.connect(lambda _: self._check())
        self._check()

    @property
    def tool_folders(self) -> list[str]:
        """The folders named."""
        return [folder.strip() for folder in self.folders.text().split(os.pathsep) if folder.strip()]

    def complaint(self) -> str:
        """What can't be taken as it stands; empty if all of it can."""
        for words, own, may_be_empty in (("Input", self.input, False), ("Output", self.output, True)):
            text = own.text().strip()
            if not (is_format(text) or (may_be_empty and not text)):
                return (
                    f'{words}: "{text[:40]}" is no format; write one like s16f15 (signed, 16 bits, 15 of them fraction)'
                )
        missing = next((folder for folder in self.tool_folders if not Path(folder).is_dir()), "")
        return f"there is no folder {missing[:80]}" if missing else ""

    def _check(self) -> None:
        words = self.complaint()
        self.told.setText(words)
        button = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        if button is not None:
            button.setEnabled(not words)

    def _add_folder(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "A folder of tools", str(Path.home()))
        if folder:
            self.folders.setText(os.pathsep.join([*self.tool_folders, folder]))

    def apply(self) -> None:
        """Take what was chosen."""
        settings = self.settings
        settings.theme = self.theme.currentText()
        settings.counted = next(key for key, words in COUNTED.items() if words == self.counted.currentText())
        settings.scale, settings.coefficient_bits = self.scale.value(), self.bits.value()
        settings.input_format, settings.output_format = self.input.text().strip(), self.output.text().strip()
        settings.tool_folders = self.tool_folders
        settings.find_tools()
        settings.save()


def _choice(words: tuple[str, ...], chosen: str, name: str) -> Choice:
    made = Choice()
    made.addItems(list(words))
    made.setCurrentText(chosen)
    made.setAccessibleName(name)
    return made
