"""Reports: every kind of file, both endings, what is told and what is refused."""

from __future__ import annotations

import json
import re
import unittest
from unittest import mock

from combe.project.chain import chain_of
from combe.project.demo import demo_project, recorder_project
from combe.project.document import ProofRecord, project_of
from combe.project.edits import coefficient_bits, record_proof
from combe.project.file import save_project
from combe.reports.chapters import digest
from combe.values import replace
from tests.test_cli import InFolder, call


class Reports(InFolder):
    def test_a_project_as_a_page_and_as_pdf(self) -> None:
        project = self.folder / "p.combe"
        save_project(replace(demo_project(), name="x <b>"), project)
        page, pdf = self.folder / "r.html", self.folder / "r.pdf"
        self.assertEqual(call("report", project, "--to", page)[0], 0)
        text = page.read_text(encoding="utf-8")
        self.assertEqual(text.count("<img"), 3)
        self.assertNotIn("<b>", text)
        for words in (
            "Equiripple, 113 taps",
            "−60.95 dB",
            "multiplierless",
            "s29f26",
            "wind: block 0 to 12 kHz by 60 dB",
            "+0.952 dB, proved",
            "400 µs",
            "Bench",
        ):
            self.assertIn(words, text)
        self.assertFalse(re.search(r"https?://", re.sub(r'base64,[^"]*', "", text)), "it needs nothing else")
        self.assertEqual(call("report", project, "--to", pdf)[0], 0)
        self.assertTrue(pdf.read_bytes().startswith(b"%PDF-"))

    @mock.patch("combe.reports.page._image", lambda *_: "<img>")
    def test_a_whole_project_with_its_path_variants_and_proofs(self) -> None:
        members = recorder_project().members
        project = project_of("Recorder", (*members[:2], members[4]))
        one = project.opened(2)
        chain = chain_of(one)
        lines = chain.rounded.lines
        project = record_proof(ProofRecord("c", chain.package.checksum, "gcc 99", 1234, lines)).make(one).opened(0)
        path = self.folder / "p.combe"
        save_project(project, path)
        status, _, said = call("report", path, "--to", self.folder / "r.html")
        self.assertEqual(status, 0, said)
        text = (self.folder / "r.html").read_text(encoding="utf-8")
        for words in (
            "All 3 filters keep every limit", 'href="#c3"', "s12f11 at 250 kHz → calls → notch; input → probe", "The way to notch", "small logger",
            "Proved with gcc 99: 1,234 samples",
            "Not proved so far", chain.package.checksum, digest(chain.package.files[0].text),
        ):  # fmt: skip
            self.assertIn(words, text)
        # 3 figures a filter, and one of the way.
        self.assertEqual(text.count("<img"), 10)
        self.assertEqual(call("report", path, "--filter", "probe", "--to", self.folder / "p.pdf")[0], 0)

    @mock.patch("combe.reports.page._image", lambda *_: "")
    def test_what_misses_stands_in_front(self) -> None:
        path = self.folder / "p.combe"
        two = project_of("two", recorder_project().members[:2])
        save_project(coefficient_bits(9).make(two), path)
        self.assertEqual(call("report", path, "--to", self.folder / "r.html")[0], 1)
        text = (self.folder / "r.html").read_text(encoding="utf-8")
        self.assertIn("1 of 2 filters has a limit", text)
        self.assertIn("MISSED by", text)
        save_project(recorder_project().opened(1), path)
        broken = replace(
            recorder_project().opened(1), arithmetic=replace(recorder_project().members[1].arithmetic, input="s9f8")
        )
        save_project(broken, path)
        call("report", path, "--to", self.folder / "r.html")
        self.assertIn("notch takes s9f8, calls gives s16f15", (self.folder / "r.html").read_text(encoding="utf-8"))

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
