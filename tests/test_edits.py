"""Edits: pure, named, refused with a sentence, and all that undo has to know."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

from combe.delivery.recipes import GALLERY
from combe.designing.designed import Design
from combe.designing.task import DesignChoice
from combe.errors import CombeError
from combe.filters import Fir, Roots
from combe.project import edits, tree_edits
from combe.project.demo import demo_project, wake_up_project
from combe.project.document import Project, ProofRecord
from combe.project.edits import Edit
from combe.project.file import read_project, save_project
from combe.project.history import History
from combe.values import replace

FOUR_TAPS = Fir((0.25, 0.25, 0.25, 0.25))
DESIGN = Design("equiripple", FOUR_TAPS, 250_000.0)
ONES: dict[str, Callable[[Project], Edit]] = {
    "edge": lambda p: edits.move_edge(p, 0, "stop", 13_000.0),
    "band": lambda p: edits.move_edge(p, 1, "whole start", 18_500.0),
    "level": lambda p: edits.move_level(p, 0, "upper", -70.0),
    "shape": lambda p: edits.start_from("bandstop"),
    "turn": lambda p: edits.turn_brief(),
    "rename": lambda p: edits.rename("Creek"),
    "design": lambda p: edits.choose_design(DesignChoice("elliptic")),
    "roots": lambda p: edits.take_roots(Roots((1j, -1j), (0.5, -0.5)), "move a pole"),
    "hand": lambda p: edits.take_coefficients(FOUR_TAPS),
    "relaxed": lambda p: edits.take_relaxation(wake_up_project().requirement, "elliptic"),
    "cutoff": lambda p: edits.design_by_cutoff(),
    "pin": lambda p: edits.pin(DESIGN),
    "bits": lambda p: edits.coefficient_bits(11),
    "better": lambda p: edits.better_integers(True),
    "arithmetic": lambda p: edits.choose_arithmetic("rounding", rounding="floor"),
    "name": lambda p: tree_edits.name_code("bats"),
    "language": lambda p: edits.choose_language("vhdl"),
    "code": lambda p: edits.choose_code(edits.with_code(p.code, "history", "circular"), "keeps samples"),
    "circuit": lambda p: edits.choose_hardware("architecture", "serial", "the architecture"),
    "processor": lambda p: edits.choose_processor("cortex-m7", 200e6, ""),
    "table": lambda p: edits.write_table(GALLERY[2]),
}


class EveryEdit(unittest.TestCase):
    def test_each_changes_the_project_says_so_and_is_undone(self) -> None:
        for name, made in ONES.items():
            with self.subTest(name):
                before = demo_project()
                edit = made(before)
                after = edit.make(before)
                self.assertNotEqual(after, before)
                self.assertEqual(before, demo_project(), "the value it was given is another now")
                self.assertTrue(edit.what)
                self.assertEqual(edit.make(demo_project()), after, "not the same twice")
                history = History(before)
                history.change(after, edit.what, edit.gesture)
                self.assertEqual(history.undo_name, edit.what)
                self.assertEqual(history.undo(), before)

    def test_each_is_kept_by_a_file(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for name, made in ONES.items():
                with self.subTest(name):
                    after = made(demo_project()).make(demo_project())
                    save_project(after, Path(folder) / "p.combe")
                    self.assertEqual(read_project(Path(folder) / "p.combe"), after)

    def test_nobody_else_builds_projects(self) -> None:
        root = Path(__file__).resolve().parent.parent / "combe" / "app"
        for path in root.rglob("*.py"):
            text = path.read_text(encoding="utf-8")
            self.assertNotIn("import replace", text, path)
            self.assertNotIn("dataclasses.replace", text, path)
            self.assertNotIn("history.current =", text, path)


class Particular(unittest.TestCase):
    def test_edges_stop_at_the_ends_and_may_not_touch_a_neighbour_of_other_limits(self) -> None:
        project = demo_project()
        for index, kind, hz, expected in (
            (2, "stop", 1e6, 125_000.0),
            (0, "start", -5.0, 0.0),
            (0, "stop", 17_900.0, 17_900.0),
        ):
            asked = edits.move_edge(project, index, kind, hz).make(project).requirement.bands[index]
            self.assertEqual(asked.start_hz if kind == "start" else asked.stop_hz, expected)
        for index, kind, hz in ((0, "stop", 50_000.0), (1, "start", 1_000.0), (1, "whole stop", 200_000.0)):
            with self.assertRaises(CombeError):
                edits.move_edge(project, index, kind, hz)

    def test_a_whole_band_keeps_its_width(self) -> None:
        project = demo_project()
        band = edits.move_edge(project, 1, "whole stop", 113_000.0).make(project).requirement.bands[1]
        self.assertEqual((band.start_hz, band.stop_hz), (21_000.0, 113_000.0))

    def test_even_ripple_stays_even(self) -> None:
        project = demo_project()
        band = edits.move_level(project, 1, "lower", -0.25).make(project).requirement.bands[1]
        assert band.lower is not None
        self.assertEqual((band.lower.first_db, band.upper.first_db), (-0.25, 0.25))
        self.assertLessEqual(
            edits.move_level(project, 0, "upper", 7.0).make(project).requirement.bands[0].upper.first_db, 0.0
        )

    def test_an_edge_that_closes_a_band_is_refused(self) -> None:
        with self.assertRaises(CombeError):
            edits.move_edge(demo_project(), 0, "stop", 0.0)

    def test_another_brief_lets_a_chosen_order_go_but_not_beside_a_cutoff(self) -> None:
        project = demo_project()
        self.assertEqual(project.design.order, 112)
        self.assertIsNone(edits.start_from("lowpass").make(project).design.order)
        self.assertIsNone(edits.turn_brief().make(project).design.order)
        self.assertEqual(edits.move_level(project, 0, "upper", -50).make(project).design.order, 112)
        by_cutoff = edits.design_by_cutoff().make(project)
        self.assertEqual(edits.move_level(by_cutoff, 0, "upper", -50).make(by_cutoff).design.order, 4)

    def test_another_method_lets_the_structure_go(self) -> None:
        folded = edits.choose_arithmetic("structure", structure="folded").make(demo_project())
        self.assertEqual(edits.choose_design(DesignChoice("elliptic")).make(folded).arithmetic.structure, "")
        self.assertEqual(edits.choose_design(DesignChoice("equiripple")).make(folded).arithmetic.structure, "folded")

    def test_pins_have_names_of_their_own(self) -> None:
        project = demo_project()
        for _ in range(12):
            project = edits.pin(DESIGN).make(project)
        self.assertEqual(len({pin.name for pin in project.pins}), 12)
        hidden = edits.toggle_pin(3).make(project)
        self.assertEqual([pin.is_shown for pin in hidden.pins].index(False), 3)
        self.assertEqual(edits.toggle_pin(99).make(project), project)
        self.assertEqual(edits.unpin_all().make(project).pins, ())

    def test_what_cannot_be_is_refused_in_a_sentence(self) -> None:
        project = demo_project()
        for attempt in (
            lambda: tree_edits.name_code("1st").make(project),
            lambda: edits.with_code(project.code, "unroll", 7),
            lambda: edits.with_converter(project.code, "12@99999", "12"),
            lambda: edits.choose_hardware("architecture", "sideways", "it").make(project),
            lambda: edits.choose_processor("cortex-m4", 1.0, ""),
        ):
            with self.assertRaises(CombeError) as caught:
                attempt()
            self.assertGreater(len(caught.exception.sentence()), 10)

    def test_floating_point_lets_the_converter_go_and_circuits_let_layouts_go(self) -> None:
        code = edits.with_converter(demo_project().code, "12@2048", "12")
        self.assertEqual(edits.with_code(code, "number", "single").converter_in, "")
        circular = edits.with_code(code, "history", "circular")
        self.assertEqual(edits.with_code(circular, "language", "verilog").history, "blocks")


class Notes(unittest.TestCase):
    def test_undo_keeps_where_code_went_and_what_was_proved(self) -> None:
        history = History(demo_project())
        history.change(tree_edits.name_code("bats").make(history.current), "name")
        history.note(edits.remember_folder("/tmp/there").make)
        history.note(edits.record_proof(ProofRecord("c", "abc", "gcc", 10)).make)
        back = history.undo()
        self.assertEqual((back.code_name, back.export_folder, len(back.proofs)), ("calls", "/tmp/there", 1))
        self.assertEqual(history.redo().export_folder, "/tmp/there")

    def test_the_last_eight_proofs_are_kept_each_once(self) -> None:
        project = replace(demo_project(), proofs=())
        for k in range(12):
            project = edits.record_proof(ProofRecord("c", f"{k % 10}", "gcc", k)).make(project)
        self.assertEqual([proof.samples for proof in project.proofs], [4, 5, 6, 7, 8, 9, 10, 11])

    def test_a_folder_makes_the_file_lag_behind(self) -> None:
        project = demo_project()
        self.assertFalse(project.is_same_file(edits.remember_folder("/tmp/a").make(project)))
        self.assertEqual(project, edits.remember_folder("/tmp/a").make(project))


if __name__ == "__main__":
    unittest.main()
