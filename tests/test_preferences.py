"""Preferences and templates: kept, read with care, and felt where they matter."""

from __future__ import annotations

import json
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from PyQt6.QtWidgets import QDialogButtonBox, QInputDialog

from combe.app.preferences import Preferences
from combe.app.settings import Settings
from combe.app.theme.palette import THEME
from combe.project import edits, templates
from combe.project.demo import recorder_project
from combe.project.document import ProofRecord
from combe.project.file import read_project
from tests.window_case import QApplication, WindowCase


class Kept(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.path = self.folder / "settings.json"
        patched = mock.patch("platformdirs.user_config_dir", return_value=str(self.folder))
        patched.start()
        self.addCleanup(patched.stop)

    def test_what_was_chosen_is_there_after_the_next_start(self) -> None:
        made = Settings(
            scale=125, input_format="u12f12", output_format="s18f17", coefficient_bits=18, tool_folders=["/opt/tools"]
        )
        made.save()
        found = Settings.load()
        self.assertEqual(
            (found.scale, found.input_format, found.output_format, found.coefficient_bits, found.tool_folders),
            (125, "u12f12", "s18f17", 18, ["/opt/tools"]),
        )

    def test_each_that_cannot_be_read_is_as_if_never_set(self) -> None:
        good = {"theme": "dark", "counted": "hz", "recent": [], "scale": 150, "coefficient_bits": 18}
        usual = Settings()
        for key, value in (
            ("scale", 9999),
            ("scale", "big"),
            ("coefficient_bits", -1),
            ("input_format", "loud"),
            ("input_format", ""),
            ("output_format", 5),
            ("tool_folders", "x"),
        ):
            self.path.write_text(json.dumps(good | {key: value}))
            found = Settings.load()
            self.assertEqual(getattr(found, key), getattr(usual, key), key)
            self.assertEqual(found.theme, "dark")

    def test_tools_are_looked_for_first_where_it_says(self) -> None:
        with mock.patch.dict(os.environ, {"PATH": "/usr/bin"}):
            settings = Settings(tool_folders=["/opt/a", "/usr/bin"])
            settings.find_tools()
            settings.find_tools()
            self.assertEqual(os.environ["PATH"], os.pathsep.join(["/opt/a", "/usr/bin"]))

    def test_templates_are_filters_without_what_was_proved(self) -> None:
        project = edits.record_proof(ProofRecord("c", "x", "gcc", 1)).make(recorder_project().opened(1))
        path = templates.keep(project, "  quiet notch ", self.folder / "t")
        found = read_project(path)
        self.assertEqual((found.code_name, found.source, found.proofs, len(found.members)), ("notch", "input", (), 1))
        self.assertEqual(templates.names(self.folder / "t"), ["quiet notch"])
        self.assertEqual(templates.names(self.folder / "none"), [])
        for name in ("", "a/b", "..", ".hidden", "x" * 200):
            with self.assertRaises(Exception) as caught:
                templates.keep(project, name, self.folder / "t")
            self.assertIn("no name for a template", str(caught.exception))


class InTheWindow(WindowCase):
    def test_they_are_taken_and_shown(self) -> None:
        dialog = Preferences(self.window.settings, self.window)
        ok = dialog.buttons.button(QDialogButtonBox.StandardButton.Ok)
        for field, wrong, right in (
            (dialog.input, "loud", "s12f11"),
            (dialog.output, "16", ""),
            (dialog.folders, "/no/such/folder", str(self.folder)),
        ):
            field.setText(wrong)
            self.assertFalse(ok.isEnabled())
            self.assertTrue(dialog.told.text())
            field.setText(right)
            self.assertTrue(ok.isEnabled(), right)
        dialog.theme.setCurrentText("dark")
        dialog.bits.setValue(14)
        with mock.patch.dict(os.environ, {"PATH": "/usr/bin"}):
            self.window.dialogs.prefer(dialog)
            self.assertTrue(os.environ["PATH"].startswith(str(self.folder)))
        self.window.wardrobe.finish()
        self.addCleanup(lambda: THEME.use("light", QApplication.instance()))
        self.assertEqual((self.window.settings.theme, self.window.settings.input_format), ("dark", "s12f11"))
        self.session.saved = self.session.project
        self.window.dialogs.new()
        self.settle()
        arithmetic = self.session.project.arithmetic
        self.assertEqual((arithmetic.coefficient_bits, arithmetic.input, arithmetic.output), (14, "s12f11", ""))
        self.window.filters.add()
        self.assertEqual(self.session.project.arithmetic.coefficient_bits, 14)

    def test_a_template_of_ones_own_starts_a_filter(self) -> None:
        filters = self.window.filters
        with mock.patch.object(QInputDialog, "getText", return_value=("bats", True)):
            filters.keep_template()
        self.session.edit(edits.coefficient_bits(9))
        with mock.patch.object(QInputDialog, "getItem", return_value=("bats", True)):
            filters.add_template()
        self.settle()
        self.assertEqual(
            (self.session.project.code_name, self.session.project.arithmetic.coefficient_bits), ("calls_2", 16)
        )
        with mock.patch.object(self.window.dialogs, "complain") as told:
            self.assertFalse(filters.keep_template_as("../x"))
        told.assert_called_once()
