"""The bench's left side: what goes in, a sentence a part, and what it goes through."""

from __future__ import annotations

import re
from functools import partial
from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from combe.app.widgets.figure import Figure
from combe.app.widgets.parts import Panel, Scroller, clear_layout, label
from combe.app.widgets.recording_dialog import RecordingDialog
from combe.benching.asks import EXAMPLES, MOST_ASKS, ask_from
from combe.benching.setup import MODELS, PINS, TOOLS, BenchSetup, signal_of
from combe.errors import CombeError, FileError
from combe.project.edits import with_bench
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text
from combe.signals.recordings import SOUND
from combe.signals.sheets import first_rows
from combe.signals.spec import check_length, signal_from_sentence

TITLES = {
    "ideal": "the ideal filter", "rounded": "the rounded filter", "bit-true": "the bit-true run", "code": "compiled C",
    "core": "the code on an emulated core", "circuit": "the circuit, simulated", PINS: "pinned filters",
}  # fmt: skip
TIPS = {
    "code": "the generated C, built and run on this machine, every sample compared",
    "core": "the generated C on an emulated Cortex-M4, every sample compared",
    "circuit": "the generated Verilog, compiled or simulated, every sample compared",
    PINS: "every filter that is pinned and shown, exact",
}
STARTS = {
    "A sine": "sine {quarter} -12 dB", "A chirp over everything": "chirp {low} to {high} -6 dB", "White noise": "white -30 dB",
    "Pink noise": "pink -30 dB", "A square wave": "square {low} -12 dB", "A step": "step at 100 -6 dB", "An impulse": "impulse at 100 0 dB",
    "The survey's night": "survey night", "The weight on a roost beam": "survey roost",
    "A converter of few bits": "converter bits 8 dither",
    "A maximum-length sequence": "maximum-length bits 12 -6 dB", "A modulated carrier": "modulated points 16 symbols {low} {quarter} -12 dB",
    "Symbols, one a sample": "symbols points 4 -3 dB",
}  # fmt: skip
"""What a new part begins as."""


def parts_of(sentence: str) -> list[str]:
    """The parts of a signal's sentence."""
    return [part.strip() for part in re.split(r"\s\+\s", sentence) if part.strip()]


