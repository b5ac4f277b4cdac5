"""States kept under names: in the value, in the file, side by side, on their page; and the steps behind undo."""

from __future__ import annotations

import json
import unittest

from combe.designing.task import DesignChoice
from combe.errors import CombeError
from combe.project import edits, variant_edits
from combe.project.compared import states_of, table_of_states
from combe.project.demo import demo_project, recorder_project
from combe.project.differences import differences
from combe.project.document import Project
from combe.project.file import project_document, project_from, save_project
from combe.project.history import FIRST, History
from combe.project.variant_edits import drop_variant, keep_variant, state_of, take_variant
from combe.requirement.sentences import with_levels
from combe.values import replace
from tests.test_cli import InFolder, call
from tests.window_case import WindowCase


class Values(unittest.TestCase):
    def test_a_variant_is_kept_and_gone_back_to(self) -> None:
        first = demo_project()
        kept = keep_variant("  dry  ", "summer").make(first)
        self.assertEqual([(v.name, v.note) for v in kept.variants], [("dry", "summer")])
        changed = edits.coefficient_bits(11).make(
            edits.choose_design(DesignChoice("kaiser")).make(edits.choose_language("verilog").make(kept))
        )
        back = take_variant("dry").make(changed)
        self.assertEqual(replace(back, variants=()), first)
        again = keep_variant("dry", "winter").make(changed)
        self.assertEqual([(v.note, v.kept.design.method) for v in again.variants], [("winter", "kaiser")])
        self.assertEqual(drop_variant("dry").make(again).variants, ())
        for edit in (take_variant("owl"), drop_variant("owl"), keep_variant("  ")):
            with self.assertRaises(CombeError):
                edit.make(kept)

    def test_files_keep_them_and_name_what_is_wrong_in_them(self) -> None:
        project = recorder_project()
        document = json.loads(json.dumps(project_document(project)))
        self.assertEqual(project_from(document).members, project.members)
        for change, words in (
            ({"surprise": 1}, "variants[1]"), ({"requirement": {"format": "combe-requirement", "version": 1, "sample_rate_hz": 8000, "bands": []}},
             "variants[1].requirement"),
            ({"design": {"method": "magic"}}, "variants[1].design.method"), ({"name": 5}, "variants[1].name"),
        ):  # fmt: skip
            broken = json.loads(json.dumps(document))
            broken["filters"][0]["variants"][1] |= change
            with self.subTest(words), self.assertRaises(CombeError) as caught:
                project_from(broken)
            self.assertIn(f"filters[0].{words}", caught.exception.sentence())

    def test_what_differs_is_said_in_words(self) -> None:
        first = demo_project()
        asked = first.requirement
        for changed, words in (
            (edits.move_edge(first, 0, "stop", 13_000.0).make(first), "wind: block 0 to 13 kHz by 60 dB, was block 0 to 12 kHz by 60 dB"),
            (replace(first, requirement=with_levels(asked, 1, -0.2, 0.2)), "calls: keep 18 kHz to 110 kHz at ±0.2 dB, was keep 18 kHz to 110 kHz at ±0.1 dB"),
            (replace(first, requirement=replace(asked, phase="any")), "any phase, was linear"),
            (replace(first, requirement=replace(asked, max_delay_s=None)), "no limit on delay, was 400 µs"),
            (replace(first, requirement=replace(asked, bands=asked.bands[:2])), "gone: block 118 kHz to 125 kHz by 60 dB"),
            (edits.coefficient_bits(12).make(first), "coefficient bits 12, was 16"),
            (edits.better_integers(True).make(first), "better integers on, was off"), (edits.choose_design(DesignChoice("kaiser")).make(first), "kaiser, was equiripple"),
            (replace(first, design=DesignChoice("equiripple")), "the least order, was order 112"), (edits.choose_language("vhdl").make(first), "language vhdl, was c"),
            (edits.choose_architecture("serial").make(first), "architecture serial, was as it follows"),
            (replace(first, design=DesignChoice("equiripple", 112, settings=(("ripple_db", 0.5),))), "ripple_db 0.5, was as it follows"),
        ):  # fmt: skip
            with self.subTest(words):
                self.assertIn(words, differences(state_of(first), state_of(changed)))
                self.assertEqual(differences(state_of(changed), state_of(changed)), ())
                self.assertTrue(differences(state_of(changed), state_of(first)))

    def test_side_by_side(self) -> None:
        bad = keep_variant("none").make(replace(demo_project(), design=DesignChoice("half-band")))
        project = replace(bad, design=demo_project().design)
        states = tuple(states_of(project))
        self.assertEqual([state.name for state in states], ["now", "none"])
        self.assertTrue(states[1].trouble)
        table = table_of_states(states)
        rows = {row[0]: row[1:] for row in table.rows}
        self.assertEqual(rows["design"][0], "equiripple, 113 taps")
        self.assertEqual(rows["design"][1], states[1].trouble)
        self.assertIn("(+0.9", rows["wind not above"][0])
        self.assertEqual(rows["wind not above"][1], "–")
        self.assertEqual(tuple(states_of(project, lambda: True)), ())


