"""Reports: every kind of file, both endings, what is told and what is refused."""

from __future__ import annotations

import json
import re
import unittest

from combe.project.demo import demo_project
from combe.project.file import save_project
from combe.values import replace
from tests.test_cli import InFolder, call


class Reports(InFolder):
    def test_a_project_as_a_page_and_as_pdf(self) -> None:
        project = self.folder / "p.combe"
        save_project(replace(demo_project(), name="x <b>"), project)
        page, pdf = self.folder / "r.html", self.folder / "r.pdf"
        self.assertEqual(call("report", project, "--to", page)[0], 0)
        text = page.read_text(encoding="utf-8")
        self.assertEqual(text.count("<img"), 4)
        self.assertNotIn("<b>", text)
        for words in ("equiripple, order 112", "-60.95", "multiplierless", "s29f26", "kept by"):
            self.assertIn(words, text)
        self.assertFalse(re.search(r"https?://", re.sub(r'base64,[^"]*', "", text)), "it needs nothing else")
        self.assertEqual(call("report", project, "--to", pdf)[0], 0)
        self.assertTrue(pdf.read_bytes().startswith(b"%PDF-"))

    def test_designs_realizations_and_plain_taps(self) -> None:
        design, made = self.folder / "d.json", self.folder / "r.json"
        requirement = self.put("req.json", json.dumps({
            "format": "combe-requirement", "version": 1, "name": "low", "sample_rate_hz": 1,
            "bands": [{"start_hz": 0, "stop_hz": 0.1, "min_db": -0.5, "max_db": 0.1}, {"start_hz": 0.2, "stop_hz": 0.5, "max_db": -50}],
        }))  # fmt: skip
        call("design", requirement, "--method", "elliptic", "--out", design)
        call("realize", design, "--coefficient-bits", "5", "--out", made)
        self.assertEqual(call("report", design, "--to", self.folder / "a.html")[0], 0)
        status, _, _ = call("report", made, "--to", self.folder / "b.html")
        self.assertEqual(status, 1)
        self.assertIn("MISSED", (self.folder / "b.html").read_text(encoding="utf-8"))
        self.assertEqual(call("report", self.put("t.txt", "0.5\n0.5\n"), "--to", self.folder / "c.pdf")[0], 0)

    def test_what_cannot_be_reported_is_refused(self) -> None:
        taps = self.put("t.txt", "0.5\n0.5\n")
        self.assertIn("--to", self.refused("report", taps, "--to", self.folder / "r.doc"))
        self.refused("report", self.put("bad.json", '{"format": "combe-project"}'), "--to", self.folder / "r.html")
        self.refused("report", self.folder / "none.json", "--to", self.folder / "r.html")
        self.assertFalse((self.folder / "r.html").exists())


if __name__ == "__main__":
    unittest.main()
