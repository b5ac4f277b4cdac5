"""A project held against what it exported, and every verb on a project."""

from __future__ import annotations

import io
import itertools
import json
import os
import unittest
from pathlib import Path
from unittest import mock

import combe
from combe.project.demo import demo_project, fresh_project
from combe.rounding.search import better_integers as better_integers_module
from combe.values import replace
from tests.test_cli import InFolder, call
from tests.test_delivery import HAS_GCC


class Checked(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.project = self.folder / "bats.combe"
        combe.save(replace(demo_project(), export_folder="c"), self.project)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_what_differs_and_what_is_missing_is_named(self) -> None:
        status, out, _ = call("check", self.project, "--json")
        self.assertEqual(status, 1)
        self.assertEqual({file["state"] for file in json.loads(out)["filters"][0]["files"]}, {"missing"})
        self.assertEqual(
            call("deliver", self.project, "--language", "c", "--name", "calls", "--to", self.folder / "c")[0], 0
        )
        status, out, _ = call("check", self.project, "--json")
        found = json.loads(out)
        self.assertEqual((status, found["holds"]), (0, True))
        (row,) = found["filters"]
        self.assertEqual((row["name"], row["meets"], row["proved"]), ("calls", True, True))
        self.assertEqual(
            [file["path"] for file in row["files"]], ["c/calls.h", "c/calls.c", "c/calls_check.c", "c/Makefile"]
        )
        with (self.folder / "c" / "calls.c").open("a") as stream:
            stream.write("\n")
        status, out, _ = call("check", self.project)
        self.assertEqual(status, 1)
        self.assertIn("c/calls.c differs", out)
        self.assertEqual(call("check", self.project, "--to", self.folder / "none")[0], 1)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_the_same_bytes_whatever_the_locale_the_time_zone_and_the_place(self) -> None:
        first = {path.name: path.read_bytes() for path in self.delivered("a")}
        before = {key: os.environ.get(key) for key in ("LC_ALL", "TZ", "PYTHONHASHSEED")}
        os.environ |= {"LC_ALL": "de_DE.UTF-8", "TZ": "Asia/Tokyo"}
        try:
            again = {path.name: path.read_bytes() for path in self.delivered("somewhere/else")}
        finally:
            for key, value in before.items():
                os.environ.pop(key, None) if value is None else os.environ.__setitem__(key, value)
        self.assertEqual(first, again)

    def delivered(self, place: str) -> list[Path]:
        folder = self.folder / place
        self.assertEqual(call("deliver", self.project, "--language", "c", "--name", "calls", "--to", folder)[0], 0)
        return list(folder.iterdir())

    def test_a_slow_machine_makes_the_same_filter_and_the_same_integers(self) -> None:
        asked = combe.load(self.put("low.json", {"format": "combe-requirement", "version": 1, "sample_rate_hz": 48_000, "bands": [
            {"start_hz": 0, "stop_hz": 8000, "min_db": -0.1, "max_db": 0.1}, {"start_hz": 12_000, "stop_hz": 24_000, "max_db": -60}], "phase": "linear"}))  # fmt: skip
        made = []
        for step in (0.0, 1000.0):
            better_integers_module._found.clear()
            clock = itertools.count(1.0, step)
            with mock.patch("time.monotonic", lambda clock=clock: next(clock)):
                design = combe.design(asked, "equiripple", holds_with_bits=16)
                made.append((design.filter, combe.realize(design, 12, better=True).realization))
        self.assertEqual(made[0], made[1])
        # Here the search decides: plain rounding holds with one tap more only.
        self.assertEqual(made[0][0].order, 32)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_a_missed_limit_is_named(self) -> None:
        asked = fresh_project()
        poor = self.folder / "poor.combe"
        combe.save(replace(asked, arithmetic=replace(asked.arithmetic, coefficient_bits=6)), poor)
        status, out, _ = call("check", poor)
        self.assertEqual(status, 1)
        self.assertIn("misses", out)
        found = combe.check(combe.load(poor))
        self.assertFalse(found.holds)
        self.assertTrue(found.filters[0].proved)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_what_is_delivered_of_a_project_is_what_it_exports(self) -> None:
        first = demo_project()
        for number, project in enumerate((
            first, replace(first, code=replace(first.code, history="double", unroll=4, file_name="bats")),
            replace(first, code=replace(first.code, language="c++", reloadable=True)),
            replace(first, code=replace(first.code, language="verilog"), hardware=replace(first.hardware, architecture="serial", pipeline=2)),
        )):  # fmt: skip
            folder = f"made{number}"
            combe.save(replace(project, export_folder=folder), self.project)
            words = ("deliver", self.project, "--language", project.code.language, "--to", self.folder / folder)
            self.assertEqual(call(*words)[0], 0)
            with (
                self.subTest(number),
                mock.patch("combe.delivery.languages.Language.prove", return_value=mock.Mock(holds=True)),
            ):
                found = combe.check(self.project)
                self.assertTrue(found.holds, found.document())
        # What is said on the command line wins.
        call(
            "deliver",
            self.project,
            "--language",
            "verilog",
            "--architecture",
            "folded",
            "--name",
            "owl",
            "--to",
            self.folder / "o",
        )
        self.assertIn("module owl", (self.folder / "o" / "owl.v").read_text())
        self.assertNotEqual(
            (self.folder / "o" / "owl.v").read_text().replace("owl", "calls"),
            (self.folder / "made3" / "calls.v").read_text(),
        )

    def test_a_realization_from_standard_input_is_read_once(self) -> None:
        made = self.folder / "r.json"
        self.assertEqual(call("realize", self.put("t.txt", "0.5\n0.5\n"), "--out", made)[0], 0)
        for path in (made, self.project):
            given = mock.Mock(buffer=io.BytesIO(path.read_bytes()))
            with mock.patch("sys.stdin", given):
                status, _, said = call(
                    "deliver", "-", "--language", "c", "--name", "owl", "--to", self.folder / f"in-{path.stem}"
                )
            self.assertEqual(status, 0, said)

    def test_filters_are_listed(self) -> None:
        status, out, _ = call("list", self.project, "--json")
        self.assertEqual(status, 0)
        (row,) = json.loads(out)
        self.assertEqual((row["name"], row["source"], row["meets"]), ("calls", "input", True))
        self.assertEqual((row["input_rate_hz"], row["output_rate_hz"]), (250_000, 250_000))

    def test_every_verb_takes_a_project(self) -> None:
        self.put("in.txt", "100\n-5\n0\n")
        for words in (
            ("examine", self.project, "--json"), ("realize", self.project, "--json"), ("realize", self.project, "--filter", "calls"),
            ("simulate", self.project, "--input", self.folder / "in.txt", "--output", self.folder / "o.txt", "--filter", "Bat band"),
            ("bench", self.project, "--signal", "white -20 dB", "--samples", "500"), ("table", self.project, "--recipe", "c-array", "--to", self.folder / "t.h"),
            ("report", self.project, "--to", self.folder / "r.html"),
        ):  # fmt: skip
            with self.subTest(words[0]):
                status, _, said = call(*words)
                self.assertEqual(status, 0, said)
        for words in (
            ("examine", self.project, "--filter", "owl"), ("realize", self.project, "--filter", "owl"), ("check", self.project, "--filter", "owl"),
            ("bench", self.project, "--signal", "white", "--filter", "owl"),
        ):  # fmt: skip
            status, _, said = call(*words)
            self.assertEqual(status, 2)
            self.assertIn("known is calls", said)
        taps = self.put("taps.txt", "0.5\n0.5\n")
        self.assertIn("is no project", call("realize", taps, "--filter", "x")[2])
        self.assertEqual(call("check", taps)[0], 2)
