"""The requirement as sentences, every figure typed over in place, each mistake told under its line."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QInputDialog, QLabel, QMenu, QToolButton, QWidget

from combe.app.theme.marks import icon
from combe.app.widgets.figure import Figure
from combe.app.widgets.flow import Flow
from combe.app.widgets.parts import Elided, Panel, Row, Scroller, Verdict, label, line_up, verdict_of
from combe.app.widgets.rate_row import RateRow
from combe.app.widgets.told_row import ToldRow
from combe.designing.prices import Price
from combe.errors import CombeError
from combe.ledger import Line
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text, level_text, parse_sample_rate, rate_text, short
from combe.requirement.rate_sentences import with_new_rate
from combe.requirement.sentences import (
    band_sentence,
    turned_band,
    whole_words,
    with_band_name,
    with_figure,
    with_new_band,
    with_other_phase,
    with_sample_rate,
    with_whole,
    with_whole_figure,
    without_band,
)

ADD_WHOLE = {
    "max_delay_s": ("Limit the delay", 1e-3),
    "max_delay_spread_s": ("Limit the spread of the delay", 1e-5),
    "max_multiplies": ("Limit the multiplies", 64),
    "max_cycles": ("Limit a processor's cycles", 200),
    "max_multipliers": ("Limit a device's multipliers", 8),
}
WHOLE_SENTENCES = {
    "max_delay_s": ("Delay", "at most"),
    "max_delay_spread_s": ("Delay spread", "at most"),
    "max_multiplies": ("Spend", "multiplies at most,"),
    "max_cycles": ("Spend", "cycles a sample at most,"),
    "max_multipliers": ("Use", "hardware multipliers at most,"),
}


WORTH_TELLING = 0.05
"""Orders a figure has to save, moved as far as its price was found by, to be told."""


def price_words(price: Price, thing: str, rate_hz: float) -> str:
    """``12 kHz edge: 9 taps per kHz``; empty where the figure hardly matters."""
    if abs(price.saved) < WORTH_TELLING:
        return ""
    edge = {"start": "left edge", "stop": "right edge"}.get(price.figure.name, price.figure.name)
    if price.figure.unit == "db":
        step, unit = (1.0, "dB") if price.figure.name == "attenuation" else (0.1, "0.1 dB")
    elif rate_hz <= 2:
        step, unit = 0.01, "0.01"
    else:
        step, unit = next((size, name) for size, name in PER if rate_hz >= 4 * size)
    return f"{edge} {short(price.per_unit * step, 2)} {thing} per {unit}"


PER = ((1e9, "GHz"), (1e6, "MHz"), (1e3, "kHz"), (1.0, "Hz"), (0.0, "Hz"))


class BandRow(ToldRow):
    """One band: its sentence, and what became of it."""

    typed = pyqtSignal(str, str)
    menu_wanted = pyqtSignal(object)

    def __init__(self, index: int, requirement: Requirement) -> None:
        super().__init__()
        self.index = index
        self.requirement = requirement
        self.figures: dict[str, Figure] = {}
        words = QWidget()
        flow = Flow(words, 3)
        self._texts: list[QLabel] = []
        for word in band_sentence(requirement.bands[index], requirement):
            if word.figure:
                figure = Figure(partial(self._check, word.figure), f"{word.figure} of {requirement.bands[index].name}")
                figure.typed.connect(partial(self.typed.emit, word.figure))
                figure.complained.connect(self._on_complaint)
                self.figures[word.figure] = figure
                flow.addWidget(figure)
            else:
                text = label(word.text, "strong" if not self._texts else "")
                self._texts.append(text)
                flow.addWidget(text)
        self.column.addWidget(words)
        self.more = QToolButton()
        self.more.setObjectName("quiet")
        self.more.setFixedSize(26, 22)
        self.more.setIcon(icon("more", "muted"))
        self.more.setAccessibleName(f"what can be done with {requirement.bands[index].name}")
        self.more.setToolTip("Turn, rename or remove this line")
        self.more.clicked.connect(lambda: self.menu_wanted.emit(self.more))
        self.mark = Verdict(11)
        self.story = label("", "muted", wrap=True)
        self.price = label("", "muted", wrap=True)
        self.price.hide()
        bottom = QHBoxLayout()
        bottom.setSpacing(6)
        bottom.addWidget(self.mark)
        bottom.addWidget(self.story, 1)
        bottom.addWidget(self.more)
        self.column.addLayout(bottom)
        self.column.addWidget(self.price)
        self._story = ("muted", "")

    def fits(self, requirement: Requirement) -> bool:
        """Whether the band at its place has the same sentence, whatever its figures and its name."""
        if self.index >= len(requirement.bands):
            return False
        words = band_sentence(requirement.bands[self.index], requirement)
        return [word.figure for word in words if word.figure] == list(self.figures)

    def adopt(self, requirement: Requirement) -> None:
        """Speak of another band: a row is dear to make, and a filter that is turned to mostly has bands like those before."""
        self.requirement = requirement
        name = requirement.bands[self.index].name
        for key, figure in self.figures.items():
            figure.setAccessibleName(f"{key} of {name}")
        self.more.setAccessibleName(f"what can be done with {name}")
        self._story = ("muted", "")
        self.story.setText("")
        self.mark.show_verdict("unknown")
        self.price.hide()

    def show_requirement(self, requirement: Requirement, counted: str) -> None:
        """Other figures in the same sentence."""
        self.requirement = requirement
        for word in band_sentence(requirement.bands[self.index], requirement, counted):
            if word.figure:
                self.figures[word.figure].show_text(word.text)
        self._texts[0].setText("Keep" if requirement.bands[self.index].is_passband else "Block")

    def show_lines(self, lines: Sequence[Line], counted: str) -> None:
        """The worst of the band's lines, told under the sentence."""
        name = self.requirement.bands[self.index].name
        worst = min(lines, key=lambda line: line.margin, default=None)
        if worst is None:
            self.mark.show_verdict("unknown")
            self._tell("muted", name)
            return
        verdict = verdict_of(worst)
        self.mark.show_verdict(verdict)
        place = frequency_text(float(f"{worst.at_hz or 0:.4g}"), self.requirement.sample_rate_hz, counted)
        digits = 2 if abs(worst.margin) >= 0.1 else 3
        figure = level_text(abs(worst.margin), digits)
        word = f"missed by {figure}" if worst.margin < 0 else f"{figure} spare"
        self._tell({"kept": "muted", "close": "amber", "missed": "clay"}[verdict], f"{name} · {word} at {place}")

    def show_prices(self, found: Sequence[Price], thing: str) -> None:
        """What a little more or less of each figure of the line would save or cost."""
        rate = self.requirement.sample_rate_hz
        mine = [price for price in found if price.figure.band_index == self.index]
        words = [text for text in (price_words(price, thing, rate) for price in mine) if text]
        self.price.setText(" · ".join(words) or "costs nothing as it stands")
        self.price.setToolTip("What relaxing this line saves, found by designing beside it; tightening costs as much.")
        self.price.setVisible(bool(mine))

    def _check(self, figure: str, text: str) -> None:
        with_figure(self.requirement, self.index, figure, text)


