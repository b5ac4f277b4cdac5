"""Contenders: what could do it, cheapest first; one click takes one."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from combe.app.widgets.parts import Panel, Row, Scroller, Verdict, clear_layout, label, set_role, worst_verdict
from combe.design.contenders import Contender, ranked
from combe.project.document import DesignChoice
from combe.requirement import Requirement
from combe.requirement.quantities import duration_text, level_text, short


class ContendersPanel(Panel):
    """``picked`` carries the design choice a contender stands for."""

    picked = pyqtSignal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.rows: list[tuple[Contender, Row]] = []
        self.column.addWidget(label("Contenders", "title"))
        self.summary = label("", "muted", wrap=True)
        self.column.addWidget(self.summary)
        self.notes = label("", "amber", wrap=True)
        self.notes.hide()
        self.column.addWidget(self.notes)
        self.scroller = Scroller()
        self.column.addWidget(self.scroller, 1)
        self._key: object = None

    def show_notes(self, notes: tuple[str, ...]) -> None:
        """What the chosen design has to say of itself."""
        self.notes.setText("\n".join(note[:1].upper() + note[1:] + "." for note in notes))
        self.notes.setVisible(bool(notes))

    def show_trouble(self, sentence: str) -> None:
        """Why there is nothing to line up."""
        self._key = None
        clear_layout(self.scroller.column)
        self.rows = []
        set_role(self.summary, "clay")
        self.summary.setText(sentence)

    def show_contenders(
        self, found: list[Contender], requirement: Requirement, chosen: DesignChoice, order: int | None
    ) -> None:
        """Line them up."""
        key = (tuple((c.order, c.symmetry, c.spare_db) for c in found), requirement.sample_rate_hz, chosen, order)
        if key == self._key:
            return
        self._key = key
        clear_layout(self.scroller.column)
        self.rows = []
        set_role(self.summary, "muted")
        designed = [c for c in found if c.design is not None]
        kept = sum(1 for c in designed if c.keeps)
        self.summary.setText(f"cheapest first · {kept} of {len(designed)} keep the brief" if designed else "")
        for contender in ranked(designed):
            row = self._row(contender, requirement)
            row.set_chosen(contender.order == order and contender.symmetry == chosen.symmetry)
            row.picked.connect(partial(self._on_picked, contender))
            self.scroller.column.addWidget(row)
            self.rows.append((contender, row))
        for contender in found:
            if contender.design is None:
                self.scroller.column.addWidget(label(contender.reason, "clay", wrap=True))

    def _row(self, contender: Contender, requirement: Requirement) -> Row:
        assert contender.cost is not None and contender.delay is not None
        row = Row()
        head = QHBoxLayout()
        head.setSpacing(6)
        mark = Verdict(11)
        mark.show_verdict(worst_verdict(contender.lines))
        head.addWidget(mark)
        head.addWidget(label(f"{contender.order + 1} taps", "strong"))
        head.addStretch(1)
        spare = contender.spare_db or 0.0
        head.addWidget(
            label(
                f"{'+' if spare >= 0 else ''}{level_text(spare, 3)}",
                {"kept": "moss", "close": "amber", "missed": "clay"}[worst_verdict(contender.lines)],
            )
        )
        row.column.addLayout(head)
        seconds = contender.delay.mean / requirement.sample_rate_hz
        delay = (
            f"{short(contender.delay.mean, 6)} samples" if requirement.sample_rate_hz <= 2 else duration_text(seconds)
        )
        row.column.addWidget(label(f"{contender.cost.multiplies} multiplies · delay {delay}", "muted"))
        words = ["equiripple"]
        if contender.is_shortest and contender.symmetry == 1:
            words.append("the shortest")
        if contender.symmetry == -1:
            words.append("phase turned 90°")
        row.column.addWidget(label(" · ".join(words), "muted"))
        row.setAccessibleName(f"{contender.order + 1} taps, spare {spare:.3f} dB")
        return row

    def _on_picked(self, contender: Contender) -> None:
        order = None if contender.is_shortest else contender.order
        self.picked.emit(DesignChoice(contender.method, order, contender.symmetry))
