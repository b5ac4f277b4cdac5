"""Damaged files of every kind are answered in order; what ever failed stays here."""

from __future__ import annotations

import json
import random
import shutil
import sys
import tempfile
import unittest
from pathlib import Path

from combe.requirement.presets import shape
from tests.support import IS_CAMPAIGN
from tests.test_cli import call

sys.path.insert(0, str(Path(__file__).parent.parent / "tools"))
import fuzz


class Damaged(unittest.TestCase):
    def test_damaged_files_and_strange_words_are_answered_in_order(self) -> None:
        self.assertEqual(fuzz.campaign(16, range(10_000 if IS_CAMPAIGN else 120)), [])

    def test_the_cases_reach_every_answer(self) -> None:
        """The fuzz would prove nothing if all it made were refused at the first key."""
        draw, text = random.Random(3), json.dumps(fuzz.LOW)
        changed = [fuzz.mutated(draw, text, text) for _ in range(200)]
        self.assertGreater(len(set(changed)), 180)
        readable = 0
        for each in changed:
            try:
                readable += isinstance(json.loads(each), dict)
            except ValueError:
                continue
        self.assertGreater(readable, 100)


class Enormous(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="combe-test-"))
        self.addCleanup(shutil.rmtree, self.folder)

    def refused(self, text: str, words: str, verb: str = "examine") -> None:
        path = self.folder / "case.json"
        path.write_text(text)
        status, _, said = call(verb, path)
        self.assertEqual(status, 2, words)
        self.assertIn(words, said)
        self.assertLess(len(said), 700 + len(str(path)))

    def test_what_asks_for_too_much_is_refused_at_once(self) -> None:
        draw = random.Random(1)
        self.refused(json.dumps([draw.random() for _ in range(200_000)]), "between 1 and 20000 taps")
        self.refused(json.dumps({"sections": [[1, 0, 0, 0, 0]] * 20_000, "gain": 1}), "20000 sections are too many")
        self.refused(json.dumps({"b": [1.0] * 3001, "a": [1.0]}), "3001 coefficients are too many")
        self.refused(json.dumps({"zeros": [[0.1, 0]] * 5000, "poles": []}), "5000 zeros are too many")
        self.refused("0x" + "f" * 1_000_000, "1000002 characters")
        self.refused(" ".join(["0.001"] * 600_000), "too many for coefficients")
        self.refused('{"taps": [1, ' + "9" * 100_000 + "]}", "digits")
        self.refused("[" * 10_000 + "]" * 10_000, "nested too deeply")
        self.refused("1" * 10_000, "too long")
        bands = [
            {
                "name": "a",
                "start_hz": 0,
                "stop_hz": 0.2,
                "min_db": -1,
                "max_db": [[0.2 * k / 60_000, 1] for k in range(60_001)],
            },
            {"name": "b", "start_hz": 0.3, "stop_hz": 0.5, "max_db": -40},
        ]
        head = {"format": "combe-requirement", "version": 1, "name": "x", "sample_rate_hz": 1}
        self.refused(json.dumps(head | {"bands": bands}), "60001 points", "design")

    def test_long_noise_is_answered(self) -> None:
        draw = random.Random(2)
        path = self.folder / "noise.json"
        path.write_text(json.dumps([draw.uniform(-1, 1) for _ in range(4000)]))
        self.assertEqual(call("examine", path, "--json")[0], 0)

    def test_faults_that_were_found_once(self) -> None:
        self.refused(json.dumps({"b": [1, 2], "a": []}), "a: expected at least one")
        self.refused("gain = 0\n", "line 1")
        self.refused("1/7 x\n", "line 1")
        project = {
            "format": "combe-project",
            "version": 1,
            "name": "x",
            "proofs": [{"language": "c", "checksum": "x", "tool": "y", "samples": 1, "lines": 5}],
        }
        from combe.requirement import requirement_document

        project["requirement"] = requirement_document(shape("lowpass", 48_000.0))
        path = self.folder / "p.combe"
        path.write_text(json.dumps(project))
        status, _, said = call("report", path, "--to", self.folder / "x.html")
        self.assertEqual(status, 2)
        self.assertIn("proofs[0].lines", said)