class BenchPanel(Panel):
    """``chosen`` carries the setup the hand made, ``complained`` what is wrong with a sentence typed."""

    chosen = pyqtSignal(object)
    complained = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setup = BenchSetup()
        self.requirement: Requirement | None = None
        self.column.addWidget(label("Bench", "title"))
        # One column that scrolls: a small screen has no room for all of it at once.
        self.scroller = Scroller()
        self.column.addWidget(self.scroller, 1)
        place = self.scroller.column
        place.setSpacing(5)
        place.addWidget(label("What goes in", "strong"))
        self.rows: list[Figure] = []
        self.parts = QVBoxLayout()
        self.parts.setSpacing(4)
        place.addLayout(self.parts)
        self.add = QPushButton("Add a part")
        self.menu = QMenu(self.add)
        for title in STARTS:
            self.menu.addAction(title, partial(self._on_add, title))
        self.menu.addSeparator()
        self.menu.addAction("A recording…", self._on_recording)
        self.add.setMenu(self.menu)
        place.addWidget(self.add)
        row = QHBoxLayout()
        row.addWidget(label("for"))
        self.samples = Figure(lambda text: check_length(_whole(text), 1), "samples")
        self.samples.typed.connect(lambda text: self._emit(samples=_whole(text)))
        row.addWidget(self.samples)
        row.addWidget(label("samples, seed"))
        self.seed = Figure(lambda text: check_length(None, _whole(text)), "seed")
        self.seed.typed.connect(lambda text: self._emit(seed=_whole(text)))
        row.addWidget(self.seed)
        row.addStretch(1)
        place.addLayout(row)
        place.addWidget(label("What it goes through", "strong"))
        self.boxes: dict[str, QCheckBox] = {}
        for name in (*MODELS, *TOOLS, PINS):
            box = QCheckBox(TITLES[name])
            box.setToolTip(TIPS.get(name, ""))
            box.clicked.connect(self._on_box)
            self.boxes[name] = box
            place.addWidget(box)
        row = QHBoxLayout()
        row.addWidget(label("and a moving average of"))
        self.average = Figure(_check_average, "length of the moving average")
        self.average.typed.connect(lambda text: self._emit(average=_average(text)))
        row.addWidget(self.average)
        row.addStretch(1)
        place.addLayout(row)
        place.addWidget(label("What must come out", "strong"))
        self.asks = QVBoxLayout()
        self.asks.setSpacing(2)
        place.addLayout(self.asks)
        self.ask_rows: list[Figure] = []
        for figure in (self.samples, self.seed, self.average):
            figure.complained.connect(self.complained)

    def show_setup(self, setup: BenchSetup, requirement: Requirement) -> None:
        """What stands on the bench."""
        before = parts_of(signal_of(self.setup, self.requirement)) if self.requirement is not None else []
        self.setup, self.requirement = setup, requirement
        parts = parts_of(signal_of(setup, requirement))
        if parts != before or not self.rows:
            self._rebuild(parts)
        for figure in self.rows:
            if not figure.hasFocus():
                figure.setCursorPosition(0)  # the kind is read first, not the level
        self.samples.show_text(str(setup.samples))
        self.seed.show_text(str(setup.seed))
        self.average.show_text(str(setup.average) if setup.average else "none")
        for name, box in self.boxes.items():
            box.setChecked(name in setup.through)
        self._show_asks()

    def _show_asks(self) -> None:
        """A row for each limit, and one to type another into."""
        words = [*self.setup.asks, ""] if len(self.setup.asks) < MOST_ASKS else [*self.setup.asks]
        while len(self.ask_rows) < len(words):
            figure = Figure(self._check_ask, f"what must come out, {len(self.ask_rows) + 1}")
            figure.setMinimumWidth(40)
            figure.setPlaceholderText(EXAMPLES[len(self.ask_rows) % len(EXAMPLES)])
            figure.typed.connect(partial(self._on_ask, len(self.ask_rows)))
            figure.complained.connect(self.complained)
            self.ask_rows.append(figure)
            self.asks.addWidget(figure)
        for k, figure in enumerate(self.ask_rows):
            figure.setVisible(k < len(words))
            if k < len(words):
                figure.show_text(words[k])
                if not figure.hasFocus():
                    figure.setCursorPosition(0)
                figure.setToolTip(words[k] or "a limit on a figure of the bit-true run, such as " + ", ".join(EXAMPLES))

    def _check_ask(self, text: str) -> None:
        assert self.requirement is not None
        if text.strip():
            ask_from(text, self.requirement.input_rate_hz)

    def _on_ask(self, place: int, text: str) -> None:
        assert self.requirement is not None
        asks = list(self.setup.asks)
        asks[place : place + 1] = [ask_from(text, self.requirement.input_rate_hz).sentence] if text.strip() else []
        self._emit(asks=tuple(asks))

    def _rebuild(self, parts: list[str]) -> None:
        clear_layout(self.parts)
        self.rows = []
        for index, part in enumerate(parts):
            line = QWidget()
            row = QHBoxLayout(line)
            row.setContentsMargins(0, 0, 0, 0)
            row.setSpacing(4)
            figure = Figure(self._check_part, f"part {index + 1} of the signal")
            figure.setMinimumWidth(40)
            figure.show_text(part)
            figure.setCursorPosition(0)
            figure.setToolTip(part)
            figure.typed.connect(partial(self._on_part, index))
            figure.complained.connect(self.complained)
            self.rows.append(figure)
            row.addWidget(figure, 1)
            remove = QToolButton()
            remove.setText("✕")
            remove.setObjectName("quiet")
            remove.setAccessibleName(f"remove part {index + 1}")
            remove.setEnabled(len(parts) > 1)
            remove.clicked.connect(partial(self._on_remove, index))
            row.addWidget(remove)
            self.parts.addWidget(line)

    def _parts(self) -> list[str]:
        assert self.requirement is not None
        return parts_of(signal_of(self.setup, self.requirement))

    def _check_part(self, text: str) -> None:
        assert self.requirement is not None
        signal_from_sentence(text, self.requirement.input_rate_hz)

    def _on_part(self, index: int, text: str) -> None:
        parts = self._parts()
        parts[index : index + 1] = parts_of(text)
        self._emit(signal=" + ".join(parts))

    def _on_remove(self, index: int, *_: object) -> None:
        parts = self._parts()
        del parts[index]
        self._emit(signal=" + ".join(parts))

    def _on_add(self, title: str) -> None:
        assert self.requirement is not None
        rate = self.requirement.input_rate_hz
        named = {"quarter": rate / 4, "low": rate / 50, "high": rate / 2}
        words = STARTS[title].format(**{key: frequency_text(float(f"{hz:.3g}")) for key, hz in named.items()})
        self._emit(signal=" + ".join([*self._parts(), words]))

    def _on_recording(self) -> None:
        kinds = "Recordings (*.wav *.flac *.csv *.tsv *.txt);;All files (*)"
        path, _ = QFileDialog.getOpenFileName(self, "A recording", str(Path.home()), kinds)
        if path:
            self.add_recording(path)

    def add_recording(self, path: str) -> None:
        """A recording as one more part; of a table with several columns one is picked."""
        words = f'recording "{path}"'
        if Path(path).suffix.lower() not in SOUND:
            try:
                sheet = first_rows(Path(path))
            except CombeError as error:
                self.complained.emit(error.sentence())
                return
            if len(sheet.names) > 1:
                dialog = RecordingDialog(Path(path), sheet, self.window())
                if dialog.exec() != QDialog.DialogCode.Accepted:
                    return
                words = dialog.sentence
        self._emit(signal=" + ".join([*self._parts(), words]))

    def _on_box(self, *_: object) -> None:
        self._emit(through=tuple(name for name, box in self.boxes.items() if box.isChecked()) or ("ideal",))

    def _emit(self, **changes: object) -> None:
        self.chosen.emit(with_bench(self.setup, **changes))


def _whole(text: str) -> int:
    word = text.strip().replace(" ", "")
    if not word.isdigit() or len(word) > 12:
        raise FileError(f'"{text.strip()}" is not a whole number')
    return int(word)


def _average(text: str) -> int:
    return 0 if text.strip().lower() in ("", "none", "0") else _whole(text)


def _check_average(text: str) -> None:
    if _average(text) > 65_536:
        raise CombeError("a moving average is at most 65536 long")
