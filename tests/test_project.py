"""Projects, their files and history, and the rules of the layout."""

from __future__ import annotations

import ast
import json
import os
import tempfile
import unittest
from functools import cache
from pathlib import Path
from unittest import mock

from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.recipes import Recipe
from combe.errors import CombeError, FileError
from combe.files import json_text, write_text
from combe.project.chain import arithmetic_lines, ideal_of, package_of, rounded_of
from combe.project.demo import demo_project, fresh_project
from combe.project.document import DesignChoice, Processor, Project, ProofRecord
from combe.project.file import project_document, project_from, read_project, save_project
from combe.project.history import History
from combe.requirement import requirement_document
from combe.rounding.realize import Choices
from combe.signals.survey import night_recording
from combe.values import replace
from tests.support import BAT, both_versions

ROOT = Path(__file__).resolve().parent.parent
ORDER = (
    "requirement", "filters", "responses", "designing", "ledger", "realization", "running", "analysis", "rounding", "signals",
    "delivery", "proof", "racing", "benching", "project", "reports", "api", "cli", "app",
)  # fmt: skip


class Files(unittest.TestCase):
    def test_a_project_saved_and_opened_is_the_same(self) -> None:
        full = replace(
            demo_project(), design=DesignChoice("equiripple", 106, -1), arithmetic=Choices(13, "direct", "u12f12", "s20f18", 40, "floor", "wrap"),
            proofs=(ProofRecord("c", "abc", "gcc 12", 65_536, ideal_of(demo_project()).lines),),
        )  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            for project in (demo_project(), fresh_project(), full):
                path = Path(folder) / "p.combe"
                save_project(project, path)
                opened = read_project(path)
                self.assertEqual(opened, project)
                self.assertEqual(opened.proofs, project.proofs)

    def test_a_requirement_file_opens_as_a_new_project(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "r.json"
            path.write_text(json.dumps(requirement_document(BAT)), encoding="utf-8")
            self.assertEqual(read_project(path).requirement, BAT)

    def test_every_mistake_names_its_key(self) -> None:
        for key, value in (
            ("version", 0), ("version", "1"), ("version", True), ("requirement", None), ("design", {"order": -1}), ("design", {"method": "magic"}), ("design", []),
            ("arithmetic", {"input": "s16"}), ("arithmetic", {"coefficient_bits": "many"}), ("code", {"name": "a b"}),
            ("proofs", [1]), ("surprise", 1),
        ):  # fmt: skip
            own = key in ("format", "version", "name")
            whole = ((project_document(demo_project()) | {key: value}, ""),)
            for document, before in whole if own else both_versions(demo_project(), key, value):
                with self.assertRaises(CombeError, msg=key) as caught:
                    project_from(document)
                found = caught.exception.sentence()
                self.assertIn("name" if key == "code" else key, found)
                self.assertTrue(found.startswith(before), found)

    def test_choices_about_code_are_read_with_care(self) -> None:
        for key, value, word in (
            ("code", {"name": "x", "history": "triple"}, "code.history"), ("code", {"name": "x", "unroll": 5}, "code.unroll"),
            ("code", {"name": "x", "intrinsics": 1}, "code.intrinsics"), ("code", {"name": "x", "file_name": "a b"}, "code.name"),
            ("code", {"name": "x", "converter_in": "12"}, "code.converter_out"), ("processor", {"core": "abacus"}, "processor.core"),
            ("processor", {"clock_hz": 0}, "processor.clock_hz"), ("hardware", {"architecture": "x"}, "hardware.architecture"),
            ("hardware", {"pipeline": 99}, "hardware.pipeline"), ("hardware", {"axi_stream": 3}, "hardware.axi_stream"),
            ("recipe", {"format": "combe-recipe", "version": 1, "radix": "octal"}, "radix"), ("recipe", {"version": 1}, "format"),
        ):  # fmt: skip
            for document, before in both_versions(demo_project(), key, value):
                with self.assertRaises(CombeError, msg=word) as caught:
                    project_from(document)
                self.assertTrue(caught.exception.sentence().startswith(before))
                self.assertIn(word, caught.exception.sentence())

    def test_choices_about_code_are_kept(self) -> None:
        project = replace(
            demo_project(), code=CodeChoices("vhdl", unroll=8, converter_in="12@3", converter_out="8", reloadable=True),
            hardware=HardwareChoices("serial", 1e7, 0, 2, axi_stream=True), processor=Processor("cortex-m7", 4e8, "0.8"),
            recipe=Recipe("mine", "x", half=True), export_folder="/tmp/x",
        )  # fmt: skip
        again = project_from(json.loads(json.dumps(project_document(project))))
        self.assertEqual((again, again.export_folder), (project, "/tmp/x"))

    def test_a_failed_write_leaves_the_old_file(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "p.combe"
            save_project(demo_project(), path)
            before = path.read_bytes()
            with mock.patch("combe.files.os.fsync", side_effect=OSError(28, "No space left")):
                self.assertRaises(FileError, save_project, fresh_project(), path)
            self.assertEqual(path.read_bytes(), before)
            self.assertEqual(os.listdir(folder), ["p.combe"])
            self.assertRaises(FileError, write_text, Path(folder) / "none" / "x", "text")

    def test_levels_of_minus_infinity_are_written_as_numbers(self) -> None:
        self.assertEqual(json.loads(json_text({"a": [float("-inf")]})), {"a": [-400.0]})


class UndoRedo(unittest.TestCase):
    def test_steps_go_back_and_forth(self) -> None:
        first = demo_project()
        second, third = replace(first, code_name="b"), replace(first, code_name="c")
        history = History(first)
        self.assertTrue(history.change(second, "one"))
        self.assertFalse(history.change(second, "nothing"))
        history.change(third, "two")
        self.assertEqual((history.undo_name, history.redo_name), ("two", ""))
        self.assertEqual(history.undo(), second)
        self.assertEqual(history.undo(), first)
        self.assertEqual(history.undo(), first)
        self.assertEqual(history.redo(), second)
        history.change(first, "branch")
        self.assertEqual(history.redo_name, "")

    def test_a_whole_drag_is_one_step(self) -> None:
        first = demo_project()
        history = History(first)
        for index in range(5):
            history.change(replace(first, code_name=f"n{index}"), "drag", "gesture")
        history.end_gesture()
        history.change(replace(first, code_name="after"), "drag", "gesture")
        self.assertEqual(history.undo().code_name, "n4")
        self.assertEqual(history.undo(), first)


class Demo(unittest.TestCase):
    def test_the_demo_keeps_every_limit_at_every_step(self) -> None:
        project: Project = demo_project()
        ideal = ideal_of(project)
        rounded = rounded_of(project, ideal)
        for lines in (ideal.lines, rounded.lines, arithmetic_lines(rounded)):
            self.assertTrue(all(line.margin >= 0 for line in lines))
        self.assertEqual(package_of(project, rounded, ideal), package_of(project, rounded, ideal))

    def test_the_night_is_the_same_every_time_and_fits_the_converter(self) -> None:
        from combe.realization.formats import parse_format

        entry = parse_format("s12f11")
        night = night_recording(entry, 250_000)
        self.assertEqual(night.tolist(), night_recording(entry, 250_000).tolist())
        self.assertTrue(all(entry.holds(int(raw)) for raw in night))
        self.assertGreater(night.max(), 500)


@cache
def imports(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module} | {f"{node.module}.{alias.name}" for alias in node.names}
    return found


class Layout(unittest.TestCase):
    def test_imports_only_point_up_the_list(self) -> None:
        # The designing folder measures what it made, so the ledger stands beside it; realizations read design files.
        allowed = {("designing", "ledger")}
        for path in (ROOT / "combe").rglob("*.py"):
            parts = path.relative_to(ROOT / "combe").parts
            if len(parts) < 2 or parts[0] in ("cli", "app"):
                continue
            here = ORDER.index(parts[0])
            for name in imports(path):
                words = name.split(".")
                if words[0] == "combe" and len(words) > 1 and words[1] in ORDER:
                    points_up = ORDER.index(words[1]) <= here or (parts[0], words[1]) in allowed
                    self.assertTrue(points_up, f"{path} imports {name}")

    def test_qt_stays_in_the_application(self) -> None:
        for path in (ROOT / "combe").rglob("*.py"):
            if "app" not in path.relative_to(ROOT / "combe").parts:
                self.assertFalse([name for name in imports(path) if name.startswith(("PyQt", "pyqtgraph"))], str(path))

    def test_the_work_of_the_job_is_done_in_our_own_code(self) -> None:
        for folder in ("combe", "tests"):
            for path in (ROOT / folder).rglob("*.py"):
                self.assertNotIn("scipy." + "signal", " ".join(imports(path)), str(path))
