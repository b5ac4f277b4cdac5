"""What ``import combe`` gives to scripts: the same values and the same bytes as the command line, nothing else touched."""

from __future__ import annotations

import doctest
import importlib
import json
import os
import pkgutil
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

import combe
from combe import api
from combe.cli import run_verb
from combe.filters import Fir
from combe.project.demo import demo_project, recorder_project
from tests.support import IS_CAMPAIGN, document, plain_gain_db

ROOT = Path(__file__).resolve().parent.parent
LOW = document(48_000, (0, 8_000, -0.1, 0.1), (12_000, 24_000, -60), phase="linear")


class Touching(unittest.TestCase):
    def test_importing_touches_no_environment_and_no_qt(self) -> None:
        code = (
            "import os, sys; before = dict(os.environ); import combe, combe.api; "
            "assert before == dict(os.environ); heavy = {'PyQt6', 'numba', 'scipy', 'jinja2'} & set(sys.modules); "
            "assert not heavy, heavy; combe.design; assert 'PyQt6' not in sys.modules"
        )
        environment = {key: value for key, value in os.environ.items() if not key.startswith("OPENBLAS")}
        done = subprocess.run(
            [sys.executable, "-c", code], cwd=ROOT, env=environment, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_the_module_is_the_command(self) -> None:
        done = subprocess.run(
            [sys.executable, "-m", "combe", "--version"], cwd=ROOT, capture_output=True, text=True, check=False
        )
        self.assertEqual((done.returncode, done.stdout), (0, f"combe {combe.__version__}\n"))

    def test_everything_named_is_there_and_documented(self) -> None:
        for name in combe.__all__:
            self.assertTrue(getattr(combe, name), name)
            if name != "__version__":
                self.assertTrue(getattr(combe, name).__doc__, name)
        self.assertEqual(set(api.__all__), set(combe.__all__) - {"__version__"})
        with self.assertRaises(AttributeError):
            _ = combe.nothing_of_the_kind  # type: ignore[attr-defined]

    def test_examples_are_true(self) -> None:
        rooms = [importlib.import_module(f"combe.api.{room.name}") for room in pkgutil.iter_modules(api.__path__)]
        found = [doctest.testmod(each) for each in (api, *rooms)]
        self.assertGreater(sum(each.attempted for each in found), 10)
        self.assertEqual(sum(each.failed for each in found), 0)

    @unittest.skipUnless(IS_CAMPAIGN, "in a campaign")
    def test_the_survey_is_designed_swept_and_drawn_by_a_script(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            done = subprocess.run(
                [sys.executable, str(ROOT / "docs" / "survey.py"), folder],
                cwd=folder,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("Design(equiripple, 113 taps", done.stdout)
            rows = (Path(folder) / "widths.csv").read_text().splitlines()
            self.assertIn("calls,16", "\n".join(rows))
            self.assertTrue((Path(folder) / "survey.png").read_bytes().startswith(b"\x89PNG"))

    def test_values_show_themselves_in_a_line_and_as_tables(self) -> None:
        asked = combe.from_document({"format": "combe-requirement", "version": 1, "sample_rate_hz": 8000, "name": "voice", "bands": [
            {"name": "voice", "start_hz": 0, "stop_hz": 1000, "min_db": -1, "max_db": 1},
            {"name": "hiss", "start_hz": 2000, "stop_hz": 4000, "max_db": -30}]})  # fmt: skip
        made = combe.design(asked, "equiripple")
        realized = combe.realize(made)
        bench = combe.bench(realized, "white -20 dB", samples=500)
        for value, words in (
            (made, "Design(equiripple, "), (made.filter, "Fir("), (realized, "RealizationFile(Realization('voice', s16f15 -> "),
            (bench, "Bench(500 samples at 8000 Hz through ideal"),
            (recorder_project(), "Project('Alder Combe recorder': calls, notch"),
        ):  # fmt: skip
            self.assertTrue(repr(value).startswith(words), repr(value))
            self.assertLess(len(repr(value)), 200)
        for value, head in (
            (made, "limit"), (realized, "limit"), (combe.lines(made), "limit"), (bench, "through"), (bench.through, "through"), (recorder_project(), "filter"),
            (combe.contenders(asked), "method"), (combe.trade(asked, "butterworth", bits=[12]), "order"),
        ):  # fmt: skip
            self.assertTrue(combe.table(value).startswith(head), combe.table([]))
        for value in (5, "words", [5]):
            with self.assertRaises(combe.CombeError):
                combe.table(value)

    def test_a_signal_is_loaded_with_the_place_of_its_recordings(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "s.json"
            (Path(folder) / "x.txt").write_text("5\n-3\n")
            path.write_text(
                json.dumps(
                    {
                        "format": "combe-signal",
                        "version": 1,
                        "sample_rate_hz": 8,
                        "parts": [{"kind": "recording", "file": "x.txt"}],
                    }
                )
            )
            signal = combe.load(path)
            self.assertEqual(combe.document(signal)["parts"], [{"kind": "recording", "file": "x.txt"}])
            delay = combe.from_document({"format": "combe-design", "version": 1, "sample_rate_hz": 8, "taps": [0, 1]})
            found = combe.bench(combe.realize(delay), signal, through=["bit-true"])
            self.assertEqual((found.through[0].values * 32768).tolist(), [0, 5])

    def test_a_word_that_is_no_verb_and_no_file_is_told(self) -> None:
        done = subprocess.run(
            [sys.executable, "-m", "combe", "nosuch"], cwd=ROOT, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 2)
        self.assertIn("neither a verb nor a file", done.stderr)
        self.assertEqual(len(done.stderr.splitlines()), 1)


class Chain(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.asked = combe.from_document(LOW)
        cls.made = combe.design(cls.asked, "equiripple")
        cls.realized = combe.realize(cls.made, 16, input="s12f11", output="s16f15")

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_every_value_comes_back_from_its_file(self) -> None:
        project = demo_project()
        for value in (self.asked, self.made, self.realized, project, project.recipe):
            combe.save(value, self.folder / "x.json")
            again = combe.load(self.folder / "x.json")
            self.assertEqual(type(again), type(value))
            if value not in (self.made, self.realized):
                self.assertEqual(again, value)
        again = combe.load(self.folder / "x.json")
        combe.save(self.realized, self.folder / "r.json")
        self.assertEqual(combe.load(self.folder / "r.json").realization, self.realized.realization)

    def test_plain_coefficients_are_a_design(self) -> None:
        (self.folder / "taps.txt").write_text("0.25\n0.5\n0.25\n")
        self.assertEqual(combe.load(self.folder / "taps.txt").filter.taps, (0.25, 0.5, 0.25))

    def test_the_command_line_writes_the_same_bytes(self) -> None:
        combe.save(self.asked, self.folder / "req.json")
        self.assertEqual(
            run_verb(
                [
                    "design",
                    str(self.folder / "req.json"),
                    "--method",
                    "equiripple",
                    "--out",
                    str(self.folder / "d1.json"),
                ]
            ),
            0,
        )
        combe.save(combe.design(combe.load(self.folder / "req.json"), "equiripple"), self.folder / "d2.json")
        first, second = (json.loads((self.folder / name).read_text()) for name in ("d1.json", "d2.json"))
        for each in (first, second):
            del each["seconds"]
        self.assertEqual(first, second)
        combe.save(self.realized, self.folder / "r.json")
        combe.deliver(combe.load(self.folder / "r.json"), "c", self.folder / "one", "calls")
        run_verb(
            [
                "deliver",
                str(self.folder / "r.json"),
                "--language",
                "c",
                "--name",
                "calls",
                "--to",
                str(self.folder / "two"),
            ]
        )
        for path in (self.folder / "one").iterdir():
            self.assertEqual(path.read_bytes(), (self.folder / "two" / path.name).read_bytes(), path.name)

    def test_response_keeps_the_shape_of_its_frequencies(self) -> None:
        hz = np.array([[0.0, 1_000.0], [12_000.0, 23_000.0]])
        found = combe.response(self.made, hz)
        self.assertEqual(found.shape, hz.shape)
        wanted = plain_gain_db(self.made.filter.taps, hz.ravel() / 48_000).reshape(hz.shape)
        np.testing.assert_allclose(20 * np.log10(np.abs(found)), wanted, atol=1e-6)
        rounded = combe.response(self.realized, hz)
        self.assertLess(float(np.max(np.abs(rounded - found))), 1e-3)

    def test_simulate_takes_lists_and_refuses_what_is_no_integer(self) -> None:
        ones = combe.simulate(self.realized, [1500] * 200)
        self.assertEqual(ones.dtype.kind, "i")
        ideal = combe.simulate(self.realized, [1500] * 200, ideal=True)
        self.assertLess(float(np.max(np.abs(ones - ideal))), 4)
        for bad in ([0.5], [4096]):
            with self.assertRaises(combe.CombeError):
                combe.simulate(self.realized, bad)

    def test_limits_are_judged(self) -> None:
        self.assertTrue(combe.meets(self.made))
        coarse = combe.realize(self.made, 6)
        self.assertFalse(combe.meets(coarse))
        self.assertEqual([line.band for line in combe.lines(coarse)], ["b0", "b0", "b1"])
        self.assertTrue(coarse.missed)

    def test_fewest_bits_hold_and_one_less_does_not(self) -> None:
        roomy = combe.design(self.asked, "equiripple", self.made.order + 6)
        found = combe.realize(roomy, "fewest")
        bits = found.realization.stages[0].coefficient.bits
        self.assertTrue(combe.meets(found))
        plain = combe.realize(roomy, "fewest", better=False).realization.stages[0].coefficient.bits
        self.assertLess(bits, plain)
        self.assertFalse(combe.meets(combe.realize(roomy, plain - 1)))

    def test_contenders_come_one_by_one(self) -> None:
        first = next(iter(combe.contenders(self.asked)))
        self.assertTrue(first.method)

    def test_wrong_words_are_refused_in_a_sentence(self) -> None:
        for attempt in (
            lambda: combe.design(None, "butterworth"),
            lambda: combe.design(self.asked, "nosuch"),
            lambda: combe.realize(self.made, "many"),
            lambda: combe.realize(self.made, True),
            lambda: combe.realize(self.made, 16, speed=3),
            lambda: combe.deliver(self.realized, "cobol", self.folder),
            lambda: combe.deliver(self.realized, "c", self.folder, pipeline=2),
            lambda: combe.deliver(self.realized, "c", self.folder, colour="red"),
            lambda: combe.load(self.folder / "none.json"),
            lambda: combe.from_document({"format": "other"}),
            lambda: combe.save(3, self.folder / "x"),  # type: ignore[arg-type]
        ):
            with self.assertRaises(combe.CombeError) as caught:
                attempt()
            self.assertGreater(len(caught.exception.sentence()), 12)
        self.assertEqual(list(self.folder.iterdir()), [])

    @unittest.skipUnless(shutil.which("gcc"), "gcc is not on this machine")
    def test_a_delivery_is_proved(self) -> None:
        found = combe.deliver(self.realized, "c", self.folder / "c", "calls", prove=True)
        self.assertTrue(found.holds and found.proof is not None and found.proof.samples > 60_000)
        self.assertTrue(all(path.exists() for path in found.files))
        self.assertIsNone(combe.deliver(self.realized, "c", self.folder / "d").proof)

    def test_a_filter_without_a_rate_counts_in_cycles(self) -> None:
        self.assertAlmostEqual(abs(combe.response(Fir((1.0, 1.0)), 0.25)), 2**0.5)
        self.assertAlmostEqual(abs(combe.response(Fir((1.0, 1.0)), 12_000, 48_000)), 2**0.5)


if __name__ == "__main__":
    unittest.main()
