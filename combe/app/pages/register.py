"""Every view by name. Tabs, menus, shortcuts, the palette, ``combe picture``, screenshots and tests walk this table.

No Qt here: a page is made from its module when it is first opened, and the command line lists the names without it.
"""

from __future__ import annotations

import sys
from importlib import import_module
from typing import TYPE_CHECKING

from msgspec import Struct

from combe.delivery.languages import CIRCUITS, PROCESSORS
from combe.project.document import STEPS

if TYPE_CHECKING:
    from combe.app.pages.page import Page

PLOTS, CODE, STEP = "plots", "code", "step"
"""Where a view stands: among the plots, among the pages of the code step, or as a step of the whole window."""


class Picture(Struct, frozen=True):
    """How a view is drawn for the manual: its size, whose project, and which theme."""

    width: int = 1280
    height: int = 800
    project: str = "recorder_project"
    theme: str = "light"


class Entry(Struct, frozen=True):
    """One view.

    ``shows`` names the results it draws; ``wants`` one that is only worked out while the page is open; ``runs`` what has
    to be asked for before there is anything to see (``prove``, ``count``, ``together``); ``of`` is ``circuits`` or ``processors``
    where a page of the code step belongs to only one kind of language.
    """

    name: str
    title: str
    place: str
    made_in: str = ""
    shows: tuple[str, ...] = ()
    wants: str = ""
    runs: str = ""
    of: str = ""
    pictures: tuple[tuple[str, Picture], ...] = ()

    @property
    def module(self) -> str:
        """Where the page is made."""
        return f"combe.app.pages.{self.made_in.partition(':')[0]}"

    @property
    def is_loaded(self) -> bool:
        """Whether nothing has to be read to make it."""
        return self.module in sys.modules

    def make(self) -> Page:
        """A new page."""
        page: Page = getattr(import_module(self.module), self.made_in.partition(":")[2])()
        return page

    def is_for(self, kind: str) -> bool:
        """Whether it goes with a kind of language."""
        return self.of in ("", kind)


CURVES = ("ideal", "rounded", "way")
WAKE_UP = "wake_up_project"
AUDIBLE = Picture(project="audible_project", theme="dark")

REGISTER = (
    Entry("brief", "Brief", STEP, pictures=(("brief", Picture()),)),
    Entry("ideal", "Ideal", STEP, pictures=(("ideal", Picture()), ("wake-up", Picture(project=WAKE_UP)), ("audible-dark", AUDIBLE))),
    Entry("rounded", "Rounded", STEP, pictures=(("rounded", Picture()),)),
    Entry("arithmetic", "Arithmetic", STEP, pictures=(("arithmetic", Picture(project=WAKE_UP)),)),
    Entry("code", "Code", STEP, runs="prove", pictures=(("code", Picture()),)),
    Entry("bench", "Bench", STEP, "bench:BenchPage", ("bench",), "bench", pictures=(("bench", Picture()),)),
    Entry("magnitude", "Magnitude", PLOTS, "magnitude:MagnitudePage", CURVES),
    Entry("phase", "Phase", PLOTS, "side:PhasePage", CURVES),
    Entry("delay", "Delay", PLOTS, "side:DelayPage", CURVES),
    Entry("time", "Time", PLOTS, "side:TimePage", CURVES),
    Entry("level", "Level", PLOTS, "side:LevelPage", CURVES),
    Entry("stages", "Stages", PLOTS, "stages:StagesPage", ("ideal", "rounded")),
    Entry("roots", "Roots", PLOTS, "roots:RootsPage", CURVES, pictures=(("roots", Picture(1100, 600, WAKE_UP)),)),
    Entry("formula", "Formula", PLOTS, "formula:FormulaPage", CURVES, pictures=(("formula", Picture(900, 480, WAKE_UP)),)),
    Entry("numbers", "Numbers", PLOTS, "numbers:NumbersPage", CURVES),
    Entry("measures", "Measures", PLOTS, "measures:MeasuresPage", CURVES, pictures=(("measures", Picture(900, 600)),)),
    Entry("noise", "Noise", PLOTS, "noise:NoisePage", ("heard",), "heard", pictures=(("noise", Picture(1000, 560, WAKE_UP)),)),
    Entry("widths", "Widths", PLOTS, "widths:WidthsPage", ("chart",), "chart",
          pictures=(("widths", Picture(1000, 640, WAKE_UP)),)),
    Entry("trade", "Trade", PLOTS, "trade:TradePage", ("trade", "ideal"), "trade", pictures=(("trade", Picture(1280, 800)),)),
    Entry("variants", "Kept", PLOTS, "variants:VariantsPage", ("states", "rounded"), "states",
          pictures=(("variants", Picture(1000, 560)),)),
    Entry("table", "Table", CODE, "table:TablePage", ("rounded", "table"), "table"),
    Entry("measured", "Measured", CODE, "measured:MeasuredPage", ("proof", "ideal"), runs="prove", of=PROCESSORS),
    Entry("budget", "Budget", CODE, "budget:BudgetPage", ("budget",), runs="count", of=PROCESSORS,
          pictures=(("budget", Picture()),)),
    Entry("board", "Board", CODE, "board:BoardPage", ("board",), "board", of=PROCESSORS, pictures=(("board", Picture()),)),
    Entry("path", "Data path", CODE, "path:PathPage", ("drawing",), "drawing", of=CIRCUITS, pictures=(("path", Picture()),)),
    Entry("cost", "Cost", CODE, "cost:CostPage", ("compared", "synthesized"), of=CIRCUITS, runs="synthesize", pictures=(("cost", Picture()),)),
    Entry("capture", "Capture", CODE, "capture:CapturePage", ("captured", "ideal"), runs="capture", of=CIRCUITS),
    Entry("together", "Together", CODE, "together:TogetherPage", ("together",), runs="together"),
    Entry("waves", "Waves", CODE, "waves:WavesPage", ("waves",), runs="prove", of=CIRCUITS),
)  # fmt: skip
"""In the order in which tabs and menus show them."""

NAMES = tuple(entry.name for entry in REGISTER)
BY_NAME = {entry.name: entry for entry in REGISTER}


def placed(place: str) -> tuple[Entry, ...]:
    """The views of one place."""
    return tuple(entry for entry in REGISTER if entry.place == place)


assert tuple(entry.name for entry in placed(STEP)) == STEPS and len(BY_NAME) == len(REGISTER)
