"""The sentence of a change of rate: the output's rate, what must be kept away, the plan, and what became of it."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QToolButton, QWidget

from combe.app.theme.marks import icon
from combe.app.widgets.figure import Figure
from combe.app.widgets.flow import Flow
from combe.app.widgets.parts import Verdict, label, verdict_of
from combe.app.widgets.told_row import ToldRow
from combe.designing.designed import Design
from combe.designing.rates.plans import plan_from
from combe.designing.rates.stages import cost_of_stages, plan_words
from combe.designing.task import ALLPASS_PLAN, POLYNOMIAL_PLAN
from combe.ledger import Line
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text, level_text, parse_attenuation, rate_text, short
from combe.requirement.rate_sentences import (
    FREE,
    with_other_protection,
    with_rate_level,
    with_ratio_text,
    without_rate,
)

LEVELS = {"alias_db": ("aliases", "down"), "image_db": ("images", "up")}
CHEAPEST = "cheapest"


class RateRow(ToldRow):
    """Emits ``asked`` with a function that changes the requirement and the name of the change, ``planned`` with a plan."""

    asked = pyqtSignal(object, str)
    planned = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.requirement: Requirement | None = None
        words = QWidget()
        flow = Flow(words, 3)
        flow.addWidget(label("Output", "strong"))
        flow.addWidget(label("at"))
        self.output = Figure(self._check_ratio, "rate of the output")
        self.output.typed.connect(
            lambda text: self.asked.emit(lambda now: with_ratio_text(now, text), "type the output's rate")
        )
        flow.addWidget(self.output)
        self.ratio = label("")
        flow.addWidget(self.ratio)
        self.levels: dict[str, tuple[QWidget, Figure]] = {}
        for key, (word, _) in LEVELS.items():
            name = label(f"{word} by")
            figure = Figure(_level_of, f"how far {word} are down")
            figure.typed.connect(lambda text, key=key: self._level(key, text))
            flow.addWidget(name)
            flow.addWidget(figure)
            self.levels[key] = name, figure
        flow.addWidget(label("clear of"))
        self.protect = QToolButton()
        self.protect.setObjectName("quiet")
        self.protect.setProperty("inline", True)
        # No higher than the words beside it, before and after it is dressed: the lines of a paragraph keep their height.
        self.protect.setFixedHeight(self.output.sizeHint().height())
        self.protect.setToolTip("Whether only passbands are kept clear, or all that the lower rate holds")
        self.protect.clicked.connect(lambda: self.asked.emit(with_other_protection, "choose what is kept clear"))
        flow.addWidget(self.protect)
        flow.addWidget(label("as"))
        self.plan = Figure(self._check_plan, "plan of stages")
        self.plan.setToolTip(
            "Stages in a row: cheapest, single, iir (half-bands of two allpasses), farrow (taps that follow polynomials), or factors such as "
            "2x2x2, cic4x2, iir2x2 or 2xfarrow80/147"
        )
        self.plan.typed.connect(lambda text: self.planned.emit("" if text.strip() == "single" else text.strip()))
        flow.addWidget(self.plan)
        self.words = words
        self.column.addWidget(words)
        self.mark = Verdict(11)
        self.story = label("", "muted", wrap=True)
        self.remove = QToolButton()
        self.remove.setObjectName("quiet")
        self.remove.setFixedSize(26, 22)
        self.remove.setAccessibleName("keep the rate as it is")
        self.remove.setToolTip("Remove this line: the output at the input's rate")
        self.remove.clicked.connect(lambda: self.asked.emit(without_rate, "remove the change of rate"))
        bottom = QHBoxLayout()
        bottom.setSpacing(6)
        bottom.addWidget(self.mark)
        bottom.addWidget(self.story, 1)
        bottom.addWidget(self.remove)
        self.column.addLayout(bottom)
        for figure in (self.output, self.plan, *(figure for _, figure in self.levels.values())):
            figure.complained.connect(self._on_complaint)
        self._story = ("muted", "")
        self.dress()

    def dress(self) -> None:
        """Icons in the theme's colours."""
        self.remove.setIcon(icon("remove", "muted"))
        self.mark.update()

    def show_rate(self, requirement: Requirement, plan: str) -> None:
        """Another change of rate."""
        self.requirement = requirement
        rate = requirement.rate
        assert rate is not None
        self.output.show_text(rate_text(requirement.output_rate_hz))
        self.ratio.setText(f"({rate.words}),")
        for key, (_, way) in LEVELS.items():
            for part in self.levels[key]:
                part.setVisible(getattr(rate, way) > 1)
            level = getattr(rate, key)
            self.levels[key][1].show_text(
                level_text(-level, 0 if level == round(level) else 1) if level is not None else FREE
            )
        self.protect.setText(rate.protect)
        self.plan.show_text(plan or "single")
        self._make_room()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Room for the sentence at another width."""
        super().resizeEvent(event)
        self._make_room()

    def _make_room(self) -> None:
        """Three lines and more: what a column gives a paragraph by itself is a little less than it takes."""
        flow = self.words.layout()
        if flow is not None:
            flow.invalidate()
            self.words.setMinimumHeight(flow.heightForWidth(self.words.width()))

    def show_lines(self, lines: Sequence[Line], cost: str) -> None:
        """The worst of what lands on passbands, and what the stages cost."""
        worst = min(lines, key=lambda line: line.margin, default=None)
        if worst is None or self.requirement is None:
            self.mark.show_verdict("unknown")
            self._tell("muted", cost)
            return
        verdict = verdict_of(worst)
        self.mark.show_verdict(verdict)
        place = frequency_text(float(f"{worst.at_hz or 0:.4g}"), self.requirement.sample_rate_hz)
        figure = level_text(abs(worst.margin), 2 if abs(worst.margin) >= 0.1 else 3)
        word = f"missed by {figure}" if worst.margin < 0 else f"{figure} spare"
        told = f"{worst.band.split(' of ')[0]} {word}, worst from {place}"
        self._tell({"kept": "muted", "close": "amber", "missed": "clay"}[verdict], f"{told} · {cost}" if cost else told)

    def _level(self, key: str, text: str) -> None:
        self.asked.emit(lambda now: with_rate_level(now, key, _level_of(text)), "type a level")

    def _check_ratio(self, text: str) -> None:
        if self.requirement is not None:
            with_ratio_text(self.requirement, text)

    def _check_plan(self, text: str) -> None:
        if (
            self.requirement is not None
            and self.requirement.rate is not None
            and text.strip() not in (CHEAPEST, ALLPASS_PLAN, POLYNOMIAL_PLAN, "single")
        ):
            rate = self.requirement.rate
            plan_from(text.strip(), rate.up, rate.down)


def _level_of(text: str) -> float | None:
    """An attenuation; nothing where it is free."""
    return None if text.strip() == FREE else parse_attenuation(text)


def stages_words(design: Design) -> str:
    """The stages, and what they cost per sample that comes in; empty where the rate stays."""
    if not design.stages:
        return ""
    cost = cost_of_stages(design.stages)
    return f"{plan_words(design.stages)}: {short(cost.multiplies, 4)} multiplies, {short(cost.adds, 4)} adds a sample"
