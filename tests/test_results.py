"""What a change clears, what it leaves, and that no lane leaves a flag or a row behind."""

from __future__ import annotations

import time
import unittest
from collections.abc import Callable
from typing import Any
from unittest import mock

from combe.delivery.hdl.choices import HardwareChoices
from combe.errors import CombeError, ToolError
from combe.project.demo import demo_project, wake_up_project
from combe.project.document import DesignChoice, Pin, Processor, Project
from combe.project.results import DEPENDS, NOTHING, Counted, Results, affected
from combe.values import replace
from tests import memory

FILLED = Results(
    **{name: object() for name in DEPENDS if name != "budget"},  # type: ignore[arg-type]
    budget=Counted((object(),)),  # type: ignore[arg-type]
    fresh=frozenset(DEPENDS),
)
CIRCUITS = {"compared", "package", "proof", "waves", "synthesized", "captured", "drawing", "colored"}


def changed(**parts: Any) -> set[str]:
    before = demo_project()
    return affected(before, replace(before, **parts))


class Dependence(unittest.TestCase):
    def test_another_requirement_touches_everything(self) -> None:
        asked = replace(demo_project().requirement, max_delay_s=1e-3)
        self.assertEqual(changed(requirement=asked), set(DEPENDS))

    def test_another_design_leaves_the_alternatives(self) -> None:
        self.assertEqual(set(DEPENDS) - changed(design=DesignChoice("elliptic")), {"contenders", "relaxations"})

    def test_another_width_leaves_the_design_and_what_shows_every_width(self) -> None:
        arithmetic = replace(demo_project().arithmetic, coefficient_bits=12)
        left = set(DEPENDS) - changed(arithmetic=arithmetic)
        self.assertEqual(left, {"ideal", "way", "contenders", "prices", "relaxations", "widths", "chart", "trade"})

    def test_another_output_format_makes_the_widths_anew(self) -> None:
        arithmetic = replace(demo_project().arithmetic, output="s12f11")
        self.assertLessEqual({"widths", "chart", "rounded"}, changed(arithmetic=arithmetic))

    def test_another_name_of_the_code_touches_code_alone(self) -> None:
        self.assertEqual(changed(code_name="bats"), {"package", "proof", "waves", "colored", "table"})

    def test_another_architecture_touches_circuits_alone(self) -> None:
        self.assertEqual(changed(hardware=HardwareChoices("serial")), CIRCUITS | {"states", "together"})

    def test_another_processor_touches_budget_and_board_alone(self) -> None:
        self.assertEqual(changed(processor=Processor("cortex-m7")), {"budget", "board", "together"})
        self.assertEqual(changed(processor=Processor(block=7)), {"board", "together"})

    def test_what_follows_a_project_touches_nothing(self) -> None:
        from combe.filters import Fir

        self.assertEqual(changed(pins=(Pin("a", Fir((1.0,))),), export_folder="/tmp"), set())


class Standing(unittest.TestCase):
    def after(self, **parts: Any) -> Results:
        before = demo_project()
        return FILLED.after(before, replace(before, **parts))

    def test_what_is_looked_at_stays_as_stale_and_the_rest_goes(self) -> None:
        found = self.after(processor=Processor("cortex-m7"))
        self.assertEqual(found.budget, NOTHING.budget)
        self.assertEqual(found.fresh, FILLED.fresh - {"budget", "board", "together"})
        found = self.after(arithmetic=replace(demo_project().arithmetic, rounding="floor"))
        self.assertIs(found.rounded, FILLED.rounded)
        self.assertIn("rounded", found.stale)
        self.assertEqual(found.certified, ())
        self.assertNotIn("ideal", found.stale)

    def test_an_arrival_outdates_what_was_made_from_another_value(self) -> None:
        found = FILLED.with_result("package", object())
        self.assertIn("package", found.fresh)
        self.assertEqual(found.waves, NOTHING.waves)
        self.assertIn("proof", found.stale)
        self.assertIs(FILLED.with_result("package", FILLED.package).waves, FILLED.waves)

    def test_half_a_list_is_not_fresh_and_does_not_outlive_its_work(self) -> None:
        begun = NOTHING.begun(("budget", "contenders"))
        part = begun.with_result("budget", Counted((object(),)), False).with_result("contenders", (object(),), False)  # type: ignore[arg-type]
        self.assertEqual(part.pending, {"budget", "contenders"})
        self.assertEqual(part.fresh, frozenset())
        ended = part.ended(("budget", "contenders"), False)
        self.assertEqual((ended.pending, ended.budget), (frozenset(), NOTHING.budget))
        self.assertIn("contenders", ended.stale)

    def test_work_that_began_ended_or_came_further_is_told_of(self) -> None:
        begun = NOTHING.begun(("budget", "contenders"))
        self.assertEqual(set(begun.working_differently(NOTHING)), {"budget", "contenders"})
        self.assertEqual(begun.working_differently(begun), [])
        ended = begun.ended(("budget",), True)
        self.assertEqual(ended.working_differently(begun), ["budget"])
        further = begun.told("contenders", "2 of 7")
        self.assertEqual(further.working_differently(begun), ["contenders"])
        self.assertEqual(
            set(further.ended(("budget", "contenders"), True).working_differently(further)), {"budget", "contenders"}
        )

    def test_a_failure_takes_away_what_depends_on_it(self) -> None:
        found = FILLED.failed("rounded", CombeError("too narrow"))
        for name in ("rounded", "measured", "package", "proof", "facts", "budget"):
            self.assertEqual(getattr(found, name), getattr(NOTHING, name), name)
        self.assertIs(found.ideal, FILLED.ideal)
        self.assertEqual(list(found.troubles), ["rounded"])
        self.assertEqual(found.with_result("rounded", object()).troubles, {})

    def test_without_a_design_the_last_picture_stays_and_is_known_to_be_stale(self) -> None:
        found = FILLED.failed("ideal", CombeError("no filter keeps this"))
        self.assertIs(found.rounded, FILLED.rounded)
        self.assertLessEqual({"ideal", "rounded", "package"}, found.stale)
        self.assertFalse(found.fresh & {"ideal", "rounded", "package", "proof"})


