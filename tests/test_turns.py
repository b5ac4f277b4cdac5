"""Long tests take turns: none is forgotten, and whoever changes something gets all of them."""

from __future__ import annotations

import os
import re
import subprocess
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from tests import turns
from tests.run import left_of


class Turns(unittest.TestCase):
    def setUp(self) -> None:
        patched = mock.patch.dict(os.environ)
        patched.start()
        self.addCleanup(patched.stop)
        for name in ("COMBE_TURN", "COMBE_CAMPAIGN"):
            os.environ.pop(name, None)

    def test_every_long_test_has_its_turn(self) -> None:
        names = set(turns.long_tests())
        rows = [names - turns.waiting(now) for now in range(turns.TURNS)]
        self.assertEqual(set().union(*rows), names)
        self.assertEqual(set.intersection(*rows), set(turns.EVERY_TIME) & names)
        for row in rows:
            self.assertLess(len(row), 0.3 * len(names))

    def test_the_table_names_tests_there_are(self) -> None:
        for name in turns.long_tests():
            module, words = name.split(": ")
            text = (turns.TABLE.parent / f"{module}.py").read_text(encoding="utf-8")
            found = {each.replace("_", " ") for each in re.findall(r"def test_(\w+)\(", text)}
            self.assertIn(words, found, f"{module}: write the table anew")

    def test_what_waits_is_left_out_and_nothing_else(self) -> None:
        loaded = unittest.TestLoader().loadTestsFromTestCase(Turns)
        kept = left_of(unittest.TestSuite([loaded]), frozenset({"test_turns: every long test has its turn"}))
        self.assertEqual(kept.countTestCases(), loaded.countTestCases() - 1)

    def test_a_quick_run_leaves_out_all_that_take_long_whatever_is_changed(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            names, words = turns.left_out(Path(place), True)
            self.assertEqual(names, frozenset(turns.long_tests()))
            self.assertIn(f"{len(names)} long tests", words)
            self.assertEqual(turns.left_out(Path(place), False), (frozenset(), ""))
            os.environ["COMBE_TURN"] = "1"
            names, words = turns.left_out(Path(place), False)
            self.assertEqual(names, turns.waiting(1))
            self.assertIn(f"turn 2 of {turns.TURNS}: {len(names)} ", words)

    def test_a_change_runs_all_and_the_next_commit_the_next_turn(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            self.assertIsNone(turns.turn(folder), "no repository")

            def git(*words: str) -> None:
                head = ("git", "-C", place, "-c", "user.name=a", "-c", "user.email=a@b", "-c", "commit.gpgsign=false")
                subprocess.run([*head, *words], check=True, capture_output=True)

            git("init")
            seen = []
            for text in "abcde":
                (folder / "file").write_text(text)
                git("add", "file")
                self.assertIsNone(turns.turn(folder), "not yet committed")
                git("commit", "-m", text)
                seen.append(turns.turn(folder))
            self.assertEqual(seen, [1, 2, 3, 0, 1])
            os.environ["COMBE_TURN"] = "all"
            self.assertIsNone(turns.turn(folder))
            os.environ["COMBE_TURN"] = "2"
            self.assertEqual(turns.turn(folder), 2)


if __name__ == "__main__":
    unittest.main()
