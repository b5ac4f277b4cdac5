"""Roots beside their response: tools on top, the plane left, the magnitude right, in the same frame."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QToolButton, QVBoxLayout

from combe.app.jobs import Errand
from combe.app.pages.page import Page, Scene
from combe.app.plots.axes import Plot
from combe.app.plots.curve import Curve
from combe.app.plots.mask import Mask
from combe.app.plots.roots import RootsPlot
from combe.app.plots.stroke import Stroke
from combe.app.theme.palette import THEME
from combe.app.widgets.parts import label
from combe.errors import CombeError
from combe.filters import Filter, Roots, rational_of
from combe.filters.by_hand import near_pairs, unlocked, without_pair
from combe.project import edits
from combe.requirement import Requirement
from combe.responses.curves import magnitude_curve
from combe.responses.evaluate import frequency_response, gain_db

TOOLS = (("move", "Move"), ("zero", "Add zeros"), ("pole", "Add poles"))


class RootsPage(Page):
    """Roots moved, added or taken out become the design."""

    def __init__(self) -> None:
        super().__init__()
        self.requirement: Requirement | None = None
        self.curves: Sequence[Curve] = ()
        self.counted = "hz"
        self.is_unlocked = False
        self.plane = RootsPlot()
        self._errand = Errand(is_patient=True)
        self._errand.arrived.connect(self._take)
        self.response = Plot("dB")
        self.limits = Mask()
        self.response.add(self.limits)
        self.line = Stroke()
        self.response.add(self.line)
        self.words = label("", "muted", wrap=True)
        self.near = label("", "amber", wrap=True)
        self.near.hide()
        top = QHBoxLayout()
        self.unlock = QToolButton()
        self.unlock.setObjectName("quiet")
        self.unlock.setText("Unlock as roots")
        self.unlock.setToolTip("Make the roots the design, to be moved by hand; undo brings the method back")
        self.unlock.clicked.connect(self.unlock_now)
        top.addWidget(self.unlock)
        self.group = QButtonGroup(self)
        self.tools: dict[str, QToolButton] = {}
        for name, text in TOOLS:
            button = QToolButton()
            button.setObjectName("tab")
            button.setText(text)
            button.setCheckable(True)
            button.clicked.connect(partial(self.take_tool, name))
            self.group.addButton(button)
            self.tools[name] = button
            top.addWidget(button)
        self.empty = QToolButton()
        self.empty.setObjectName("quiet")
        self.empty.setText("Empty plane")
        self.empty.setToolTip("Start from gain 1 and no roots: a notch is a zero and a pole")
        self.empty.clicked.connect(lambda: self._edit(Roots((), (), 1.0), "start from an empty plane"))
        top.addWidget(self.empty)
        top.addStretch(1)
        row = QHBoxLayout()
        row.addWidget(self.plane, 5)
        row.addWidget(self.response, 5)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(top)
        column.addLayout(row, 1)
        column.addWidget(self.words)
        column.addWidget(self.near)
        self.plane.edited.connect(self._on_edited)
        self.plane.released.connect(self.released)
        self.plane.unlock_wanted.connect(self.unlock_now)
        self.plane.told.connect(self.words.setText)
        self.response.pointed.connect(self._on_pointed)
        self.tools["move"].setChecked(True)

    def show_scene(self, scene: Scene) -> None:
        """The roots of the chosen filter, those of its rounded form behind."""
        requirement, counted = scene.requirement, scene.counted
        is_unlocked = scene.project.design.method == "given"
        self.requirement, self.curves, self.is_unlocked, self.counted = requirement, scene.curves, is_unlocked, counted
        for tool in self.tools.values():
            tool.setEnabled(is_unlocked)
        self.unlock.setVisible(not is_unlocked)
        assert self.response.frequency_axis is not None
        self.response.frequency_axis.set_rate(requirement.sample_rate_hz, counted)
        self.response.label_axes()
        self.limits.show_requirement(requirement, False)
        source, behind = self._named("ideal"), self._named("rounded")
        if source is None:
            return
        if isinstance(source, Roots):  # nothing has to be found, and a hand may hold one of them
            self._take(_Looked(source, behind))
        else:
            self._errand.send(lambda: _Looked(source, behind))

    def _take(self, found: _Looked) -> None:
        if found.source is not self._named("ideal") or self.requirement is None:
            return
        if found.sentence:
            self.words.setText(found.sentence)
        if self.plane.held is None:
            rate = self.requirement.sample_rate_hz
            self.plane.show_roots(found.roots, self.is_unlocked, rate, self.counted, found.shadow)
        self._draw(found.source)
        self._tell_near(found.roots)

    def take_tool(self, name: str, *_: object) -> None:
        """Another tool."""
        self.plane.tool = name
        self.tools[name].setChecked(True)

    def unlock_now(self, *_: object) -> None:
        """Make the roots the design."""
        source = self._named("ideal")
        if source is None or self.is_unlocked:
            return
        try:
            self._edit(unlocked(source), "unlock as roots")
        except CombeError as error:
            self.words.setText(error.sentence())

    @property
    def plot(self) -> Plot:
        """The response."""
        return self.response

    def go_home(self) -> None:
        """The plane."""
        self.plane.go_home()

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.response.dress()
        self.plane.update()

    def _named(self, name: str) -> Filter | None:
        return next((curve.filter for curve in self.curves if curve.name == name), None)

    def _on_edited(self, roots: Roots, what: str, gesture: str) -> None:
        self._draw(roots)
        self._edit(roots, what, gesture)

    def _edit(self, roots: Roots, what: str, gesture: str = "") -> None:
        self.edited.emit(edits.take_roots(roots, what, gesture))

    def _draw(self, source: Filter) -> None:
        """The response in the same frame: on a fixed grid while the hand holds a root, else with every extreme."""
        if self.requirement is None:
            return
        turn = self.requirement.sample_rate_hz / (2 * np.pi)
        if self.plane.held is not None and isinstance(source, Roots):
            omega = np.linspace(0, np.pi, 700)
            level = gain_db(frequency_response(rational_of(source), omega))
        else:
            omega, level = magnitude_curve(source)
        self.line.set_look(THEME.color("river"), 1.8)
        self.line.show_points(omega * turn, level)
        top = max(float(np.max(level)), max(b.upper.first_db for b in self.requirement.passbands)) + 6
        low = min([b.upper.first_db for b in self.requirement.stopbands] + [-40.0]) - 25
        self.response.set_home(0, self.requirement.nyquist_hz, low, top)

    def _tell_near(self, roots: Roots) -> None:
        """Pairs that nearly cancel, and what taking one out would cost."""
        pairs = near_pairs(roots)
        self.near.setVisible(bool(pairs))
        if not pairs:
            return
        omega = np.linspace(0, np.pi, 800)
        with_pair = gain_db(frequency_response(rational_of(roots), omega))
        without = gain_db(frequency_response(rational_of(without_pair(roots, pairs[0])), omega))
        moved = float(np.max(np.abs(without - with_pair)[with_pair > np.max(with_pair) - 60], initial=0.0))
        count = f"{len(pairs)} pairs" if len(pairs) > 1 else "A zero and a pole"
        self.near.setText(f"{count} nearly cancel; without the first the gain would move by up to {moved:.3g} dB.")

    def _on_pointed(self, x: float, _: float) -> None:
        self.plane.pointer_hz = min(max(x, 0.0), self.plane.sample_rate_hz / 2)
        self.plane.update()
        source = self._named("ideal")
        if source is not None:
            level = gain_db(frequency_response(source, np.array([2 * np.pi * x / self.plane.sample_rate_hz])))[0]
            self.response.tell(f"{self.response.frequency_words(x)}   {level:.2f} dB")

    def keyPressEvent(self, event: object) -> None:
        """M, Z and P take the tools."""
        key = {Qt.Key.Key_M: "move", Qt.Key.Key_Z: "zero", Qt.Key.Key_P: "pole"}.get(Qt.Key(event.key()))  # type: ignore[attr-defined]
        if key is not None and self.is_unlocked:
            self.take_tool(key)
            return
        super().keyPressEvent(event)  # type: ignore[arg-type]


class _Looked:
    """The roots of a filter and those of its rounded form, found; none, and why, where there are too many."""

    def __init__(self, source: Filter, behind: Filter | None) -> None:
        self.source, self.sentence = source, ""
        self.shadow: Roots | None = None
        try:
            self.roots = unlocked(source)
        except CombeError as error:
            self.sentence, self.roots = error.sentence(), Roots((), (), 1.0)
        if behind is not None:
            with contextlib.suppress(CombeError):
                self.shadow = unlocked(behind)
