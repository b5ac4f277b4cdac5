"""Pages and languages are tables: whoever walks them finds everything, and nothing stands beside them."""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from combe.app.pages.register import CODE, NAMES, PLOTS, REGISTER, STEP, placed
from combe.delivery import languages
from combe.delivery.languages import CIRCUITS, LANGUAGES, Order, check_options, language_named
from combe.errors import FormatError
from combe.project.chain import ideal_of, package_of, rounded_of
from combe.project.demo import demo_project
from combe.project.document import hardware_of
from combe.project.edits import choose_language
from combe.project.results import DEPENDS

ROOT = Path(__file__).resolve().parent.parent


class Languages(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.project = demo_project()
        cls.ideal = ideal_of(cls.project)
        cls.rounded = rounded_of(cls.project, cls.ideal)

    def test_each_writes_files_of_its_own_kinds(self) -> None:
        for language in LANGUAGES:
            with self.subTest(language.name):
                project = choose_language(language.name).make(self.project)
                package = package_of(project, self.rounded, self.ideal)
                endings = {Path(file.name).suffix or file.name for file in package.files}
                self.assertLessEqual(endings - {".txt"}, {ending for ending, _ in language.lexers})
                self.assertTrue(package.main.name.endswith(language.main))
                self.assertEqual(package.circuit is not None, language.is_circuit)
                self.assertIs(package.written_in, language)

    def test_order_and_direct_writer_give_the_same_text(self) -> None:
        from combe.delivery.c import c_package

        project, made = self.project, self.rounded.realization
        order = Order(made, "calls", project.code, hardware_of(project))
        self.assertEqual(language_named("c").write(order).files, c_package(made, "calls").files)

    def test_an_option_of_another_language_is_refused_with_its_owners(self) -> None:
        for name, key, owners in (
            ("c", "pipeline", "Verilog or VHDL"), ("vhdl", "history", "C or C++"), ("c++", "target", "C"),
            ("verilog", "guard", "C or C++"),
        ):  # fmt: skip
            with self.assertRaises(FormatError) as caught:
                check_options(language_named(name), {key: f"--{key}"})
            self.assertIn(f"it belongs to {owners}", caught.exception.sentence())
            self.assertIn(f"--{key}", caught.exception.sentence())
        for language in LANGUAGES:
            check_options(language, {key: f"--{key}" for key in (*language.choices, *language.extras, "name")})

    def test_the_command_line_refuses_them_even_at_their_usual_value(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            words = ["deliver", "none.json", "--language", "c", "--pipeline", "1", "--to", folder]
            done = subprocess.run(
                [sys.executable, "-c", "import sys; from combe.cli import run_verb; sys.exit(run_verb(sys.argv[1:]))", *words],
                capture_output=True, text=True, check=False, cwd=folder,
            )  # fmt: skip
            self.assertEqual((done.returncode, list(Path(folder).iterdir())), (2, []))
            self.assertIn("does not go with C", done.stderr)

    def test_nobody_else_tells_languages_apart(self) -> None:
        names = "|".join(re.escape(name) for name in languages.NAMES if len(name) > 1)
        pattern = re.compile(rf"""(==|!=|\bin\b)\s*\(?["']({names}|c)["']""")
        own = {"delivery/languages.py", "delivery/story.py"}
        for path in (ROOT / "combe").rglob("*.py"):
            inside = path.relative_to(ROOT / "combe").as_posix()
            if inside in own or inside.startswith(("delivery/c/", "delivery/hdl/", "proof/")):
                continue
            self.assertIsNone(pattern.search(path.read_text(encoding="utf-8")), inside)

    def test_circuits_and_processors_are_told(self) -> None:
        self.assertEqual([each.name for each in LANGUAGES if each.kind == CIRCUITS], ["verilog", "vhdl"])
        with self.assertRaises(FormatError):
            language_named("cobol")


class Pages(unittest.TestCase):
    def test_every_entry_is_whole(self) -> None:
        self.assertEqual(len(set(NAMES)), len(REGISTER))
        for entry in REGISTER:
            self.assertIn(entry.place, (STEP, PLOTS, CODE))
            self.assertEqual(bool(entry.made_in), entry.place != STEP or entry.name == "bench")
            self.assertLessEqual({*entry.shows, *([entry.wants] if entry.wants else [])}, set(DEPENDS), entry.name)

    def test_every_page_can_be_made_shows_a_scene_and_can_be_dressed(self) -> None:
        from PyQt6.QtWidgets import QApplication

        application = QApplication.instance() or QApplication(["combe"])
        from combe.app.pages.page import Page, Scene
        from combe.project.results import Results

        project = demo_project()
        ideal = ideal_of(project)
        scenes = [Scene(project, Results()), Scene(project, Results(ideal=ideal, rounded=rounded_of(project, ideal)))]
        for entry in (*placed(PLOTS), *placed(CODE)):
            with self.subTest(entry.name):
                page = entry.make()
                self.assertIsInstance(page, Page)
                page.resize(640, 480)
                for scene in scenes:
                    page.show_scene(scene)
                page.dress()
                if page.modes():
                    self.assertIn(page.mode, page.modes())
                self.assertFalse(page.grab().isNull())
                self.assertTrue(page.copy())
        self.assertIsNotNone(application)

    def test_every_page_is_in_a_file_of_its_own_folder(self) -> None:
        for entry in REGISTER:
            if entry.made_in:
                module = entry.made_in.split(":")[0]
                self.assertTrue((ROOT / "combe" / "app" / "pages" / f"{module}.py").exists())

    def test_pictures_of_the_manual_are_those_of_the_register(self) -> None:
        named = {name for entry in REGISTER for name, _ in entry.pictures}
        found = {path.stem for path in (ROOT / "docs" / "screenshots").glob("*.png")}
        self.assertEqual(named, found)
        self.assertLess(len(found), 20)

    def test_the_names_come_without_qt(self) -> None:
        code = "import sys; import combe.app.pages.register; sys.exit('PyQt6' in sys.modules)"
        self.assertEqual(subprocess.run([sys.executable, "-c", code], check=False, cwd=ROOT).returncode, 0)


if __name__ == "__main__":
    unittest.main()
