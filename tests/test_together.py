"""All filters of a project on one core or device: the page, and what it counts."""

from __future__ import annotations

import math
import unittest
from unittest import mock

from combe.app.pages.together import TogetherPage
from combe.designing.task import DesignChoice
from combe.errors import Stopped
from combe.project.demo import recorder_project
from combe.project.document import project_of
from combe.project.edits import Edit, choose_language
from combe.project.proving import together
from combe.proof.budget import Share
from combe.proof.synthesis import Synthesized
from combe.proof.together import Taker, Together, percent
from combe.values import replace
from tests.window_case import WindowCase

METHOD = Edit("another method", lambda project: replace(project, design=DesignChoice("butterworth")))
CELLS = {
    "notch": Synthesized("ice40-up5k", 100, 528, 10, 4, 3, 30e6),
    "probe": Synthesized("ice40-up5k", 50, 264, 10, 2, 6, 25e6),
}


def two_filters(language: str = "verilog"):  # type: ignore[no-untyped-def]
    members = [m for m in recorder_project().members if m.code_name in CELLS]
    found = project_of("two", [replace(member, source="input") for member in members])
    return choose_language(language).make(choose_language(language).make(found.opened(1)).opened(0))


def synthesized(package: object, device: str, *_: object) -> Synthesized:
    return replace(CELLS[package.name], device=device)  # type: ignore[attr-defined]


class Values(unittest.TestCase):
    def test_all_find_room_or_it_is_told_what_lacks(self) -> None:
        one = Taker("a", 1e3, "serial", ("10", "2"), (0.4, 0.2))
        two = Taker("b", 1e3, "serial", ("20", "2"), (0.5, 0.2))
        both = Together("ice40-up5k", ("luts", "multipliers"), (one, two), 2)
        self.assertEqual([round(share, 9) for share in both.totals], [0.9, 0.4])
        self.assertIn("find room on ice40-up5k: 90 % of the luts", both.sentence())
        tight = replace(both, takers=(one, replace(two, shares=(0.7, 0.2))))
        self.assertFalse(tight.fits)
        self.assertIn("110 % of the luts", tight.sentence())
        slow = replace(both, takers=(one, replace(two, failure="needs 2 MHz for its samples, and runs at 1 MHz")))
        self.assertIn("b can't be had or doesn't keep up", slow.sentence())
        none = replace(both, takers=(one, replace(two, shares=(0.1, math.inf))))
        self.assertIn("more than there are of the multipliers", none.sentence())
        self.assertEqual(replace(both, takers=(one,)).sentence(), "1 of 2 filters on ice40-up5k")
        self.assertEqual(percent(0.12345), "12.3 %")

    def test_shares_are_of_what_the_device_holds(self) -> None:
        with mock.patch("combe.proof.device_budget.synthesized", synthesized):
            *_, last = (news.value for news in together(two_filters(), "ice40-up5k", lambda: False))
        self.assertEqual([taker.name for taker in last.takers], ["notch", "probe"])
        self.assertEqual(last.takers[0].shares, (528 / 5280, 100 / 5280, 4 / 8, 3 / 30))
        self.assertEqual([round(share, 9) for share in last.totals], [0.15, round(150 / 5280, 9), 0.75, 0.3])

    def test_on_a_core_the_clock_is_shared(self) -> None:
        def shared(filters, calibration, block):  # type: ignore[no-untyped-def]
            return [Share(name, made.sample_rate_hz, 100.0, 0.3) for name, made in filters]

        with mock.patch("combe.proof.together.shared", shared):
            *_, last = (news.value for news in together(two_filters("c"), "", lambda: False))
        self.assertEqual((last.parts, last.totals, last.place), (("clock",), (0.6,), "cortex-m4 at 80 MHz"))
        over = replace(last, takers=(*last.takers, *last.takers))
        self.assertIn("120 % of the clock, 96 MHz would do", replace(over, count=4).sentence())

    def test_a_filter_that_cannot_be_had_has_its_row(self) -> None:
        project = two_filters()
        broken = replace(project.opened(0), design=DesignChoice("given"))
        with mock.patch("combe.proof.device_budget.synthesized", synthesized):
            *_, last = (news.value for news in together(broken, "ice40-up5k", lambda: False))
        self.assertTrue(last.is_whole)
        self.assertTrue(last.takers[0].failure)
        self.assertFalse(last.fits)

    def test_it_stops(self) -> None:
        with mock.patch("combe.proof.device_budget.synthesized", synthesized), self.assertRaises(Stopped):
            list(together(two_filters(), "ice40-up5k", lambda: True))


class OnThePage(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.session.replace_with(two_filters(), None)
        self.settle()
        self.window.open_step("code")
        self.window.code_view.open_page("together")
        page = self.window.code_view.page("together")
        assert isinstance(page, TogetherPage)
        self.page = page

    def put(self) -> None:
        with mock.patch("combe.proof.device_budget.synthesized", synthesized):
            self.page.measure.click()
            self.settle()

    def test_bars_and_rows_say_who_takes_what(self) -> None:
        self.assertIn("Not yet put together: all 2 filters", self.page.words.text())
        self.put()
        self.assertIn("75 % of the multipliers", self.page.words.text())
        rows = [[self.page.table.item(row, column).text() for column in range(3)] for row in range(2)]
        self.assertEqual([row[0] for row in rows], ["notch", "probe"])
        self.assertEqual(rows[0][2], "528  (10 %)")
        bars = self.page.bars
        boxes = [box for box, taker, part in bars.boxes() if part == 2]
        # Half of the multipliers, then a quarter, one behind the other.
        self.assertAlmostEqual(boxes[0].width() / boxes[1].width(), 2.0, places=6)
        self.assertAlmostEqual(boxes[0].right(), boxes[1].left(), places=6)
        middle = boxes[1].center()
        self.assertEqual(bars.words_at(middle.x(), middle.y()), "probe: 2, 25 % of the multipliers")

    def test_what_was_put_together_stays_with_the_project(self) -> None:
        """Another of its filters opened shows the same; another method of any of them takes it away."""
        self.put()
        found = self.session.results.together
        self.session.turn_to(1)
        self.settle()
        self.assertEqual(self.session.results.together, found)
        self.assertEqual(self.page.table.rowCount(), 2)
        self.session.edit(METHOD)
        self.settle()
        self.assertIsNone(self.session.results.together)
        self.assertIn("Not yet put together", self.page.words.text())


if __name__ == "__main__":
    unittest.main()