class BriefPanel(Panel):
    """All sentences of a requirement. ``asked`` carries a changed requirement and the name of the change."""

    asked = pyqtSignal(object, str)
    renamed = pyqtSignal(str)
    band_picked = pyqtSignal(int)
    planned = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.rate_row: RateRow | None = None
        self.column.setContentsMargins(8, 12, 8, 8)
        self.requirement: Requirement | None = None
        self.counted = "hz"
        self.rows: list[BandRow] = []
        self.whole: dict[str, tuple[Row, Figure]] = {}
        self._shape: object = None
        self.title = Elided("", "title")
        self.column.addWidget(self.title)
        self.rate = Figure(parse_sample_rate, "sample rate")
        self.rate.typed.connect(self._on_rate)
        self.rate_note = label("", "clay", wrap=True)
        self.rate_note.hide()
        self.rate.complained.connect(lambda text: (self.rate_note.setText(text), self.rate_note.setVisible(bool(text))))
        top = QWidget()
        flow = Flow(top)
        flow.addWidget(label("Sampled at"))
        flow.addWidget(self.rate)
        self.phase = QToolButton()
        self.phase.setObjectName("quiet")
        self.phase.setToolTip("Whether only linear phase will do")
        self.phase.clicked.connect(self._on_phase)
        flow.addWidget(self.phase)
        self.column.addWidget(top)
        self.column.addWidget(self.rate_note)
        self.scroller = Scroller()
        self.column.addWidget(self.scroller, 1)
        self.add = QToolButton()
        self.add.setObjectName("quiet")
        self.add.setText("Add a line")
        self.add.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.add.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.add.setMenu(self._add_menu())
        self.column.addWidget(self.add)
        self.dress()

    def dress(self) -> None:
        """Icons in the theme's colours."""
        self.add.setIcon(icon("plus"))
        for row in self.rows:
            row.more.setIcon(icon("more", "muted"))
            row.mark.update()
        if self.rate_row is not None:
            self.rate_row.dress()

    def show_requirement(self, requirement: Requirement, counted: str = "hz", plan: str = "") -> None:
        """Other sentences, or other figures in the same ones."""
        self.requirement, self.counted = requirement, counted
        self.title.setText(requirement.name)
        self.rate.show_text(rate_text(requirement.input_rate_hz))
        self.phase.setText("linear phase" if requirement.phase == "linear" else "any phase")
        shape = (
            [(b.is_passband, b.name) for b in requirement.bands],
            [key for key, _ in whole_words(requirement)],
            requirement.rate is not None,
        )
        if shape != self._shape:
            self._shape = shape
            self._rebuild(requirement)
        for row in self.rows:
            row.show_requirement(requirement, counted)
        for key, words in whole_words(requirement):
            self.whole[key][1].show_text(words)
        if self.rate_row is not None and requirement.rate is not None:
            self.rate_row.show_rate(requirement, plan)

    def show_lines(self, lines: tuple[Line, ...], cost: str = "") -> None:
        """What became of each line; ``cost`` are the operations of stages that change the rate."""
        for row in self.rows:
            row.show_lines([line for line in lines if line.band_index == row.index], self.counted)
        if self.rate_row is not None:
            self.rate_row.show_lines([line for line in lines if line.band_index < 0 and line.band], cost)

    def show_prices(self, found: Sequence[Price], thing: str) -> None:
        """The price of each line."""
        for row in self.rows:
            row.show_prices(found, thing)

    def _rebuild(self, requirement: Requirement) -> None:
        before, kept = self.rows, self.whole
        self.rows, self.whole = [], {}
        for index, _ in enumerate(requirement.bands):
            if index < len(before) and before[index].fits(requirement):
                before[index].adopt(requirement)
                self.rows.append(before[index])
                continue
            row = BandRow(index, requirement)
            row.typed.connect(partial(self._on_typed, index))
            row.picked.connect(partial(self.band_picked.emit, index))
            row.menu_wanted.connect(partial(self._band_menu, index))
            self.rows.append(row)
        for key, _ in whole_words(requirement):
            self.whole[key] = kept[key] if key in kept else self._whole_row(key, requirement)
        if requirement.rate is None:
            self.rate_row = None
        elif self.rate_row is None:
            self.rate_row = RateRow()
            self.rate_row.asked.connect(lambda change, what: self._attempt(lambda: change(self._now()), what))
            self.rate_row.planned.connect(self.planned)
        first = [] if self.rate_row is None else [self.rate_row]
        line_up(self.scroller.column, [*first, *self.rows, *(row for row, _ in self.whole.values())])

    def _whole_row(self, key: str, requirement: Requirement) -> tuple[Row, Figure]:
        first, rest = WHOLE_SENTENCES[key]
        row = Row()
        line = QHBoxLayout()
        line.setSpacing(4)
        words = QWidget()
        flow = Flow(words)
        flow.addWidget(label(first, "strong"))
        flow.addWidget(label(rest))
        figure = Figure(lambda text, key=key: with_whole_figure(self.requirement or requirement, key, text), key)  # type: ignore[misc]
        flow.addWidget(figure)
        line.addWidget(words, 1)
        remove = QToolButton()
        remove.setObjectName("quiet")
        remove.setIcon(icon("remove", "muted"))
        remove.setToolTip("Remove this line")
        line.addWidget(remove)
        note = label("", "clay", wrap=True)
        note.hide()
        row.column.addLayout(line)
        row.column.addWidget(note)
        figure.complained.connect(lambda text: (note.setText(text), note.setVisible(bool(text))))
        figure.typed.connect(lambda text: self._whole(key, text))
        remove.clicked.connect(
            lambda: self._change(with_whole(self._now(), key, None), f"remove {first.lower()} limit")
        )
        return row, figure

    def _add_menu(self) -> QMenu:
        menu = QMenu(self)
        menu.addAction("A band", self.add_band)
        menu.addAction("Change the rate", self.change_rate)
        menu.addSeparator()
        for key, (words, start) in ADD_WHOLE.items():
            menu.addAction(words, partial(self._start_whole, key, start))
        return menu

    def add_band(self) -> None:
        """A band in the widest free stretch."""
        try:
            changed, index = with_new_band(self._now())
        except CombeError as error:
            self.rate_note.setText(error.sentence())
            self.rate_note.show()
            return
        self._change(changed, "add a band")
        self.rows[index].figures["start"].setFocus()

    def change_rate(self) -> None:
        """The output at another rate than the input, to be typed."""
        self._attempt(lambda: with_new_rate(self._now()), "change the rate")
        if self.rate_row is not None:
            self.rate_row.output.setFocus()

    def _start_whole(self, key: str, start: float) -> None:
        self._change(with_whole(self._now(), key, start), ADD_WHOLE[key][0].lower())

    def _band_menu(self, index: int, button: QToolButton) -> None:
        band = self._now().bands[index]
        menu = QMenu(self)
        turn = "Block it instead" if band.is_passband else "Keep it instead"
        menu.addAction(turn, lambda: self.turn(index))
        menu.addAction("Rename…", lambda: self._rename(index))
        menu.addSeparator()
        menu.addAction("Remove", lambda: self.remove(index))
        menu.exec(button.mapToGlobal(button.rect().bottomLeft()))

    def turn(self, index: int) -> None:
        """Keep a band instead of blocking it, or the other way round."""
        self._attempt(lambda: turned_band(self._now(), index), "turn a band")

    def remove(self, index: int) -> None:
        """Take a band out."""
        self._attempt(lambda: without_band(self._now(), index), "remove a band")

    def _rename(self, index: int) -> None:
        band = self._now().bands[index]
        name, accepted = QInputDialog.getText(self, "Rename", "Name of this band", text=band.name)
        if accepted and name.strip():
            self._attempt(lambda: with_band_name(self._now(), index, name), "rename a band")

    def _attempt(self, change: object, what: str) -> None:
        try:
            self._change(change(), what)  # type: ignore[operator]
        except CombeError as error:
            self.rate_note.setText(error.sentence())
            self.rate_note.show()

    def _now(self) -> Requirement:
        assert self.requirement is not None
        return self.requirement

    def _change(self, requirement: Requirement, what: str) -> None:
        self.rate_note.hide()
        self.asked.emit(requirement, what)

    def _on_typed(self, index: int, figure: str, text: str) -> None:
        self._attempt(lambda: with_figure(self._now(), index, figure, text), f"type {figure}")

    def _on_rate(self, text: str) -> None:
        self._attempt(lambda: with_sample_rate(self._now(), parse_sample_rate(text)), "type sample rate")

    def _whole(self, key: str, text: str) -> None:
        self._attempt(lambda: with_whole_figure(self._now(), key, text), "type a limit")

    def _on_phase(self) -> None:
        self._attempt(lambda: with_other_phase(self._now()), "choose phase")
