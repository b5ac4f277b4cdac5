"""A change of rate taken apart: its stages as boxes, each alone and all together before anything folds, taps by phase."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QStackedWidget, QVBoxLayout

from combe.app.pages.page import Page, Scene
from combe.app.pages.sheet import WAYS, SheetPage
from combe.app.plots.axes import Plot
from combe.app.plots.curve import Curve
from combe.app.plots.others import SidePlot
from combe.app.widgets.parts import label
from combe.app.widgets.stage_boxes import StageRow
from combe.designing.rates.parts import before_folding, phase_table, stage_parts
from combe.errors import CombeError
from combe.ledger.goodness import Table
from combe.realization.cic import Cic
from combe.realization.network import Network
from combe.realization.stages import CHANGING, Realization, TapSum
from combe.realization.words import register_words
from combe.rounding.polynomials import integer_branches

BEFORE, PHASES = "before folding", "phases"
ROLES = ("ochre", "moss", "heather", "clay", "muted", "ink")


class StagesPage(Page):
    """Boxes above; below them curves or the table."""

    def __init__(self) -> None:
        super().__init__()
        self.row = StageRow()
        self.side = SidePlot("stages")
        self.sheet = SheetPage("taps by phase")
        self.stack = QStackedWidget()
        self.stack.addWidget(self.side)
        self.stack.addWidget(self.sheet)
        self.empty = label("", "muted", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.row)
        column.addWidget(self.empty)
        column.addWidget(self.stack, 1)
        self.curves: list[Curve] = []
        self._shown: object = None

    def show_scene(self, scene: Scene) -> None:
        """Other stages, or other integers for them."""
        ideal = scene.results.ideal
        realization = scene.results.rounded.realization if scene.results.rounded is not None else None
        stages = ideal.design.stages if ideal is not None else ()
        words = (
            ""
            if stages
            else "The rate stays as it is here: a line “Output at” in the brief changes it."
            if ideal is not None
            else scene.trouble("ideal")
        )
        for part in (self.row, self.stack):
            part.setVisible(bool(stages))
        self.empty.setVisible(not stages)
        self.empty.setText(words)
        self.side.show_requirement(scene.requirement, scene.counted)
        shown = (stages, realization)
        if shown == self._shown:
            return
        self._shown = shown
        self.curves = []
        if ideal is None or not stages:
            self.side.show_curves([])
            self.sheet.fill(Table((), ()))
            return
        integers, formats = integers_of(realization, len(stages))
        roles = [ROLES[k % len(ROLES)] for k in range(len(stages))]
        self.row.boxes.show_parts(stage_parts(stages, scene.requirement.input_rate_hz), roles, formats)
        self.sheet.fill(phase_table(stages, integers), figures=True)
        try:
            alone = before_folding(stages)
        except CombeError as error:
            self.told.emit(error.sentence())
            alone = ()
        if len(alone) > 1:
            self.curves = [Curve(f"stage {k + 1}", each, roles[k], 1.3) for k, each in enumerate(alone)]
        self.curves.append(Curve("all of them" if len(alone) > 1 else "the stage", ideal.design.filter, "river", 2.0))
        self.side.show_curves(self.curves)

    def modes(self) -> Sequence[str]:
        """Curves or taps; copying where there is a table."""
        return BEFORE, PHASES, *(f"copy as {way}" for way in WAYS)

    @property
    def mode(self) -> str:
        """Which of them."""
        return PHASES if self.stack.currentWidget() is self.sheet else BEFORE

    def set_mode(self, mode: str) -> None:
        """Another one, or the table on the clipboard."""
        if mode in (BEFORE, PHASES):
            self.stack.setCurrentWidget(self.sheet if mode == PHASES else self.side)
        else:
            self.sheet.copy_as(mode.removeprefix("copy as "))
            self.told.emit(f"taps by phase are on the clipboard as {mode.removeprefix('copy as ')}")

    def legend(self) -> Sequence[Curve] | None:
        """Each stage's stroke."""
        return self.curves if self.mode == BEFORE else ()

    @property
    def plot(self) -> Plot | None:
        """The plot, where it is shown."""
        return self.side if self.mode == BEFORE else None

    def copy(self) -> str:
        """The table as text, or the plot."""
        return self.sheet.copy() if self.mode == PHASES else super().copy()

    def set_log(self, is_log: bool) -> None:
        """Frequencies by decades."""
        self.side.set_log(is_log)

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.side.dress()
        self.row.boxes.update()


def integers_of(realization: Realization | None, count: int) -> tuple[list[Sequence[int]], list[str]]:
    """Integer taps of each stage and the format they have; nothing where the program has another number of stages than the design."""
    found = [stage for stage in realization.stages if isinstance(stage, CHANGING)] if realization is not None else []
    if len(found) != count:
        return [], []
    pairs = [_integers(stage) for stage in found]
    return [values for values, _ in pairs], [words for _, words in pairs]


def _integers(stage: TapSum | Cic | Network) -> tuple[Sequence[int], str]:
    if isinstance(stage, TapSum):
        return stage.coefficients, str(stage.coefficient)
    if isinstance(stage, Cic):
        return (), register_words(stage)
    if stage.phase is not None:
        branches = integer_branches(stage)
        # The point of every power stands elsewhere.
        widths = dict.fromkeys(entry.bits for entry in stage.coefficient_formats)
        return [
            value for branch in branches for value in branch
        ], f"{' and '.join(map(str, widths))} bits" if widths else ""
    # Even before odd, whatever order they are computed in.
    nodes = sorted((node for node in stage.nodes if node.name[0] in "eo"), key=lambda node: node.name[0] == "o")
    products = [node.terms[0] for node in nodes]
    return [term.coefficient for term in products], str(products[0].format) if products else ""