class Lanes(unittest.TestCase):
    """The session's side of it: the same for every lane."""

    def setUp(self) -> None:
        from PyQt6.QtWidgets import QApplication

        self.application = QApplication.instance() or QApplication(["combe"])
        from combe.app.session import Session

        memory.remember_all(self, demo_project().requirement)
        self.session = Session(demo_project())
        self.addCleanup(self.session.close)
        self.session.start()
        self.wait(lambda: not self.session.is_busy)

    def wait(self, until: Callable[[], bool]) -> None:
        end = time.monotonic() + 60
        while not until():
            self.assertLess(time.monotonic(), end, "it took too long")
            self.application.processEvents()
            time.sleep(0.002)

    def test_a_failed_count_is_told_and_counts_no_more(self) -> None:
        def failing(*_: object) -> Any:
            yield from ()
            raise ToolError("no emulator", "qemu", "install it")

        with mock.patch("combe.project.proving.counted", failing):
            self.session.count()
            self.assertIn("budget", self.session.results.pending)
            self.wait(lambda: not self.session.results.pending)
        self.assertIn("no emulator", self.session.results.troubles["budget"].sentence())

    def test_what_replaces_a_count_leaves_no_flag(self) -> None:
        from combe.project.results import News

        def endless(rounded: object, project: Project, is_stopped: Callable[[], bool]) -> Any:
            yield News("budget", Counted((object(),)), False)  # type: ignore[arg-type]
            while not is_stopped():
                time.sleep(0.002)

        with (
            mock.patch("combe.project.proving.counted", endless),
            mock.patch("combe.project.proving.measured_circuits", lambda *_: iter([News("synthesized", {"a": ()})])),
        ):
            self.session.count()
            self.wait(lambda: bool(self.session.results.budget.rows))
            self.session.synthesize(True)
            self.assertEqual(self.session.results.budget, NOTHING.budget)
            self.wait(lambda: not self.session.results.pending)
        self.assertIn("synthesized", self.session.results.fresh)

    def test_another_project_shows_nothing_of_the_old_one(self) -> None:
        rows = Counted((object(),))  # type: ignore[arg-type]
        self.session.results = self.session.results.with_result("budget", rows)
        told: list[str] = []
        self.session.stepped.connect(told.append)
        self.session.replace_with(wake_up_project(), None)
        for name in DEPENDS:
            self.assertEqual(getattr(self.session.results, name), getattr(NOTHING, name), name)
        self.assertIn("budget", told)
        self.wait(lambda: not self.session.is_busy)
        self.assertLessEqual({"ideal", "rounded", "package", "contenders"}, self.session.results.fresh)
        self.assertEqual(self.session.results.pending, frozenset())

    def test_a_pin_works_nothing_out_anew(self) -> None:
        before = self.session.results
        design = before.ideal.design if before.ideal is not None else None
        assert design is not None
        self.session.change(replace(self.session.project, pins=(Pin("a", design.filter),)), "pin")
        self.assertFalse(self.session.is_busy)
        self.assertEqual(self.session.results, before)

    def test_an_undo_brings_back_what_belongs_to_it(self) -> None:
        before = self.session.results
        self.session.change(replace(self.session.project, code_name="bats"), "name")
        self.wait(lambda: not self.session.is_busy)
        self.session.undo()
        self.assertIn("package", self.session.results.stale)
        self.assertIs(self.session.results.rounded, before.rounded)
        self.wait(lambda: not self.session.is_busy)
        self.assertEqual(self.session.results.package, before.package)


if __name__ == "__main__":
    unittest.main()
