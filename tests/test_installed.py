"""What an installation brings beside the command: manual page, completion, desktop entry, file type."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import tomllib
import unittest
import xml.etree.ElementTree as Xml
from pathlib import Path

from combe.cli import VERBS
from tests.test_cli import call
from tools.manual_page import PAGE, page, plain

ROOT = Path(__file__).resolve().parent.parent


def completed(words: str, place: int) -> list[str]:
    environment = {**os.environ, "_COMBE_COMPLETE": "complete_bash", "COMP_WORDS": words, "COMP_CWORD": str(place)}
    done = subprocess.run(
        [sys.executable, "-m", "combe"], cwd=ROOT, env=environment, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    return done.stdout.split()


class Installed(unittest.TestCase):
    def test_the_manual_page_is_of_today(self) -> None:
        self.assertEqual(PAGE.read_text(encoding="utf-8"), page(), "run tools/manual_page.py")
        for name in VERBS:
            self.assertIn(f".B combe {name}\n", page())
        self.assertEqual(plain(".so x \\fB-y"), "\\&.so x \\efB\\-y")

    def test_words_are_completed(self) -> None:
        self.assertEqual(completed("combe de", 1), ["demo", "design", "deliver"])
        self.assertIn("--filter", completed("combe check x.combe --fi", 3))

    def test_completion_is_installed_where_a_shell_finds_it(self) -> None:
        with tempfile.TemporaryDirectory() as home:
            environment = {**os.environ, "HOME": home, "SHELL": "/bin/bash"}
            done = subprocess.run(
                [sys.executable, "-m", "combe", "--install-completion"],
                cwd=ROOT,
                env=environment,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual((done.returncode, done.stderr), (0, ""))
            path = re.search(r"is in (\S+);", done.stdout)
            assert path is not None
            self.assertIn("combe", Path(path[1]).read_text())
        status, _, said = call("--install-completion", "tcsh")
        self.assertEqual(status, 2)
        self.assertIn("bash, zsh, fish", said)
        self.assertIn("complete", call("--show-completion", "fish")[1])

    def test_files_of_the_desktop_belong_together(self) -> None:
        project = tomllib.loads((ROOT / "pyproject.toml").read_text())
        files = [name for names in project["tool"]["setuptools"]["data-files"].values() for name in names]
        for name in files:
            self.assertTrue((ROOT / name).is_file(), name)
        entry = dict(
            line.split("=", 1)
            for line in (ROOT / "packaging" / "combe.desktop").read_text().splitlines()
            if "=" in line
        )
        kind = Xml.parse(ROOT / "packaging" / "combe.xml").getroot()[0]
        self.assertEqual(entry["MimeType"].rstrip(";"), kind.get("type"))
        self.assertTrue(any(child.get("pattern") == "*.combe" for child in kind))
        self.assertEqual((entry["Icon"], entry["Exec"]), ("combe", "combe %f"))
