"""A change of rate taken apart: shares of the work, stages alone, taps by phase; and the page that shows it."""

from __future__ import annotations

import math
import random
import unittest

import numpy as np

from combe.designing.methods import design
from combe.designing.rates.parts import PADDED, before_folding, padding_of, phase_table, phases_of, stage_parts
from combe.designing.rates.stages import RateStage, prototype_of
from combe.designing.task import DesignChoice, Task
from combe.errors import DesignError
from combe.project.chain import Ideal, Rounded
from combe.project.demo import audible_project, demo_project
from combe.project.results import Results
from combe.requirement import requirement_from
from combe.rounding.choices import Choices
from combe.rounding.rates import realize_design
from combe.rounding.remedies import rounding_remedies
from combe.values import replace
from tests.support import some


def random_taps(source: random.Random, count: int) -> tuple[float, ...]:
    half = [source.uniform(-1, 1) for _ in range((count + 1) // 2)]
    return tuple(half + half[: count // 2][::-1])


def random_stage(source: random.Random, way: str) -> RateStage:
    up = source.randint(2, 5) if way in ("up", "both") else 1
    down = source.randint(2, 5) if way in ("down", "both") else 1
    if way != "both" and source.random() < 0.3:
        return RateStage("cic", up, down, order=source.randint(1, 4), delay=source.randint(1, 2))
    return RateStage("taps", up, down, random_taps(source, source.randint(1, 40)))


def gain_of(stage: RateStage, hz: np.ndarray, working_hz: float) -> np.ndarray:
    """At frequencies, by the definition: a sum over taps, or a quotient of sines; 1 for a constant from input to output."""
    turn = np.pi * hz / working_hz
    if stage.kind == "cic":
        length = max(stage.up, stage.down) * stage.delay
        return np.abs(np.sin(length * turn) / (length * np.sin(turn))) ** stage.order
    return np.abs(np.exp(-2j * np.outer(turn, np.arange(len(stage.taps)))) @ np.array(stage.taps)) / stage.up


class Apart(unittest.TestCase):
    def test_each_stage_alone_is_what_it_is_at_its_own_rate_and_all_are_the_whole(self) -> None:
        source = random.Random(5)
        for _ in range(30):
            ups, downs = source.randint(0, 2), source.randint(0, 2)
            stages = [random_stage(source, "up") for _ in range(ups)] + [
                random_stage(source, "down") for _ in range(downs)
            ]
            if not stages:
                continue
            highest = float(np.prod([stage.up for stage in stages]))
            hz = np.linspace(0.0137, 0.493, 40) * highest
            alone, rate, product = before_folding(stages), 1.0, np.ones(len(hz))
            self.assertEqual(len(alone), len(stages))
            for stage, found in zip(stages, alone):
                own = np.abs(
                    np.exp(-2j * np.pi * np.outer(hz / highest, np.arange(len(found.taps)))) @ np.array(found.taps)
                )
                np.testing.assert_allclose(own, gain_of(stage, hz, rate * stage.up), atol=1e-9)
                product = product * own
                rate = rate * stage.up / stage.down
            whole = np.array(prototype_of(stages).taps)
            np.testing.assert_allclose(
                np.abs(np.exp(-2j * np.pi * np.outer(hz / highest, np.arange(len(whole)))) @ whole), product, atol=1e-9
            )

    def test_what_has_no_axis_of_its_own_is_refused(self) -> None:
        up, down = RateStage("taps", 2, 1, (1.0,) * 5), RateStage("taps", 1, 3, (1.0,) * 5)
        with self.assertRaises(DesignError) as caught:
            before_folding([down, up])
        self.assertIn("put it first", caught.exception.sentence())
        with self.assertRaises(DesignError):
            before_folding([RateStage("cic", 1, 4096, order=1), RateStage("cic", 1, 4096, order=2)])

    def test_rates_and_shares(self) -> None:
        """÷4 by 15 taps: 8 products of pairs for each output. ÷2 by 31 taps of which 14 are zero: 9 for each of its outputs."""
        taps = tuple(0.0 if k % 2 and k != 15 else 1.0 for k in range(31))
        first, second = stage_parts([RateStage("taps", 1, 4, (1.0,) * 15), RateStage("taps", 1, 2, taps)], 48_000.0)
        self.assertEqual((first.rate_in_hz, first.rate_out_hz, second.rate_out_hz), (48_000.0, 12_000.0, 6_000.0))
        self.assertEqual((first.multiplies, first.adds), (8 / 4, 14 / 4))
        self.assertEqual((second.multiplies, second.adds), (9 / 8, 16 / 8))
        self.assertAlmostEqual(first.share, 5.5 / 8.625)
        self.assertAlmostEqual(first.share + second.share, 1.0)


class ByPhase(unittest.TestCase):
    def test_sums_over_phases_are_stuff_filter_drop(self) -> None:
        source = random.Random(6)
        for _ in range(60):
            stage = random_stage(source, source.choice(("up", "down", "both")))
            if not stage.taps:
                self.assertEqual((phases_of(stage), padding_of(stage)), ({}, 0))
                continue
            x = np.array([source.uniform(-1, 1) for _ in range(60)])
            stuffed = np.zeros(len(x) * stage.up)
            stuffed[:: stage.up] = x
            wanted = np.convolve(stuffed, stage.taps)[: len(stuffed) : stage.down]
            phases = list(phases_of(stage).items())
            found = []
            for m in range(len(wanted)):
                if stage.up > 1:
                    phase, places = phases[m % len(phases)]
                    newest = (m * stage.down - phase) // stage.up
                    terms = [stage.taps[place] * x[newest - k] for k, place in enumerate(places) if newest - k >= 0]
                else:
                    terms = [
                        stage.taps[place] * x[m * stage.down - place]
                        for _, row in phases
                        for place in row
                        if m * stage.down >= place
                    ]
                found.append(sum(terms))
            np.testing.assert_allclose(found, wanted, atol=1e-12)
            if math.gcd(stage.up, stage.down) == 1:
                count = stage.up if stage.up > 1 else stage.down
                self.assertEqual(
                    padding_of(stage), -len(stage.taps) % count, "the last places of all but the first phases"
                )

    def test_the_table_shows_integers_and_where_rows_are_filled_up(self) -> None:
        stages = [RateStage("cic", 1, 8, order=3), RateStage("taps", 1, 2, (0.5, 1.0, 0.5))]
        table = phase_table(stages, [(), (2, 4, 2)])
        self.assertEqual(table.rows, (("stage 2, phase 0", "2", "2"), ("stage 2, phase 1", "4", PADDED)))
        self.assertEqual(phase_table(stages[1:]).rows[0], ("phase 0", "0.5", "0.5"))
        self.assertEqual(
            [row[0] for row in phase_table([RateStage("taps", 3, 2, (1.0,) * 7)]).rows],
            ["phase 0", "phase 2", "phase 1"],
        )


class Remedies(unittest.TestCase):
    def test_what_helps_is_tried_on_the_stages_themselves(self) -> None:
        """Not on the one filter that stands for them, whose rounding is another."""
        brief = requirement_from({
            "format": "combe-requirement", "version": 1, "sample_rate_hz": 64_000,
            "rate": {"up": 1, "down": 8, "alias_db": -62, "protect": "passbands"},
            "bands": [{"name": "low", "start_hz": 0, "stop_hz": 2_400, "min_db": -0.1, "max_db": 0.1}],
        })  # fmt: skip
        choice = DesignChoice("equiripple", plan="2x2x2")
        found = design_of(brief, choice)
        for bits in some((8, 9, 10), 1):
            for fact in rounding_remedies(found, choice, brief, Choices(bits)):
                assert fact.remedy is not None
                if "order" not in fact.remedy.changes:
                    made = realize_design(found, replace(Choices(bits), **fact.remedy.changes), requirement=brief)
                    self.assertTrue(holds(made, brief), fact.remedy.words)


def design_of(brief, choice):  # type: ignore[no-untyped-def]
    from combe.designing.methods import design_task

    return design_task(Task(brief, brief.sample_rate_hz, choice))


def holds(made, brief):  # type: ignore[no-untyped-def]
    from combe.ledger import meets
    from combe.rounding.realize import rounded_lines

    return meets(rounded_lines(made, brief))


class OnThePage(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        from tests.window_case import application

        cls.application = application
        project = audible_project()
        cls.found = design_of(project.requirement, replace(project.design, holds_with_bits=None))
        made = realize_design(cls.found, project.arithmetic, requirement=project.requirement)
        cls.results = Results(
            ideal=Ideal(cls.found, project.requirement), rounded=Rounded(made, (), project.requirement)
        )

    def test_boxes_curves_and_taps(self) -> None:
        from combe.app.pages.page import Scene
        from combe.app.pages.stages import PHASES, StagesPage
        from combe.app.plots.others import SidePlot
        from tests.test_widgets import wait_for_errands

        page = StagesPage()
        page.resize(680, 420)
        page.show_scene(Scene(audible_project(), self.results))
        wait_for_errands()
        boxes = page.row.boxes
        self.assertEqual(len(boxes.parts), len(self.found.stages))
        count, first = len(self.found.stages), self.found.stages[0].down
        self.assertIn(f"250 kHz to {250 / first:g} kHz", boxes.toolTip())
        names = [f"stage {k + 1}" for k in range(count)]
        self.assertEqual([curve.name for curve in page.curves], [*names, "all of them"])
        self.assertEqual(len(page.side._items), count + 1)
        self.assertIsInstance(page.plot, SidePlot)
        page.set_mode(PHASES)
        self.assertEqual(len(page.sheet.table.rows), sum(max(stage.up, stage.down) for stage in self.found.stages))
        self.assertTrue(
            all(cell.lstrip("-").isdigit() or cell in ("", PADDED) for row in page.sheet.table.rows for cell in row[1:])
        )
        self.assertEqual((list(page.legend() or ()), page.plot), ([], None))
        self.assertFalse(page.grab().isNull())
        page.show_scene(
            Scene(demo_project(), Results(ideal=Ideal(design(demo_project().requirement), demo_project().requirement)))
        )
        self.assertIn("The rate stays as it is", page.empty.text())
        self.assertTrue(page.stack.isHidden() and page.row.isHidden())

    def test_words_of_every_kind_of_stage(self) -> None:
        from combe.app.widgets.stage_boxes import box_words

        every = (
            (RateStage("taps", 3, 2, (1.0, 0.0, 1.0, 1.0)), "×3 ÷2   3 × 2, 2 padded", "4 taps, 1 zero, s8f7"),
            (RateStage("taps", 1, 4, (1.0,) * 8), "÷4   4 × 2", "8 taps, s8f7"),
            (RateStage("taps", 1, 1, (1.0,) * 8), "same rate   1 × 8", "8 taps, s8f7"),
            (RateStage("cic", 4, 1, order=3, delay=2), "×4   CIC", "order 3 over 8, s8f7"),
        )
        for stage, first, second in every:
            self.assertEqual(box_words(stage_parts([stage], 1e3)[0], "s8f7")[:2], (first, second))

    def test_many_boxes_move_sideways_and_widen_nothing(self) -> None:
        from combe.app.widgets.stage_boxes import StageRow

        row = StageRow()
        row.resize(500, 104)
        stages = [RateStage("taps", 1, 2, (1.0,) * 9)] * 9
        row.boxes.show_parts(stage_parts(stages, 1e6), ["river"] * 9, ["s16f15"] * 9)
        self.assertLess(row.minimumSizeHint().width(), 200)
        self.assertFalse(row.grab().isNull())
        ends = [row.boxes.box(k) for k in range(9)]
        self.assertTrue(all(left.right() + 40 < right.left() for left, right in zip(ends, ends[1:])))

    def test_its_tab_is_there_where_the_rate_changes(self) -> None:
        from combe.app.pages.page import Scene
        from combe.app.pages.panel import PlotPanel

        panel = PlotPanel()
        panel.open_tab("magnitude")
        for project, is_there in ((demo_project(), False), (audible_project(), True), (demo_project(), False)):
            panel.show_scene(Scene(project, Results()))
            self.assertNotEqual(panel.buttons["stages"].isHidden(), is_there)
        panel.open_tab("stages")
        panel.show_scene(Scene(demo_project(), Results()))
        self.assertFalse(panel.buttons["stages"].isHidden(), "nothing is taken away from under the hand")


if __name__ == "__main__":
    unittest.main()
