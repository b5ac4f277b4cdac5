"""Contenders: how the filter is designed, and every method that could do it, cheapest first; one click takes one."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from combe.app.widgets.contender_row import ContenderRow
from combe.app.widgets.design_bar import DesignBar
from combe.app.widgets.hankel_chart import HankelChart
from combe.app.widgets.parts import (
    Panel,
    Row,
    Scroller,
    clear_layout,
    label,
    line_up,
    set_role,
    worst_verdict,
)
from combe.designing.contenders import Contender, ranked
from combe.designing.designed import Design
from combe.designing.methods import ROW, method_shown
from combe.designing.nearest import Relaxation
from combe.designing.rates.stages import plan_words
from combe.designing.task import CHEAPEST_PLAN
from combe.ledger import worst_line
from combe.ledger.words import margin_words, signed_margin
from combe.project.document import DesignChoice
from combe.requirement import Requirement
from combe.requirement.quantities import duration_text, short
from combe.responses.allpass_pair import ALLPASS_STRUCTURES

REASON_WIDTH = 216


class ContendersPanel(Panel):
    """``picked`` carries the design choice a contender stands for, ``relaxed`` a requirement nearby."""

    picked = pyqtSignal(object)
    relaxed = pyqtSignal(object, str)
    holding_wanted = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.rows: list[tuple[Contender, ContenderRow]] = []
        self.relaxation_rows: list[tuple[Relaxation, Row]] = []
        self.column.addWidget(label("Design", "title"))
        self.bar = DesignBar()
        self.bar.chosen.connect(self.picked)
        self.bar.holding_wanted.connect(self.holding_wanted)
        self.column.addWidget(self.bar)
        self.complaint = label("", "clay", wrap=True)
        self.complaint.hide()
        self.bar.complained.connect(self._on_complaint)
        self.column.addWidget(self.complaint)
        self.notes = label("", "muted", wrap=True)
        self.notes.hide()
        self.column.addWidget(self.notes)
        self.hankel = HankelChart()
        self.hankel.order_picked.connect(self._on_hankel)
        self.hankel.hide()
        self.column.addWidget(self.hankel)
        self.column.addWidget(label("Contenders", "title"))
        self.summary = label("", "muted", wrap=True)
        self.column.addWidget(self.summary)
        self.scroller = Scroller(keeps_bar=True)
        self.column.addWidget(self.scroller, 1)
        self.near = QWidget()
        column = QVBoxLayout(self.near)
        column.setContentsMargins(0, 0, 0, 6)
        column.setSpacing(8)
        self.near.hide()
        self.without = label("without a filter", "muted")
        self._made: dict[object, tuple[Contender, QWidget]] = {}
        self._key: object = None
        self._trouble = ""

    def show_design(self, design: Design | None, choice: DesignChoice, requirement: Requirement, counted: str) -> None:
        """The sentence above, and what the chosen design has to say of itself."""
        self.bar.show_choice(choice, requirement, design.order if design else None, counted)
        notes = design.notes if design is not None else ()
        self.notes.setText("\n".join(note[:1].upper() + note[1:] + "." for note in notes))
        self.notes.setVisible(bool(notes))
        values = design.singular_values if design is not None else ()
        self.hankel.setVisible(bool(values))
        self.hankel.show_values(values, design.order if design else 0)

    def show_trouble(self, sentence: str) -> None:
        """Why the chosen method has no filter; the others stay in line below."""
        self._trouble = sentence
        self._tell_summary([])

    def clear_trouble(self) -> None:
        """The chosen method has a filter again."""
        self._trouble = ""

    def show_contenders(
        self, found: Sequence[Contender], requirement: Requirement, chosen: DesignChoice, order: int | None,
        relaxations: Sequence[Relaxation] | None = None,
    ) -> None:  # fmt: skip
        """Line them up."""
        relaxations = relaxations or []
        key = (
            tuple((c.method, c.order, c.symmetry, c.spare_db) for c in found), requirement.sample_rate_hz, chosen,
            order, tuple(r.sentence for r in relaxations), self._trouble,
        )  # fmt: skip
        if key == self._key:
            return
        self._key = key
        designed = [c for c in found if c.design is not None]
        self._tell_summary(designed)
        self._show_relaxations([] if any(c.keeps for c in designed) else relaxations)
        self.rows = [(contender, self._row_of(contender, requirement)) for contender in ranked(designed)]
        for contender, row in self.rows:
            row.set_chosen(
                contender.order == order
                and contender.method == method_shown(chosen)
                and contender.symmetry == chosen.symmetry
            )
        without = [self._reason_of(contender) for contender in found if contender.design is None]
        self.without.setVisible(bool(without))
        stay = [self.near, *(row for _, row in self.rows), self.without, *without]
        line_up(self.scroller.column, stay)
        shown = {_place_of(c) for c in found}
        self._made = {place: made for place, made in self._made.items() if place in shown}

    def _row_of(self, contender: Contender, requirement: Requirement) -> ContenderRow:
        """The contender's row, made once: others arrive one by one, and forty rows are felt."""
        made = self._made.get(id(contender))
        if made is None or not isinstance(made[1], ContenderRow):
            row = self._row(contender, requirement)
            row.picked.connect(partial(self._on_picked, contender))
            self._made[id(contender)] = made = (contender, row)
        assert isinstance(made[1], ContenderRow)
        return made[1]

    def _reason_of(self, contender: Contender) -> QWidget:
        """Why a method has no filter."""
        place = _place_of(contender)
        if place not in self._made:
            words = label(f"{contender.method}: {contender.reason.split('; ')[0]}", "muted", wrap=True)
            words.setToolTip(contender.reason)
            words.setMinimumHeight(words.heightForWidth(REASON_WIDTH))
            self._made[place] = (contender, words)
        return self._made[place][1]

    def _tell_summary(self, designed: Sequence[Contender]) -> None:
        if self._trouble:
            set_role(self.summary, "clay")
            self.summary.setText(self._trouble)
            return
        set_role(self.summary, "muted")
        kept = sum(1 for c in designed if c.keeps)
        self.summary.setText(f"cheapest first · {kept} of {len(designed)} keep the brief" if designed else "")

    def _show_relaxations(self, relaxations: Sequence[Relaxation]) -> None:
        if [relaxation.sentence for relaxation in relaxations] == [known.sentence for known, _ in self.relaxation_rows]:
            return
        column = self.near.layout()
        assert isinstance(column, QVBoxLayout)
        clear_layout(column)
        self.relaxation_rows = []
        self.near.setVisible(bool(relaxations))
        if relaxations:
            column.addWidget(label("nothing keeps this; nearest possible", "amber"))
        for relaxation in relaxations:
            row = Row()
            sentence = relaxation.sentence
            row.column.addWidget(label(sentence[:1].upper() + sentence[1:] + ".", "", wrap=True))
            row.setToolTip("Take this into the brief; undo brings the old one back")
            row.picked.connect(partial(self.relaxed.emit, relaxation.requirement, relaxation.method))
            column.addWidget(row)
            self.relaxation_rows.append((relaxation, row))

    def _row(self, contender: Contender, requirement: Requirement) -> ContenderRow:
        assert contender.cost is not None and contender.delay is not None and contender.design is not None
        worst, verdict = worst_line(contender.lines), worst_verdict(contender.lines)
        size, cost = contender.design.size_words, contender.cost
        phase = "phase turned 90°" if contender.symmetry == -1 else f"{contender.phase} phase"
        lines = [
            (f"{size} · {short(cost.multiplies, 4)} multiplies · {short(cost.delays, 6)} words", "muted"),
            (f"delay {_delay_words(contender, requirement)} · {phase}", "muted"),
        ]
        if verdict == "missed" and (worst is None or worst.margin >= 0):
            lines.insert(0, (margin_words(contender.lines), "clay"))
        how = [f"{cost.multiply_words}: the structure {cost.structure}"] if cost.structure in ALLPASS_STRUCTURES else []
        margin = f"{signed_margin(worst.margin)} dB" if worst is not None else ""
        row = ContenderRow(contender.method, verdict, margin, lines, "\n".join([*how, *contender.design.notes]))
        row.setAccessibleName(f"{contender.method}, {size}, {margin_words(contender.lines)}")
        return row

    def _on_picked(self, contender: Contender) -> None:
        if contender.method == ROW and contender.design is not None:
            # A plan of the brief: the cheapest, or the very one.
            plan = CHEAPEST_PLAN if contender.is_shortest else plan_words(contender.design.stages)
            self.picked.emit(DesignChoice("equiripple", plan=plan))
            return
        order = None if contender.is_shortest else contender.order
        self.picked.emit(DesignChoice(contender.method, order, contender.symmetry))

    def _on_hankel(self, order: int) -> None:
        self.picked.emit(DesignChoice("balanced-truncation", order, settings=self.bar.choice.settings))

    def _on_complaint(self, sentence: str) -> None:
        self.complaint.setText(sentence)
        self.complaint.setVisible(bool(sentence))


def _place_of(contender: Contender) -> object:
    """What its row is kept under: reasons stay where they are from race to race, filters hardly ever do."""
    return (contender.method, contender.symmetry, contender.reason) if contender.design is None else id(contender)


def _delay_words(contender: Contender, requirement: Requirement) -> str:
    """One delay, or from the least to the most over the passbands."""
    assert contender.delay is not None
    least, most, rate = contender.delay.least, contender.delay.most, requirement.sample_rate_hz
    if rate <= 2:
        return short(least, 4) if most - least < 1e-6 * most else f"{short(least, 3)}–{short(most, 3)}"
    if most - least < 1e-6 * most:
        return duration_text(least / rate)
    low, high = duration_text(float(f"{least / rate:.3g}")), duration_text(float(f"{most / rate:.3g}"))
    if low.split(" ")[-1] == high.split(" ")[-1]:
        low = low.split(" ")[0]
    return f"{low}–{high}"
