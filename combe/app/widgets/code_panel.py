"""Code: what is written, how, its name, where it goes, and its proof."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QFormLayout, QLineEdit, QProgressBar, QPushButton, QWidget

from combe.app.theme.marks import icon
from combe.app.widgets.parts import Choice, Panel, Scroller, label, set_role
from combe.delivery.code_choices import (
    BUILDS,
    HISTORIES,
    NUMBERS,
    UNROLLS,
    CodeChoices,
)
from combe.delivery.hdl.choices import ARCHITECTURES, HardwareChoices
from combe.delivery.languages import LANGUAGES, NAMES
from combe.delivery.package import Package, checked_name
from combe.errors import CombeError
from combe.project.edits import choose_code, choose_hardware, with_code, with_converter, with_hardware
from combe.project.tree_edits import name_code

if TYPE_CHECKING:
    from combe.proof.c import Proof
    from combe.proof.hdl import HdlProof

BOXES = (
    ("language", "Language", NAMES, "; ".join(each.remark for each in LANGUAGES if each.remark)),
    ("number", "Computes in", NUMBERS, "Floating point computes the same stages, unrounded, in real values"),
    (
        "history",
        "Keeps samples",
        HISTORIES,
        "blocks: fastest; double: twice over, no test for the wrap; circular: least memory",
    ),
    (
        "unroll",
        "Unrolled",
        tuple("by itself" if not k else str(k) for k in UNROLLS),
        "Taps in one turn of the inner loop",
    ),
    ("build", "Build files", BUILDS, "cmake: CMakeLists.txt beside the Makefile; meson: meson.build beside it"),
)
SWITCHES = (
    ("intrinsics", "Dual multiply-accumulate", "Arm's intrinsics behind #ifdef, with plain C that gives the same"),
    (
        "reloadable",
        "Coefficients replaceable",
        "Kept in the state and set while it runs, refused where they could overflow",
    ),
    ("single_file", "One file", "All of the C in the header; one source of a program takes the functions from it"),
    ("guard", "Guard against denormals", "Values of floating-point loops end in zeros"),
)
TEXTS = (
    ("converter_in", "Converter in", "Raw unsigned codes: bits, or bits@offset, such as 12@2048; empty for none"),
    (
        "converter_out",
        "Converter out",
        "Raw unsigned codes: bits, or bits@offset; held within their range without a branch",
    ),
    ("file_name", "Files", "What files are called where not as the code"),
    ("type_name", "Types", "What types are called where not as the code"),
)


HARDWARE_TEXTS = (
    ("clock_hz", "Clock, MHz", "The circuit's clock; rates an architecture can't reach are refused"),
    ("multipliers", "Multipliers", "Of semi-parallel; empty: as few as clock and sample rate allow"),
    ("pipeline", "Adders a clock", "Adders in a row between two registers; 0: no registers in between"),
)
ITSELF = "by itself"
CONVERTERS = ("converter_in", "converter_out")


class CodePanel(Panel):
    """``edited`` carries an edit; ``export_wanted`` and ``proof_wanted`` say what was pressed."""

    edited = pyqtSignal(object)
    export_wanted = pyqtSignal()
    proof_wanted = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.choices = CodeChoices()
        self.hardware = HardwareChoices()
        self.is_recursive = False
        self.column.addWidget(label("Code", "title"))
        self.scroller = Scroller(right=10)
        self.form = QFormLayout()
        self.form.setHorizontalSpacing(8)
        self.form.setVerticalSpacing(6)
        self.boxes: dict[str, Choice] = {}
        self.switches: dict[str, QCheckBox] = {}
        self.texts: dict[str, QLineEdit] = {}
        self._build_form()
        self.complaint = label("", "clay", wrap=True)
        self.complaint.hide()
        self.scroller.column.addLayout(self.form)
        self.scroller.column.addWidget(self.complaint)
        self.column.addWidget(self.scroller, 1)
        self.prove = QPushButton("Prove it")
        self.prove.setObjectName("main")
        self.prove.setToolTip("Build it with real tools, run it, compare every sample  (Ctrl+P)")
        self.prove.clicked.connect(self.proof_wanted)
        self.export = QPushButton("Export to a folder…")
        self.export.setToolTip("Write all files  (Ctrl+E)")
        self.export.clicked.connect(self.export_wanted)
        self.progress = QProgressBar()
        self.progress.setRange(0, 0)
        self.progress.setTextVisible(False)
        self.progress.hide()
        self.outcome = label("", "muted", wrap=True)
        self.files = label("", "muted", wrap=True)
        for part in (self.prove, self.export, self.progress, self.outcome, self.files):
            self.column.addWidget(part)
        self._shown = ""
        self.dress()

    def _build_form(self) -> None:
        self.name = QLineEdit()
        self.name.setObjectName("field")
        self.name.setAccessibleName("name in code")
        self.name.textEdited.connect(self._check)
        self.name.editingFinished.connect(self._typed)
        self.form.addRow("Name", self.name)
        self.hardware_fields: dict[str, QLineEdit] = {}
        for key, words, items, hint in BOXES:
            box = Choice()
            box.addItems(list(items))
            box.setAccessibleName(words.lower())
            box.setToolTip(hint)
            box.activated.connect(partial(self._picked, key))
            self.boxes[key] = box
            self.form.addRow(words, box)
        self.architecture = Choice()
        self.architecture.addItems([ITSELF, *ARCHITECTURES])
        self.architecture.setAccessibleName("architecture")
        self.architecture.setToolTip("How the circuit is built; Data path draws it")
        self.architecture.activated.connect(self._architecture_picked)
        self.form.addRow("Architecture", self.architecture)
        for key, words, hint in HARDWARE_TEXTS:
            field = QLineEdit()
            field.setObjectName("field")
            field.setAccessibleName(words.lower())
            field.setToolTip(hint)
            field.setPlaceholderText(ITSELF)
            field.editingFinished.connect(partial(self._hardware_typed, key))
            self.hardware_fields[key] = field
            self.form.addRow(words, field)
        self.axi = QCheckBox("AXI4-Stream wrapper")
        self.axi.setToolTip("A second file with stream ports, words padded to bytes")
        self.axi.clicked.connect(lambda on: self._offer_hardware("axi_stream", on, "AXI4-Stream"))
        self.form.addRow(self.axi)
        self.described = QCheckBox("Descriptions of the core")
        self.described.setToolTip("NAME.core (CAPI2) and NAME.xml (IP-XACT, IEEE 1685), for tools that take cores in")
        self.described.clicked.connect(lambda on: self._offer_hardware("described", on, "descriptions of the core"))
        self.form.addRow(self.described)
        for key, words, hint in TEXTS:
            field = QLineEdit()
            field.setObjectName("field")
            field.setAccessibleName(words.lower())
            field.setToolTip(hint)
            field.setPlaceholderText("none" if key.startswith("converter") else "as the name")
            field.editingFinished.connect(partial(self._text_typed, key))
            self.texts[key] = field
            self.form.addRow(words, field)
        for key, words, hint in SWITCHES:
            switch = QCheckBox(words)
            switch.setToolTip(hint)
            switch.clicked.connect(partial(self._switched, key))
            self.switches[key] = switch
            self.form.addRow(switch)
        self.banks = QCheckBox("Two banks of coefficients")
        self.banks.setToolTip("What is written takes over as a whole, between two samples")
        self.banks.clicked.connect(lambda on: self._offer_hardware("double_buffer", on, "two banks of coefficients"))
        self.form.addRow(self.banks)

    def dress(self) -> None:
        """Icons in the theme's colours."""
        self.prove.setIcon(icon("prove", "raised"))
        self.export.setIcon(icon("export"))

    def show_name(self, name: str) -> None:
        """The name in force."""
        self._shown = name
        if not (self.name.hasFocus() and self.name.isModified()):
            self.name.setText(name)
            self.name.setModified(False)

    def show_choices(self, choices: CodeChoices) -> None:
        """The choices in force, and only those that matter to them."""
        self.choices = choices
        for key, box in self.boxes.items():
            value = getattr(choices, key)
            box.setCurrentText("by itself" if value == 0 else str(value))
        for key, switch in self.switches.items():
            switch.setChecked(getattr(choices, key))
        for key, field in self.texts.items():
            if not (field.hasFocus() and field.isModified()):
                field.setText(getattr(choices, key))
                field.setModified(False)
        self._show_rows()

    def show_kind(self, is_recursive: bool) -> None:
        """Offer what sections have, or what taps have."""
        self.is_recursive = is_recursive
        self._show_rows()

    def show_hardware(self, hardware: HardwareChoices) -> None:
        """The choices about a circuit in force."""
        self.hardware = hardware
        self.architecture.setCurrentText(hardware.architecture or ITSELF)
        self.axi.setChecked(hardware.axi_stream)
        self.banks.setChecked(hardware.double_buffer)
        self.described.setChecked(hardware.described)
        words = {
            "clock_hz": f"{hardware.clock_hz / 1e6:g}" if hardware.clock_hz else "",
            "multipliers": str(hardware.multipliers or ""), "pipeline": str(hardware.pipeline),
        }  # fmt: skip
        for key, field in self.hardware_fields.items():
            if not (field.hasFocus() and field.isModified()):
                field.setText(words[key])
                field.setModified(False)
        self._show_rows()

    def _show_rows(self) -> None:
        """Only what the language listens to, and what matters beside the other choices."""
        rows: dict[str, QWidget] = {
            **{key: box for key, box in self.boxes.items() if key != "language"}, **self.texts, **self.switches,
            **self.hardware_fields, "architecture": self.architecture, "axi_stream": self.axi, "double_buffer": self.banks,
            "described": self.described,
        }  # fmt: skip
        is_float, is_semi = self.choices.is_float, self.hardware.architecture == "semi-parallel"
        idle = {"history", "unroll"} if self.is_recursive else set()
        idle |= {*CONVERTERS, "intrinsics"} if is_float else {"guard"}
        idle |= set() if self.is_recursive else {"guard"}
        idle |= set() if is_semi else {"multipliers"}
        idle |= set() if self.choices.reloadable else {"double_buffer"}
        for key, row in rows.items():
            self.form.setRowVisible(row, key in self.choices.written_in.choices and key not in idle)

    def _architecture_picked(self, _: int) -> None:
        word = self.architecture.currentText()
        self._offer_hardware("architecture", "" if word == ITSELF else word, "the architecture")

    def _hardware_typed(self, key: str) -> None:
        field = self.hardware_fields[key]
        if not field.isModified():
            return
        field.setModified(False)
        text = field.text().strip()
        try:
            value: float = float(text or 0) * 1e6 if key == "clock_hz" else int(text or (1 if key == "pipeline" else 0))
        except ValueError:
            self._complain(f"{text!r} is not a number")
            return
        self._offer_hardware(key, value, field.accessibleName())

    def _offer_hardware(self, key: str, value: object, what: str) -> None:
        try:
            hardware = with_hardware(self.hardware, key, value)
        except CombeError as error:
            self._complain(error.sentence())
            return
        self._complain("")
        if hardware != self.hardware:
            self.edited.emit(choose_hardware(key, value, what))

    def show_package(self, package: Package | None, trouble: str = "") -> None:
        """What would be written, or why nothing can be."""
        self.prove.setEnabled(package is not None)
        self.export.setEnabled(package is not None)
        if package is None:
            self.files.setText(trouble)
            set_role(self.files, "clay" if trouble else "muted")
            return
        set_role(self.files, "muted")
        lines = sum(file.text.count("\n") for file in package.files)
        self.files.setText(f"{len(package.files)} files, {lines} lines; they belong to you, with no conditions.")

    def show_proof(self, proof: Proof | HdlProof | None, running: bool, step: str = "") -> None:
        """The proof, or that it's under way."""
        self.progress.setVisible(running)
        self.prove.setEnabled(not running)
        if running:
            set_role(self.outcome, "muted")
            self.outcome.setText(f"{step[:1].upper()}{step[1:]}…" if step else "Building and running…")
        elif proof is None:
            set_role(self.outcome, "muted")
            self.outcome.setText("Not proved since the last change.")
        else:
            set_role(self.outcome, "moss" if proof.holds else "clay")
            self.outcome.setText(("Proved. " if proof.holds else "Not proved. ") + proof.sentence())

    def _complain(self, sentence: str) -> None:
        self.complaint.setText(sentence)
        self.complaint.setVisible(bool(sentence))

    def _offer(self, key: str, value: object, what: str) -> None:
        try:
            choices = with_code(self.choices, key, value)
        except CombeError as error:
            self._complain(error.sentence())
            return
        self._complain("")
        if choices != self.choices:
            self.edited.emit(choose_code(choices, what))

    def _picked(self, key: str, _: int) -> None:
        text = self.boxes[key].currentText()
        value: object = (0 if text == "by itself" else int(text)) if key == "unroll" else text
        self._offer(key, value, self.boxes[key].accessibleName())

    def _switched(self, key: str, on: bool) -> None:
        self._offer(key, on, self.switches[key].text().lower())

    def _text_typed(self, key: str) -> None:
        field = self.texts[key]
        if field.isModified():
            field.setModified(False)
            if key in CONVERTERS:
                self._offer_converter()
            else:
                self._offer(key, field.text().strip(), field.accessibleName())

    def _offer_converter(self) -> None:
        """Both sides of a converter belong together: one alone is still being typed."""
        sides = [self.texts[key].text().strip() for key in CONVERTERS]
        try:
            choices = with_converter(self.choices, *sides)
        except CombeError as error:
            self._complain(error.sentence())
            return
        self._complain("")
        if choices != self.choices:
            self.edited.emit(choose_code(choices, "converter"))

    def _trouble_of(self, text: str) -> str:
        try:
            checked_name(text)
        except CombeError as error:
            return error.sentence()
        return ""

    def _check(self, text: str) -> None:
        self._complain(self._trouble_of(text))

    def _typed(self) -> None:
        if not self.name.isModified() or self._trouble_of(self.name.text()):
            return
        self.name.setModified(False)
        if self.name.text() != self._shown:
            self.edited.emit(name_code(self.name.text()))