class Steps(unittest.TestCase):
    def test_steps_are_listed_with_how_the_ledger_stood(self) -> None:
        history = History(demo_project())
        history.stand("0.1 dB spare")
        history.change(edits.coefficient_bits(12).make(history.current), "bits")
        history.stand("missed")
        history.change(edits.coefficient_bits(20).make(history.current), "bits again")
        told = [(step.what, step.standing, step.is_now, step.is_ahead) for step in history.steps]
        self.assertEqual(
            told,
            [(FIRST, "0.1 dB spare", False, False), ("bits", "missed", False, False), ("bits again", "", True, False)],
        )
        self.assertEqual(history.go_to(0), demo_project())
        self.assertEqual([step.is_ahead for step in history.steps], [False, True, True])
        self.assertEqual(history.go_to(2).arithmetic.coefficient_bits, 20)
        self.assertEqual(history.go_to(1).arithmetic.coefficient_bits, 12)
        self.assertEqual(history.go_to(99).arithmetic.coefficient_bits, 20)
        self.assertEqual(history.names, ("bits", "bits again"))


class OnThePage(WindowCase):
    def test_kept_compared_gone_back_to_and_let_go(self) -> None:
        self.window.plots.open_tab("variants")
        page = self.window.plots.current_page
        page.name.setText("dry")
        page.note.setText("summer")
        page.keep.click()
        self.session.edit(edits.coefficient_bits(11))
        self.settle()
        self.assertEqual(page.table.names, ("now", "dry"))
        self.assertIn("coefficient bits 16, was 11", page.table.rows[-1])
        self.assertFalse(page.drop.isEnabled())
        page.pick(0, 2)
        self.assertEqual(page.picked, "dry")
        page.show_it.click()
        self.assertEqual(len(self.session.project.pins), 1)
        page.take.click()
        self.settle()
        self.assertEqual(self.session.project.arithmetic.coefficient_bits, 16)
        page.set_mode("steps")
        self.assertEqual(
            [row[1] for row in page.table.rows],
            [FIRST, "keep a variant", "coefficient width", "pin a filter", "go back to dry"],
        )
        self.assertIn("dB spare", page.table.rows[0][2])
        self.assertIn("missed", page.table.rows[2][2])
        page.pick(2, 1)
        page.take.click()
        self.settle()
        self.assertEqual(self.session.project.arithmetic.coefficient_bits, 11)
        self.assertEqual([row[0] for row in page.table.rows], ["", "", "●", "○", "○"])
        page.set_mode("variants")
        page.pick(0, 2)
        page.drop.click()
        self.assertEqual(self.session.project.variants, ())
        self.session.undo()
        self.assertEqual(len(self.session.project.variants), 1)


class Verb(InFolder):
    def test_variants_of_a_project(self) -> None:
        path = self.folder / "r.combe"
        save_project(recorder_project(), path)
        status, out, _ = call("variants", path, "--filter", "calls", "--json")
        rows = json.loads(out)
        self.assertEqual((status, [row["name"] for row in rows]), (0, ["now", "flown in May", "small logger"]))
        self.assertEqual((rows[0]["differs"], rows[2]["coefficient_bits"]), ([], 12))
        self.assertTrue(all(line["margin_db"] >= 0 for row in rows for line in row["lines"] if "margin_db" in line))
        self.assertIn("small logger", call("variants", path, "--filter", "calls")[1])
        worse: Project = edits.coefficient_bits(8).make(recorder_project())
        save_project(worse, path)
        self.assertEqual(call("variants", path, "--filter", "calls")[0], 1)
        self.assertEqual(variant_edits.MOST_VARIANTS, 40)
