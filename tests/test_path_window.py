"""The path in the window: filters turned to, changed, fed; each keeps its own results."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from unittest import mock

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QInputDialog

from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.window import MainWindow
from combe.filters import Fir
from combe.project import edits, tree_edits
from combe.project.demo import demo_project, recorder_project, wake_up_project
from combe.project.document import Project
from combe.project.file import save_project
from combe.project.results import Results
from combe.project.standings import Shelf, Standings, is_another
from combe.values import replace
from tests import memory
from tests.test_sizes import HIGHEST, WIDEST, widest_parts
from tests.window_case import QTest, WindowCase


class Recorder(WindowCase):
    """A window on the whole recorder."""

    def setUp(self) -> None:
        memory.remember_all(self, demo_project().requirement, self.follows)
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.session = Session(recorder_project())
        self.window = MainWindow(self.session, Settings(path=self.folder / "settings.json"))
        self.window.resize(1280, 800)
        self.window.show()
        self.session.start()
        self.settle()

    def verdicts(self) -> list[str]:
        return [self.session.standings.of(member) for member in self.session.project.members]

    def chip(self, name: str):  # type: ignore[no-untyped-def]
        return next(chip for chip in self.window.path_bar.chips if chip.name == name)


class Turning(Recorder):
    def test_a_click_opens_a_filter_with_its_own_results(self) -> None:
        bar = self.window.path_bar
        self.assertTrue(bar.isVisible())
        self.assertEqual(
            [chip.name for chip in bar.chips], ["calls", "notch", "envelope", "wake_up", "probe", "audible", "link"]
        )
        self.assertNotIn("unknown", self.verdicts())
        calls = self.session.results
        QTest.mouseClick(self.chip("wake_up"), Qt.MouseButton.LeftButton)
        # Nothing of the filter before is shown as if it were this one's.
        self.assertIsNone(self.session.results.package)
        self.settle()
        self.assertEqual(self.session.project.code_name, "wake_up")
        self.assertEqual(self.session.results.ideal.design.method, "elliptic")
        self.assertIn("wake_up", self.session.results.package.files[0].name)
        self.assertEqual(self.session.history.undo_name, "")
        self.assertFalse(self.session.is_modified)
        QTest.keyClick(self.window, Qt.Key.Key_PageUp, Qt.KeyboardModifier.ControlModifier)
        self.window.path_bar.step(-2) if self.session.project.code_name == "envelope" else None
        self.settle()
        self.assertEqual(self.session.project.code_name, "calls")
        self.assertIs(self.session.results.ideal, calls.ideal)
        self.assertEqual(self.session.results.contenders, calls.contenders)

    def test_a_change_is_that_filters_alone_and_undo_goes_back_to_it(self) -> None:
        self.session.edit(edits.coefficient_bits(9))
        self.settle()
        self.assertEqual(self.verdicts()[0], "missed")
        self.session.turn_to(1)
        self.settle()
        self.assertEqual(self.session.project.arithmetic.coefficient_bits, 18)
        self.session.undo()
        self.settle()
        self.assertEqual(
            (self.session.project.code_name, self.session.project.arithmetic.coefficient_bits), ("calls", 16)
        )
        self.assertIn(self.verdicts()[0], ("kept", "close"))
        self.session.redo()
        self.settle()
        self.assertEqual(self.verdicts()[0], "missed")

    def test_filters_come_and_go_by_the_menu(self) -> None:
        actions = self.window.actions_table
        self.session.turn_to(1)
        actions.named("Add a filter behind this one").trigger()
        self.settle()
        project = self.session.project
        self.assertEqual((project.code_name, project.source, project.arithmetic.input), ("filter_1", "notch", "s16f15"))
        self.assertNotEqual(self.session.standings.of(project.member), "unknown")
        with mock.patch.object(QInputDialog, "getItem", return_value=("calls", True)):
            actions.named("Where samples come from…").trigger()
        self.assertEqual(self.session.project.source, "calls")
        with mock.patch.object(QInputDialog, "getText", return_value=("Owl band", True)):
            actions.named("Rename this filter…").trigger()
        self.assertEqual(self.session.project.requirement.name, "Owl band")
        actions.named("Duplicate this filter").trigger()
        self.assertEqual(self.session.project.code_name, "filter_1_2")
        actions.named("Remove this filter").trigger()
        actions.named("Move this filter earlier").trigger()
        self.settle()
        for _ in range(6):
            self.session.undo()
        self.settle()
        self.assertEqual(self.session.project.members, recorder_project().members)

    def test_a_filter_is_taken_from_another_project(self) -> None:
        path = self.folder / "other.combe"
        save_project(wake_up_project(), path)
        self.assertTrue(self.window.filters.take_from(path))
        self.settle()
        self.assertEqual((self.session.project.code_name, self.session.project.source), ("wake_up_2", "input"))
        path.write_text("{")
        with mock.patch.object(self.window.dialogs, "complain") as told:
            self.assertFalse(self.window.filters.take_from(path))
        told.assert_called_once()

    def test_a_joint_that_does_not_fit_is_seen_and_mended(self) -> None:
        self.session.turn_to(1)
        self.session.edit(edits.choose_arithmetic("input", input="s12f11"))
        self.settle()
        self.assertIn("notch takes s12f11, calls gives s16f15", self.chip("notch").toolTip())
        self.window.actions_table.named("Take samples as they come").trigger()
        self.assertEqual((self.session.project.arithmetic.input, self.chip("notch").remark), ("s16f15", ""))

    def test_a_proof_belongs_to_the_filter_it_was_made_of(self) -> None:
        self.session.turn_to(4)
        self.settle()
        proof = edits.record_proof(mock.Mock(spec=["checksum"], checksum="x"))
        self.session.note(proof)
        self.session.turn_to(0)
        self.assertEqual([len(member.proofs) for member in self.session.project.members], [0, 0, 0, 0, 1, 0, 0])

    def test_it_fits_with_thirty_filters_of_long_names(self) -> None:
        first = recorder_project().members[4]
        members = [replace(first, code_name=f"a_rather_long_name_of_a_filter_{k:02}_" + "x" * 60) for k in range(30)]
        project = recorder_project()
        many = replace(project, after=(*project.after, *members))
        self.window.replace_project(many, None)
        self.settle()
        QApplication.processEvents()
        self.window.setMinimumSize(0, 0)
        least = self.window.minimumSizeHint()
        self.assertLessEqual(least.width(), WIDEST, widest_parts(self.window))
        self.assertLessEqual(least.height(), HIGHEST)
        bar = self.window.path_bar
        for place in (34, 0, 17):
            self.session.turn_to(place)
            QApplication.processEvents()
            chip = next(chip for chip in bar.chips if chip.is_open)
            self.assertEqual(chip.place, place)
            self.assertGreaterEqual(chip.x(), 0)
            self.assertLessEqual(chip.geometry().right(), bar.width())
        self.assertNotIn("unknown", self.verdicts()[:4])


class Known(unittest.TestCase):
    def test_verdicts_are_of_exactly_the_filter_they_were_found_for(self) -> None:
        found, project = Standings(), recorder_project()
        self.assertTrue(found.note(project.member, "kept"))
        self.assertFalse(found.note(project.member, "kept"))
        self.assertEqual(found.of(edits.coefficient_bits(9).make(project).member), "unknown")
        self.assertEqual(found.unknown(project), [1, 2, 3, 4, 5, 6])

    def test_a_shelf_keeps_what_is_still_true(self) -> None:
        shelf, project = Shelf(), recorder_project()
        results = Results(
            contenders=("c",), fresh=frozenset({"contenders", "bench"}), bench="b", pending=frozenset({"facts"})
        )  # type: ignore[arg-type]
        shelf.leave(project, results)
        self.assertEqual(shelf.take(project.opened(1)), Results())
        back = shelf.take(project)
        self.assertEqual((back.contenders, back.bench, back.pending), (("c",), None, frozenset()))
        shelf.leave(project, results)
        self.assertNotIn("contenders", shelf.take(edits.move_edge(project, 0, "stop", 12_500.0).make(project)).fresh)
        for place in range(5):
            for k in range(4):
                shelf.leave(replace(project.opened(place), code_name=f"n{place}{k}"), results)
        self.assertLessEqual(len(shelf.kept), 8)

    def test_another_filter_is_told_from_the_same_one_renamed(self) -> None:
        project = recorder_project()
        renamed = tree_edits.name_code("bats").make(project)
        cases: tuple[tuple[Project, Project, bool], ...] = (
            (project, renamed, False), (project, project.opened(1), True), (project, tree_edits.move_filter(2).make(project), False),
            (project, tree_edits.remove_filter().make(project), True),
            (project, tree_edits.duplicate_filter().make(project), True), (demo_project(), edits.take_coefficients(Fir((1.0,))).make(demo_project()), False),
        )  # fmt: skip
        for before, now, wanted in cases:
            self.assertEqual(is_another(before, now), wanted)
