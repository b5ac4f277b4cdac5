"""The window fits a small screen, whatever page, step, language, name or sentence it shows."""

from __future__ import annotations

import unittest

from PyQt6.QtWidgets import QApplication, QWidget

from combe.app.pages.register import CODE, PLOTS, REGISTER
from combe.delivery.languages import CIRCUITS, LANGUAGES
from combe.project import edits
from combe.project.demo import wake_up_project
from combe.project.document import STEPS
from combe.values import replace
from tests.support import IS_CAMPAIGN
from tests.window_case import WindowCase

WIDEST, HIGHEST = 1180, 700
LONG = "a wake-up call of the lesser horseshoe bat, as heard at the lower pond on the way to the quarry, " * 2


class Sizes(WindowCase):
    def assert_fits(self, where: str) -> None:
        QApplication.processEvents()
        self.window.setMinimumSize(0, 0)
        least = self.window.minimumSizeHint()
        self.assertLessEqual(least.width(), WIDEST, f"{where}: too wide because of {widest_parts(self.window)}")
        self.assertLessEqual(least.height(), HIGHEST, f"{where}: too high")

    def walk(self, what: str) -> None:
        """Every step and every page that can be seen."""
        for step in STEPS:
            self.window.open_step(step)
            self.settle()
            self.assert_fits(f"{what}, step {step}")
        for entry in REGISTER:
            if not entry.is_for(self.session.project.code.written_in.kind):
                continue
            if entry.place == PLOTS:
                self.window.open_step("ideal")
                self.window.plots.open_tab(entry.name)
            elif entry.place == CODE:
                self.window.open_step("code")
                self.window.code_view.open_page(entry.name)
            self.settle()
            self.assert_fits(f"{what}, page {entry.name}")

    def test_every_page_of_the_demo(self) -> None:
        self.walk("demo")
        self.window.open_step("rounded")
        self.window.resize(WIDEST, HIGHEST)
        QApplication.processEvents()
        self.assertEqual((self.window.width(), self.window.height()), (WIDEST, HIGHEST))
        for part in (self.window.chain, self.window.side, self.window.ledger):
            right = part.mapTo(self.window, part.rect().bottomRight())
            self.assertLessEqual(right.x(), WIDEST, part.objectName())

    def test_every_language_proved(self) -> None:
        for language in LANGUAGES:
            self.session.edit(edits.choose_language(language.name))
            self.settle()
            self.window.open_step("code")
            self.assert_fits(language.name)
            view = self.window.code_view
            opened = [button.accessibleName() for button in view.buttons if button.isChecked()]
            assert view.package is not None
            self.assertTrue(view.open_name or opened == [view.package.main.name], (language.name, opened))
            for entry in REGISTER:
                if language.kind == CIRCUITS and entry.of == CIRCUITS:
                    self.window.code_view.open_page(entry.name)
                    self.settle()
                    self.assert_fits(f"{language.name}, {entry.name}")
        self.session.edit(edits.choose_language("c"))
        self.settle()
        self.session.prove()
        self.settle()
        self.assert_fits("proved")

    def test_long_names_and_sentences(self) -> None:
        self.session.edit(edits.rename(LONG))
        asked = self.session.project.requirement
        bands = tuple(replace(band, name=f"{index} {LONG}") for index, band in enumerate(asked.bands))
        self.session.edit(edits.ask(replace(self.session.project.requirement, bands=bands), "name bands"))
        self.settle()
        self.window.tell(LONG)
        self.walk("long names")

    @unittest.skipUnless(IS_CAMPAIGN, "in a campaign")
    def test_recursive_dark(self) -> None:
        self.window.replace_project(wake_up_project(), None)
        self.settle()
        self.window.dress("dark")
        try:
            self.walk("wake-up")
        finally:
            self.window.dress("light")

    def test_all_rows_of_an_ordinary_brief_are_seen(self) -> None:
        ledger = self.window.ledger
        QApplication.processEvents()
        viewport = ledger.viewport()
        assert viewport is not None
        last = ledger.visualRect(ledger.ledger.index(ledger.ledger.rowCount() - 1, 0))
        self.assertEqual(ledger.ledger.rowCount(), 5)
        self.assertLessEqual(last.bottom(), viewport.height())

    def test_a_dragged_ledger_is_remembered(self) -> None:
        self.window.splitter.moveSplitter(self.window.splitter.sizes()[0] - 40, 1)
        height = self.window.splitter.sizes()[1]
        self.assertEqual(self.window.settings.ledger_height, height)


def widest_parts(root: QWidget) -> str:
    """The parts that ask for the most room, for whoever has to mend it."""
    found = [(part.minimumSizeHint().width(), type(part).__name__, part.objectName(), part.accessibleName())
             for part in root.findChildren(QWidget) if part.isVisibleTo(root)]  # fmt: skip
    return "; ".join(f"{words[1]} {words[2] or words[3]} {words[0]}" for words in sorted(found, reverse=True)[:8])
