"""What the window keeps and writes: projects, exports, generated code and its proofs."""

from __future__ import annotations

import json
import shutil
import time
import unittest
from unittest import mock

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QMessageBox, QWidget

from combe.app.states import states
from combe.delivery import languages
from combe.project import edits
from combe.project.file import read_project
from combe.project.unsaved import left_behind
from combe.values import replace
from tests.support import IS_CAMPAIGN, fewer_vectors, in_campaign
from tests.test_delivery import HAS_GCC
from tests.window_case import WindowCase, type_over

setUpModule = fewer_vectors


class Keeping(WindowCase):
    def test_save_close_and_open_again(self) -> None:
        type_over(self.window.brief.rows[0].figures["stop"], "11k")
        self.settle()
        path = self.folder / "bats.combe"
        self.assertTrue(self.session.is_modified)
        self.assertTrue(self.window.dialogs.save_path(path))
        self.assertFalse(self.session.is_modified)
        saved = self.session.project
        self.window.actions_table.named("Open the demo").trigger()
        self.settle()
        self.assertNotEqual(self.session.project, saved)
        self.assertTrue(self.window.dialogs.open_path(path))
        self.settle()
        self.assertEqual(self.session.project, saved)
        self.assertEqual(read_project(path), saved)
        self.assertIn("bats.combe", self.window.windowTitle())

    def test_a_bad_file_leaves_everything_as_it_is(self) -> None:
        path = self.folder / "bad.combe"
        path.write_text('{"format": "combe-project"', encoding="utf-8")
        before = self.session.project
        with mock.patch.object(QMessageBox, "warning") as warning:
            self.assertFalse(self.window.dialogs.open_path(path))
        self.assertIn("line 1", warning.call_args.args[2])
        self.assertEqual(self.session.project, before)
        with mock.patch.object(QMessageBox, "warning") as warning:
            self.assertFalse(self.window.dialogs.save_path(self.folder / "none" / "x.combe"))
        warning.assert_called_once()

    def test_unsaved_work_is_kept_until_it_is_saved(self) -> None:
        from combe.app.recovery import Recovery

        recovery = Recovery(self.session, self.folder / "state")
        recovery.keep()
        self.assertFalse(recovery.keeper.path.exists())
        self.window.dialogs.rename_to("Bats at night")
        recovery.keep()
        self.assertEqual(left_behind(self.folder / "state"), [], "a living window's copy is nobody else's")
        recovery.keeper.path.with_suffix(".lock").rename(self.folder / "gone.lock")
        (left,) = left_behind(self.folder / "state")
        assert left.project is not None
        self.assertEqual((left.name, left.changes), ("Bats at night", ("rename",)))
        self.session.undo()
        self.session.take_up(left.project)
        self.assertTrue(self.session.is_modified)
        self.assertEqual(self.session.project, left.project)
        self.window.dialogs.save_path(self.folder / "p.combe")
        recovery.keep()
        self.assertFalse(recovery.keeper.path.exists())

    def test_a_copy_is_written_however_fast_changes_follow(self) -> None:
        from combe.app.recovery import Recovery

        recovery = Recovery(self.session, self.folder / "state")
        ends, count = time.monotonic() + 20, 0
        while not recovery.keeper.path.exists() and time.monotonic() < ends:
            count += 1
            self.session.edit(edits.rename(f"Bats {count}"))
            QTest.qWait(20)
        self.assertTrue(recovery.keeper.path.exists(), "20 changes a second put the copy off")
        kept = json.loads(recovery.keeper.path.read_text())
        self.assertLess(count - int(kept["project"]["name"].split()[1]), 100)
        recovery.forget()

    def test_a_file_changed_by_someone_else_is_asked_about_and_never_written_over_in_silence(self) -> None:
        dialogs, path = self.window.dialogs, self.folder / "shared.combe"
        self.assertTrue(dialogs.save_path(path))
        ours = path.read_text()
        theirs = ours.replace(json.loads(ours)["name"], "Theirs")
        path.write_text(theirs)
        self.assertEqual(self.window.watch.state, "changed")
        for _ in range(100):
            QTest.qWait(20)
            if self.window.file_bar.isVisible():
                break
        self.assertTrue(self.window.file_bar.isVisible())
        self.assertLessEqual(self.window.minimumSizeHint().width(), 1180)
        dialogs.rename_to("Mine")
        with mock.patch("combe.app.dialogs.QMessageBox.exec"):
            self.assertFalse(dialogs.save_path(path))
        self.assertEqual(path.read_text(), theirs)
        self.window.file_bar.answered.emit("mine")
        self.assertTrue(dialogs.save_path(path))
        self.assertEqual(read_project(path).name, "Mine")
        path.write_text(theirs)
        self.window.file_bar.answered.emit("theirs")
        self.assertEqual(self.session.project.name, "Theirs")
        path.unlink()
        self.assertEqual(self.window.watch.state, "deleted")
        self.window.watch.look()
        self.assertIn("no longer", self.window.file_bar.words.text())
        self.window.file_bar.answered.emit("mine")
        self.assertTrue(path.exists())

    def test_closing_with_unsaved_work_asks(self) -> None:
        type_over(self.window.brief.rows[0].figures["stop"], "11k")
        with mock.patch.object(QMessageBox, "question", return_value=QMessageBox.StandardButton.Cancel) as question:
            self.assertFalse(self.window.close())
        question.assert_called_once()

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_export_and_prove(self) -> None:
        self.window.open_step("code")
        self.assertIn("calls_run", self.window.code_view.text.toPlainText())
        self.assertTrue(self.window.dialogs.export_to(self.folder / "c"))
        self.assertTrue((self.folder / "c" / "calls.c").exists())
        QTest.mouseClick(self.window.code.prove, Qt.MouseButton.LeftButton)
        self.settle()
        self.assertEqual(states(self.session)["code"].margin, "identical")
        self.assertTrue(self.window.ledger.ledger.words(0, 5)[0])
        path = self.folder / "p.combe"
        self.window.dialogs.save_path(path)
        type_over(self.window.brief.rows[0].figures["stop"], "11k")
        self.settle()
        self.assertEqual(states(self.session)["code"].verdict, "unknown")
        self.session.saved = self.session.project
        self.window.dialogs.open_path(path)
        self.settle()
        self.assertEqual(states(self.session)["code"].margin, "identical")
        # A folder below the project's is told relative to it, wherever the project is saved.
        self.assertEqual(self.session.project.export_folder, "c")
        (self.folder / "sub").mkdir()
        self.window.dialogs.save_path(self.folder / "sub" / "q.combe")
        self.assertEqual(self.session.project.export_folder, str(self.folder / "c"))
        self.window.dialogs.save_path(path)
        self.assertEqual(read_project(path).export_folder, "c")

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_choices_of_code_change_its_text(self) -> None:
        window = self.window
        window.open_step("code")
        panel, view = window.code, window.code_view
        panel.boxes["history"].setCurrentText("double")
        panel.boxes["history"].activated.emit(1)
        self.settle()
        self.assertEqual(self.session.project.code.history, "double")
        self.assertIn("kept twice", view.text.toPlainText())
        for key, words in (("converter_in", "12"), ("converter_out", "12@2000")):
            panel.texts[key].setFocus()
            panel.texts[key].selectAll()
            QTest.keyClicks(panel.texts[key], words)
            QTest.keyClick(panel.texts[key], Qt.Key.Key_Return)
        self.settle()
        self.assertEqual(self.session.project.code.converter_out, "12@2000")
        self.assertIn("calls_run_codes", view.text.toPlainText())
        panel.boxes["number"].setCurrentText("single")
        panel.boxes["number"].activated.emit(1)
        self.settle()
        self.assertEqual(self.session.project.code.converter_in, "")
        self.assertIn("as real values", view.text.toPlainText())
        window.dialogs.save_path(self.folder / "p.combe")
        self.assertEqual(read_project(self.folder / "p.combe").code, self.session.project.code)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_changes_since_the_last_export_are_shown(self) -> None:
        view = self.window.code_view
        self.window.open_step("code")
        self.window.dialogs.export_to(self.folder / "c")
        view.changes.setChecked(True)
        view.open_file(1)
        self.assertIn("Nothing has changed", view.text.toPlainText())
        self.session.change(replace(self.session.project, code_name="bats"), "name")
        self.settle()
        self.assertIn("isn't there", view.text.toPlainText())
        self.session.change(
            replace(self.session.project, code_name="calls", code=replace(self.session.project.code, unroll=4)),
            "unroll",
        )
        self.settle()
        self.assertIn("+    CALLS_UNROLL(2)", view.text.toPlainText())

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_the_measured_response_is_drawn_after_a_proof(self) -> None:
        page = self.window.code_view.page("measured")
        self.window.open_step("code")
        self.window.code_view.open_page("measured")
        self.assertIn("Prove the code", page.words.text())
        self.session.prove()
        self.settle()
        self.assertIsNotNone(page.heard)
        self.assertIn("1023 frequencies", page.words.text())
        self.assertTrue(all(item.isVisible() for item in page.found))

    def test_the_table_follows_its_recipe(self) -> None:
        page = self.window.code_view.page("table")
        self.window.open_step("code")
        self.window.code_view.open_page("table")
        self.settle()
        self.assertIn("static const int16_t calls[113]", page.text.toPlainText())
        page.half.click()
        self.settle()
        self.assertIn("calls[57]", page.text.toPlainText())
        QTest.keyClicks(page.texts["value"], "L")
        self.settle()
        self.assertIn("124L, -52L", page.text.toPlainText())
        page.save_path(str(self.folder / "own.json"))
        self.session.undo()
        self.settle()
        page.open_path(str(self.folder / "own.json"))
        self.settle()
        self.assertIn("124L, -52L", page.text.toPlainText())
        page.open_path(str(self.folder / "none.json"))
        self.assertIn("no recipe and no file", page.trouble.text())
        page.gallery.setCurrentIndex(4)
        page.gallery.activated.emit(4)
        self.settle()
        self.assertEqual(len(json.loads(page.text.toPlainText())), 113)
        self.window.dialogs.save_path(self.folder / "p.combe")
        self.assertEqual(read_project(self.folder / "p.combe").recipe, self.session.project.recipe)

    @unittest.skipUnless(shutil.which("qemu-system-arm") and shutil.which("arm-none-eabi-gcc"), "no emulator")
    @in_campaign
    def test_the_budget_counts_and_follows_the_clock(self) -> None:
        page = self.window.code_view.page("budget")
        self.window.open_step("code")
        self.window.code_view.open_page("budget")
        with mock.patch("combe.project.proving.BUDGET_TAPS", (16,)):
            page.measure.click()
            self.settle()
            shares = [row.share for row in page.rows if row.variant == "integer" and not row.taps]
            self.assertEqual(len(shares), 4)
            self.assertEqual({row.taps for row in page.rows}, {0, 16})
            page.clock.setText("160")
            page.clock.editingFinished.emit()
            self.settle()
        again = [row.share for row in page.rows if row.variant == "integer" and not row.taps]
        for before, after in zip(shares, again):
            self.assertAlmostEqual(after, before / 2)
        page.clock.setText("fast")
        page.clock.editingFinished.emit()
        self.assertIn("not a clock", page.words.text())

    @unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
    def test_a_circuit_is_chosen_drawn_and_proved(self) -> None:
        window, view, panel = self.window, self.window.code_view, self.window.code
        window.open_step("code")
        panel.boxes["language"].setCurrentText("verilog")
        panel.boxes["language"].activated.emit(2)
        self.settle()
        self.assertEqual(view.package.files[0].name if view.package else "", "calls.v")
        self.assertEqual(view.offered, ["table", "path", "cost", "capture", "together", "waves"])
        self.assertTrue(
            panel.form.isRowVisible(panel.architecture) and not panel.form.isRowVisible(panel.boxes["history"])
        )
        view.open_page("path")
        self.settle()
        self.assertIn("serial, chosen by itself", view.page("path").words.text())
        QTest.mouseClick(view.page("path").buttons["folded"], Qt.MouseButton.LeftButton)
        self.settle()
        self.assertEqual(self.session.project.hardware.architecture, "folded")
        self.assertIn("56 multipliers", view.page("path").words.text())
        self.assertFalse(view.page("path").grab().isNull())
        for architecture in ("multiplierless", "serial"):
            view.page("path").buttons[architecture].click()
            self.settle()
            self.assertTrue(view.page("path").view.diagram and view.page("path").view.diagram.shapes)
            self.assertFalse(view.page("path").grab().isNull())
        view.open_page("cost")
        self.assertEqual(next(row.architecture for row in view.page("cost").rows if row.is_possible), "parallel")
        self.assertFalse(view.page("cost").grab().isNull())
        panel.hardware_fields["clock_hz"].setFocus()
        QTest.keyClicks(panel.hardware_fields["clock_hz"], "10")
        QTest.keyClick(panel.hardware_fields["clock_hz"], Qt.Key.Key_Return)
        self.settle()
        view.open_file(0)
        self.assertIn("semi-parallel with", view.text.toPlainText())
        view.open_page("cost")
        view.page("cost").table.cellClicked.emit(1, 0)
        self.settle()
        self.assertEqual(self.session.project.hardware.architecture, "transposed")
        window.dialogs.save_path(self.folder / "p.combe")
        self.assertEqual(read_project(self.folder / "p.combe").hardware, self.session.project.hardware)
        if not IS_CAMPAIGN:
            return  # every language is proved in a window by test_sizes, every day
        with mock.patch.dict(
            languages.BY_NAME, {"verilog": replace(languages.BY_NAME["verilog"], tools=("iverilog",))}
        ):
            self.session.prove()
            self.settle()
        self.assertEqual(states(self.session)["code"].margin, "identical")
        view.open_page("waves")
        self.assertEqual([wave.name for wave in view.page("waves").waves][:2], ["clk", "rst"])
        self.assertFalse(view.page("waves").grab().isNull())

    def test_a_name_that_cannot_stand_in_code_is_told(self) -> None:
        self.window.open_step("code")
        field: QWidget = self.window.code.name
        field.setFocus()
        self.window.code.name.selectAll()
        QTest.keyClicks(field, "int")
        self.assertIn("means something else in C", self.window.code.complaint.text())
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual(self.session.project.code_name, "calls")
        self.window.code.name.selectAll()
        QTest.keyClicks(field, "bats")
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.assertEqual(self.session.project.code_name, "bats")
