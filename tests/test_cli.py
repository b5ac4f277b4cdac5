"""The command line as scripts use it: documents, exit statuses, one line for every mistake."""

from __future__ import annotations

import contextlib
import io
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

from combe.app.pages.register import NAMES
from combe.cli import run_verb
from tests.independent import plain_run
from tests.screens import has_windows
from tests.support import IS_CAMPAIGN, document, few_methods, fewer_vectors, in_campaign, some, worst_margin_db
from tests.test_delivery import HAS_GCC

setUpModule = fewer_vectors

BAT_DOCUMENT = document(250_000, (0, 12_000, -60), (18_000, 110_000, -0.1, 0.1), name="bat band")


def call(*words: str) -> tuple[int, str, str]:
    """Exit status, standard output, standard error of a verb, run in this process."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        status = run_verb([str(word) for word in words])
    return status, out.getvalue(), err.getvalue()


class InFolder(unittest.TestCase):
    """A folder of its own for every test."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def put(self, name: str, content: Any) -> Path:
        path = self.folder / name
        path.write_text(content if isinstance(content, str) else json.dumps(content), encoding="utf-8")
        return path

    def refused(self, *words: Any) -> str:
        """The one line of a refusal; nothing on standard output, nothing written."""
        before = sorted(os.listdir(self.folder))
        status, out, err = call(*words)
        self.assertEqual((status, out), (2, ""), err)
        self.assertEqual(err.count("\n"), 1, err)
        self.assertNotIn("Traceback", err)
        self.assertEqual(sorted(os.listdir(self.folder)), before)
        return err


class Chain(InFolder):
    def test_from_requirement_to_proved_code(self) -> None:
        asked = self.put("req.json", BAT_DOCUMENT)
        status, out, _ = call("design", asked, "--method", "equiripple", "--json", "--out", self.folder / "d.json")
        self.assertEqual(status, 0)
        found = json.loads(out)
        self.assertEqual(found, json.loads((self.folder / "d.json").read_text()))
        self.assertEqual((found["format"], found["kind"], found["meets"]), ("combe-design", "fir", True))
        self.assertEqual(len(found["taps"]), found["order"] + 1)
        self.assertEqual(
            [(line["band"], line["limit"]) for line in found["lines"]],
            [("b0", "max_db"), ("b1", "min_db"), ("b1", "max_db")],
        )
        self.assertEqual(found["cost"]["multiplies"], (found["order"] + 2) // 2)
        self.assertEqual(found["delay_samples"]["mean"], found["order"] / 2)

        status, out, _ = call(
            "realize",
            self.folder / "d.json",
            "--coefficient-bits",
            "fewest",
            "--plain",
            "--input",
            "s12f11",
            "--json",
            "--out",
            self.folder / "r.json",
        )
        self.assertEqual(status, 0)
        made = json.loads(out)
        self.assertEqual(made["stages"][0]["kind"], "tap-sum")
        self.assertTrue(all(line["margin_db"] >= 0 for line in made["lines"]))

        coefficients = made["stages"][0]["coefficients"]
        samples = [random.Random(1).randint(-2048, 2047) for _ in range(400)]
        self.put("in.txt", "".join(f"{k}\n" for k in samples))
        self.assertEqual(
            call(
                "simulate", self.folder / "r.json", "--input", self.folder / "in.txt", "--output", self.folder / "o.txt"
            )[0],
            0,
        )
        raw = [int(line) for line in (self.folder / "o.txt").read_text().split()]
        sums = np.convolve(np.array(samples, dtype=object), np.array(coefficients, dtype=object))[: len(samples)]
        shift = int(made["stages"][1]["from"].split("f")[1]) - 11
        expected = [max(-2048, min(2047, round(int(s) / 2**shift))) for s in sums]
        self.assertEqual(raw, expected)
        status, out, _ = call(
            "simulate", self.folder / "r.json", "--input", self.folder / "in.txt", "--output", "-", "--ideal"
        )
        self.assertLess(np.max(np.abs(np.array([float(x) for x in out.split()]) - raw)), 1.0)

        status, out, _ = call("examine", self.folder / "r.json", "--json", "--points", "9")
        self.assertEqual(status, 0)
        measured = json.loads(out)
        self.assertEqual(measured["response"]["hz"][-1], 125_000)
        self.assertEqual(len(measured["response"]["db"]), 9)
        self.assertIn("noise_bandwidth_hz", measured["measures"])
        if HAS_GCC:
            status, out, _ = call(
                "deliver",
                self.folder / "r.json",
                "--language",
                "c",
                "--name",
                "calls",
                "--to",
                self.folder / "c",
                "--prove",
                "--json",
            )
            self.assertEqual(status, 0)
            self.assertTrue(json.loads(out)["proof"]["equal"])
            self.assertEqual(sorted(os.listdir(self.folder / "c")), ["Makefile", "calls.c", "calls.h", "calls_check.c"])

    @few_methods()
    def test_a_missed_limit_is_status_one(self) -> None:
        asked = self.put("req.json", BAT_DOCUMENT)
        status, out, _ = call("design", asked, "--order", "60", "--json", "--out", self.folder / "d.json")
        self.assertEqual((status, json.loads(out)["meets"]), (1, False))
        self.assertEqual(call("realize", self.folder / "d.json", "--out", self.folder / "r.json")[0], 1)
        status, out, _ = call("deliver", self.folder / "r.json", "--language", "c", "--to", self.folder / "c")
        self.assertEqual(status, 1)
        self.assertIn("limit missed", out)
        self.assertEqual(call("examine", self.folder / "d.json")[0], 1)
        late = self.put("late.json", BAT_DOCUMENT | {"phase": "linear", "max_delay_s": 1e-4, "max_multiplies": 10})
        status, out, _ = call("design", late, "--json")
        self.assertEqual(status, 1)
        self.assertEqual([line["limit"] for line in json.loads(out)["lines"]][-2:], ["max_delay_s", "max_multiplies"])

    @few_methods()
    def test_contenders_and_methods_are_documents(self) -> None:
        status, out, _ = call("contenders", self.put("req.json", BAT_DOCUMENT), "--json")
        found = json.loads(out)
        self.assertEqual(status, 0)
        self.assertTrue(found[0]["meets"])
        costs = [entry["cost"]["multiplies"] for entry in found if entry["meets"]]
        self.assertEqual(costs, sorted(costs))
        self.assertIn("equiripple", [method["name"] for method in json.loads(call("methods", "--json")[1])])

    def test_normalized_requirements_work_alike(self) -> None:
        half = self.put("h.json", document(2, (0, 0.3, -0.1, 0.1), (0.4, 1, -60)))
        whole = self.put("w.json", document(1, (0, 0.15, -0.1, 0.1), (0.2, 0.5, -60)))
        designs = [json.loads(call("design", path, "--method", "equiripple", "--json")[1]) for path in (half, whole)]
        np.testing.assert_allclose(designs[0]["taps"], designs[1]["taps"], atol=1e-9)

    def test_taps_alone_can_be_realized_and_examined(self) -> None:
        taps = self.put("taps.txt", "# smoother\n0.25,\n0.5\n\n+2.5e-1\n")
        status, out, _ = call("examine", taps, "--json", "--sample-rate", "8000")
        self.assertEqual((status, json.loads(out)["taps"]), (0, [0.25, 0.5, 0.25]))
        self.assertEqual(call("realize", taps, "--out", self.folder / "r.json", "--coefficient-bits", "8")[0], 0)
        sections = self.put("s.json", {"sections": [[1, 0, 0, -0.5, 0]], "gain": 0.5})
        found = json.loads(call("examine", sections, "--json")[1])
        self.assertEqual((found["kind"], round(found["measures"]["dc_gain_db"], 9)), ("iir", 0))
        roots = self.put("z.json", {"zeros": [[-1, 0]], "poles": [[0.5, 0.1], [0.5, -0.1]], "gain": 0.1})
        self.assertEqual(call("examine", roots, "--json", "--points", "5")[0], 0)


class Refusals(InFolder):
    def test_bad_requirements_name_file_and_key(self) -> None:
        for change, key in (
            ({"sample_rate_hz": -1}, "sample_rate_hz"), ({"bands": []}, "bands"), ({"phase": 3}, "phase"), ({"format": "x"}, "format"),
        ):  # fmt: skip
            path = self.put("req.json", BAT_DOCUMENT | change)
            line = self.refused("design", path, "--json", "--out", self.folder / "d.json")
            self.assertIn(f"{path}: {key}", line)

    def test_impossible_requirements_say_what_would_be_possible(self) -> None:
        path = self.put("req.json", document(1, (0, 0.1, -0.1, 0.1), (0.1001, 0.5, -200)))
        line = self.refused("design", path, "--method", "equiripple")
        self.assertIn("would do", line)
        self.assertIn(str(path), line)

    def test_other_mistakes(self) -> None:
        asked = self.put("req.json", BAT_DOCUMENT)
        design = self.folder / "d.json"
        call("design", asked, "--method", "equiripple", "--out", design)
        call("realize", design, "--out", self.folder / "r.json")
        made = self.folder / "r.json"
        self.put("in.txt", "1\n2.5\n")
        self.put("big.txt", "1\n40000\n")
        cases = (
            (("design", "none.json"), "none.json"), (("design", asked, "--order", "-3"), "order"), (("design", asked, "--method", "magic"), "method"),
            (("design", asked, "--symmetry", "odd"), "symmetry"), (("design", asked, "--method", "kaiser", "--out", self.folder / "no" / "d.json"), "d.json"),
            (("design",), "REQ.json"), (("design", asked, "--order", "x"), "order"), (("design", asked, "--bogus"), "--bogus"), (("bogus",), "bogus"),
            (("realize", asked), "combe-design"), (("realize", design, "--input", "16"), "input"), (("realize", design, "--structure", "spiral"), "structure"),
            (("realize", design, "--coefficient-bits", "1"), "coefficient_bits"), (("realize", design, "--coefficient-bits", "few"), "coefficient_bits"),
            (("realize", design, "--accumulator-bits", "9"), "accumulator_bits"), (("realize", design, "--rounding", "up"), "rounding"),
            (("simulate", made, "--input", self.folder / "in.txt", "--output", "-"), "line 2"),
            (("simulate", made, "--input", self.folder / "big.txt", "--output", "-"), "sample 2"),
            (("simulate", design, "--input", self.folder / "in.txt", "--output", "-"), "combe-realization"),
            (("deliver", made, "--language", "cobol", "--to", self.folder / "c"), "cobol"),
            (("deliver", made, "--language", "c", "--name", "int", "--to", self.folder / "c"), "int"),
            (("examine", asked), "combe-design"), (("examine", design, "--points", "1"), "points"), (("examine", design, "--sample-rate", "0"), "sample-rate"),
            (("picture", "nosuch", "--to", "x.png"), "nosuch"), (("picture", "ideal"), "--to"), (("picture", "ideal", "--to", "x.jpg"), "x.jpg"),
            (("picture", "ideal", "--to", "x.png", "--size", "9"), "--size"), (("demo", "--out", "x"), "--headless"),
        )  # fmt: skip
        for words, part in cases:
            with self.subTest(words=[str(word) for word in words]):
                self.assertIn(part, self.refused(*words))

    def test_damaged_files_are_refused_not_crashed_on(self) -> None:
        asked = self.put("req.json", BAT_DOCUMENT)
        call("design", asked, "--method", "equiripple", "--out", self.folder / "d.json")
        call("realize", self.folder / "d.json", "--out", self.folder / "r.json")
        source = random.Random(7)
        junk: list[Any] = [None, True, -1, 1e308, "x", [], {}, [[]], {"a": 1}, 10**400]
        for name, verb in (("req.json", "design"), ("d.json", "examine"), ("r.json", "examine"), ("d.json", "realize")):
            original = json.loads((self.folder / name).read_text())
            for _ in some(range(30), 6):
                damaged = json.loads(json.dumps(original))
                place = damaged
                while True:
                    keys = list(place) if isinstance(place, dict) else list(range(len(place)))
                    key = source.choice(keys)
                    if isinstance(place[key], (dict, list)) and place[key] and source.random() < 0.7:
                        place = place[key]
                        continue
                    place[key] = source.choice(junk)
                    break
                path = self.put("damaged.json", json.dumps(damaged))
                method = ("--method", "kaiser") if verb == "design" else ()
                status, _, err = call(verb, path, "--json", *method)
                self.assertIn(status, (0, 1, 2))
                self.assertNotIn("fault in Combe", err, json.dumps(damaged)[:600])

    def test_a_truncated_file_is_refused(self) -> None:
        text = json.dumps(BAT_DOCUMENT)
        for size in (0, 1, 10, len(text) // 2, len(text) - 1):
            self.refused("design", self.put("cut.json", text[:size]))


def path_without(folder: Path, *names: str) -> str:
    """A folder for PATH that has all tools there are but some."""
    folder.mkdir()
    for place in map(Path, os.environ["PATH"].split(os.pathsep)):
        for tool in place.iterdir() if place.is_dir() else ():
            if not tool.name.startswith(names) and not (folder / tool.name).is_symlink():
                (folder / tool.name).symlink_to(tool.resolve())
    return str(folder)


class Commands(InFolder):
    def run_combe(self, *words: str, **environment: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-c", "from combe.cli import main; main()", *words]
        kept = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
        return subprocess.run(
            command, capture_output=True, text=True, cwd=self.folder, env=kept | environment, check=False
        )

    def test_without_a_display_the_application_says_so(self) -> None:
        done = self.run_combe()
        self.assertEqual(done.returncode, 2)
        self.assertIn("--headless", done.stderr)
        self.assertEqual(self.run_combe("missing.combe").returncode, 2)
        self.assertEqual(self.run_combe("not-a-verb", "x").returncode, 2)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_the_headless_demo_leaves_everything(self) -> None:
        """With every simulator in a campaign; else without those that take longest, of which it tells."""
        path = os.environ["PATH"] if IS_CAMPAIGN else path_without(self.folder / "tools", "ghdl", "verilator")
        done = self.run_combe("demo", "--headless", "--out", "out", "--json", PATH=path)
        self.assertEqual(done.returncode, 0, done.stderr)
        summary = json.loads(done.stdout)
        self.assertTrue(summary["meets"] and summary["proof"]["equal"])
        found = {tool["tool"]: tool["differences"] for each in summary["circuits"] for tool in each["simulators"]}
        if shutil.which("iverilog"):
            self.assertEqual(found["iverilog"], 0)
        for name in summary["files"]:
            self.assertGreater((self.folder / "out" / name).stat().st_size, 0, name)
        if has_windows():
            self.assertIn("window.png", summary["files"])
        taps = json.loads((self.folder / "out" / "design.json").read_text())["taps"]
        from combe.project.demo import demo_project

        self.assertGreaterEqual(worst_margin_db(taps, demo_project().requirement), 0)

    def test_without_what_qt_needs_a_window_or_picture_is_refused_in_a_sentence(self) -> None:
        (self.folder / "PyQt6").mkdir()
        missing = "libEGL.so.1: cannot open shared object file"
        (self.folder / "PyQt6" / "__init__.py").write_text(f"raise ImportError('{missing}')")
        way = {"PYTHONPATH": f"{self.folder}{os.pathsep}{os.environ.get('PYTHONPATH', '')}"}
        for words in (("picture", "phase", "--to", "p.png"), ()):
            done = self.run_combe(*words, **way, QT_QPA_PLATFORM="offscreen")
            self.assertEqual(done.returncode, 2, words)
            self.assertEqual(
                done.stderr,
                f"combe: Qt can't be loaded ({missing}); make setup as root installs what it needs\n",
            )
        self.assertEqual(self.run_combe("methods", **way).returncode, 0)

    @unittest.skipUnless(has_windows(), "Qt can't be loaded")
    def test_pictures_of_every_view(self) -> None:
        listed = call("picture", "--list")[1].split()
        self.assertEqual(tuple(listed), NAMES)
        from combe.project.demo import demo_project
        from combe.project.file import save_project
        from combe.values import replace
        from tests.support import LOWPASS

        save_project(replace(demo_project(), requirement=LOWPASS), self.folder / "small.combe")
        words = (
            "picture",
            "phase",
            "--project",
            "small.combe",
            "--to",
            "p.png",
            "--size",
            "640x400",
            "--theme",
            "dark",
        )
        done = self.run_combe(*words)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual((self.folder / "p.png").read_bytes()[:4], b"\x89PNG")


class Asking(InFolder):
    """The ways to ask besides a full requirement."""

    LOW = document(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))

    def made(self, *words: Any) -> dict[str, Any]:
        status, out, err = call("design", *words, "--json")
        self.assertIn(status, (0, 1), err)
        found: dict[str, Any] = json.loads(out)
        return found

    def test_the_eight_basic_methods_by_name(self) -> None:
        gentle = self.put("g.json", document(48_000, (0, 2000, -3, 0.1), (12_000, 24_000, -30)))
        for name in (
            "equiripple", "kaiser", "least-squares", "butterworth", "chebyshev", "inverse-chebyshev", "elliptic", "bessel",
        ):  # fmt: skip
            found = self.made(gentle, "--method", name)
            self.assertEqual((found["method"], found["meets"]), (name, True))
            self.assertIn("taps" if found["kind"] == "fir" else "sections", found)

    @few_methods()
    def test_without_a_method_the_cheapest_contender_is_taken(self) -> None:
        path = self.put("low.json", self.LOW)
        found = self.made(path)
        first = json.loads(call("contenders", path, "--json")[1])[0]
        self.assertEqual((found["method"], found["order"]), (first["method"], first["order"]))

    def test_cutoffs_shapes_and_settings_need_no_requirement(self) -> None:
        found = self.made(
            "--method", "elliptic", "--order", "5", "--cutoff", "0.1fs", "--sample-rate", "48k", "--set", "ripple_db=1"
        )
        self.assertEqual((found["order"], found["meets"], found["sample_rate_hz"]), (5, None, 48_000))
        found = self.made(
            "--method",
            "butterworth",
            "--order",
            "4",
            "--cutoff",
            "1k",
            "--cutoff",
            "2k",
            "--shape",
            "bandstop",
            "--sample-rate",
            "48k",
        )
        self.assertEqual(len(found["sections"]), 2)
        found = self.made("--method", "notch", "--sample-rate", "48k", "--set", "center_hz=1k", "--set", "q=30")
        self.assertEqual(found["kind"], "iir")

    def test_weights_spare_and_prices(self) -> None:
        path = self.put("low.json", self.LOW)
        light, heavy = (
            self.made(path, "--method", "equiripple", "--order", "40", "--weight", "1", "--weight", w)
            for w in ("1", "50")
        )
        self.assertLess(heavy["lines"][2]["reached_db"], light["lines"][2]["reached_db"])
        found = self.made(path, "--method", "elliptic", "--spare", "passband", "--prices")
        self.assertLess(found["lines"][2]["margin_db"], 0.01)
        self.assertEqual({price["figure"] for price in found["prices"]}, {"stop", "ripple", "start", "attenuation"})
        _status, out, _ = call("design", path, "--method", "elliptic", "--prices")
        self.assertIn("orders per kHz", out)

    def test_coefficients_from_a_file_are_held_against_a_requirement(self) -> None:
        path, taps = self.put("low.json", self.LOW), self.put("h.c", "float h[3] = {0.25f, 0.5f, 0.25f};")
        status, out, _ = call("design", path, "--from", taps, "--json")
        self.assertEqual((status, json.loads(out)["method"], json.loads(out)["meets"]), (1, "given", False))
        polynomials = self.put("ba.json", {"b": [1, 1], "a": [2, -1]})
        self.assertEqual(json.loads(call("examine", polynomials, "--json")[1])["sections"], [[0.5, 0.5, 0, -0.5, 0]])

    def test_parts_of_an_interpolated_filter_are_written_and_read(self) -> None:
        narrow = self.put("n.json", document(48_000, (0, 500, -0.1, 0.1), (800, 24_000, -60), phase="linear"))
        found = self.made(narrow, "--method", "interpolated-fir", "--out", self.folder / "d.json")
        self.assertEqual(len(found["parts"]), 2)
        again = json.loads(call("examine", self.folder / "d.json", "--json")[1])
        self.assertEqual(again["cost"], found["cost"])

    @few_methods()
    def test_a_hopeless_requirement_tells_the_nearest(self) -> None:
        path = self.put("few.json", self.LOW | {"max_multiplies": 7})
        status, _, err = call("contenders", path)
        self.assertEqual(status, 1)
        self.assertIn("allow 8 multiplies", err)

    def test_mistakes_in_what_is_asked(self) -> None:
        path = self.put("low.json", self.LOW)
        for words, part in (
            (("--method", "elliptic", "--order", "4", "--cutoff", "1k"), "--sample-rate"),
            (("--method", "elliptic", "--cutoff", "1k", "--sample-rate", "8k"), "order"),
            ((path, "--method", "elliptic", "--spare", "nowhere"), "spare"), ((path, "--method", "elliptic", "--shape", "round"), "shape"),
            ((path, "--set", "q=1"), "no method"),
            ((path, "--method", "elliptic", "--set", "q"), "--set"), ((path, "--method", "elliptic", "--set", "ripple_db=x"), "ripple_db"),
            ((path, "--sample-rate", "8k", "--method", "elliptic"), "48 kHz"), (("--cutoff", "1k", "--sample-rate", "8k"), "no method"),
            ((path, "--method", "equiripple", "--weight", "1"), "2 bands"), ((path, "--method", "elliptic", "--order", "x"), "order"),
        ):  # fmt: skip
            with self.subTest(words=words):
                self.assertIn(part, self.refused("design", *words))


class Recursive(InFolder):
    def test_an_iir_goes_from_requirement_to_running_code(self) -> None:
        asked = self.put("req.json", document(48_000, (0, 8000, -0.5, 0.5), (12_000, 24_000, -40)))
        design, made = self.folder / "d.json", self.folder / "r.json"
        self.assertEqual(call("design", asked, "--out", design)[0], 0)
        status, out, _ = call("realize", design, "--coefficient-bits", "fewest", "--out", made, "--json")
        self.assertEqual(status, 0)
        found = json.loads(out)
        self.assertEqual({stage["kind"] for stage in found["stages"]}, {"section", "requantize"})
        self.put("in.txt", "16000\n" + "0\n" * 30)
        runs = []
        for more in ((), ("--ideal",)):
            status, out, _ = call("simulate", made, "--input", self.folder / "in.txt", "--output", "-", *more)
            self.assertEqual(status, 0)
            runs.append([float(line) for line in out.split()])
        np.testing.assert_allclose(runs[0], runs[1], atol=0.02 * 16000)
        self.assertEqual(json.loads(call("examine", made, "--json")[1])["kind"], "iir")
        prove = ("--prove",) if HAS_GCC else ()
        self.assertEqual(call("deliver", made, "--language", "c", "--to", self.folder / "c", *prove)[0], 0)

    def test_better_integers_need_limits_and_keep_them_with_fewer_bits(self) -> None:
        asked = self.put("req.json", document(2, (0, 0.3, -0.15, 0.15), (0.4, 1, -55)))
        design = self.folder / "d.json"
        call("design", asked, "--method", "equiripple", "--order", "56", "--out", design)
        widths = []
        for more in (("--plain",), (), ("--better",)):
            status, out, _ = call("realize", design, "--coefficient-bits", "fewest", "--json", *more)
            self.assertEqual(status, 0)
            widths.append(int(json.loads(out)["stages"][0]["coefficient"][1:].split("f")[0]))
        self.assertLess(widths[1], widths[0])
        self.assertEqual(widths[1], widths[2])
        self.assertIn("give one of them", self.refused("realize", design, "--better", "--plain"))
        taps = self.put("taps.txt", "1\n2\n1\n")
        self.assertIn("better", self.refused("realize", taps, "--better"))

    def test_states_have_the_width_asked_for(self) -> None:
        sections = self.put("s.json", {"sections": [[1, 0, 0, -0.5, 0]], "gain": 0.5})
        status, out, _ = call("realize", sections, "--state-bits", "20", "--json")
        self.assertEqual((status, json.loads(out)["stages"][0]["to"][:4]), (0, "s20f"))


class Tables(InFolder):
    """Coefficients as text, read back by other means."""

    def setUp(self) -> None:
        super().setUp()
        self.taps = self.put("taps.txt", "-0.25\n0.5\n0.75\n0.5\n-0.25\n")
        self.made = self.folder / "r.json"
        call("realize", self.taps, "--coefficient-bits", "8", "--out", self.made)

    def text(self, *words: Any) -> str:
        status, out, err = call("table", *words, "--to", "-")
        self.assertEqual(status, 0, err)
        return out

    def test_every_recipe_of_the_gallery_says_the_same_integers(self) -> None:
        wanted = [-32, 64, 96, 64, -32]
        status, out, _ = call("table", "--list")
        self.assertEqual((status, len(out.split())), (0, 8))
        self.assertEqual([int(x) for x in self.text(self.made, "--recipe", "lines").split()], wanted)
        self.assertEqual(json.loads(self.text(self.made, "--recipe", "json")), wanted)
        rows = self.text(self.made, "--recipe", "csv").splitlines()
        self.assertEqual([int(row.split(",")[1]) for row in rows[1:]], wanted)
        patterns = self.text(self.made, "--recipe", "hex-memory").split()
        self.assertEqual([int(p, 16) - 256 * (int(p, 16) > 127) for p in patterns], wanted)
        self.assertTrue(all(len(p) == 2 for p in patterns))
        real = [float(x) for x in self.text(self.made, "--recipe", "floats").split()]
        self.assertEqual(real, [-0.25, 0.5, 0.75, 0.5, -0.25])
        self.assertIn("4 => -32", self.text(self.made, "--recipe", "vhdl-constant", "--name", "bat"))
        self.assertIn("int8_t bat[5]", self.text(self.made, "--recipe", "c-array", "--name", "bat"))

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_the_header_compiles(self) -> None:
        (self.folder / "bat.h").write_text(self.text(self.made, "--recipe", "c-header", "--name", "bat"))
        (self.folder / "t.c").write_text(
            '#include "bat.h"\nint main(void) { return bat[2] == 96 && BAT_COUNT == 5 ? 0 : 1; }\n'
        )
        subprocess.run(["gcc", "-Wall", "-Werror", "-o", "t", "t.c"], cwd=self.folder, check=True)
        self.assertEqual(subprocess.run([self.folder / "t"], check=False).returncode, 0)

    def test_recipes_of_ones_own(self) -> None:
        own = {"format": "combe-recipe", "version": 1, "name": "mine", "header": "{count} of {format}:", "value": "<{value}>",
               "separator": " ", "per_line": 2, "radix": "binary", "half": True, "footer": ";"}  # fmt: skip
        path = self.put("mine.json", own)
        self.assertEqual(self.text(self.made, "--recipe", path), "3 of s8f7:<11100000> <01000000>\n<01100000>;")
        sections = self.put("s.json", {"sections": [[0.5, 0.25, 0.125, -0.5, 0.25]], "gain": 1})
        negated = self.put("neg.json", {"format": "combe-recipe", "version": 1, "signs": "-a", "separator": ","})
        self.assertEqual(self.text(sections, "--recipe", negated), "0.5,0.25,0.125,0.5,-0.25\n")

    def test_mistakes_are_named(self) -> None:
        uneven = self.put("u.txt", "1\n2\n")
        for words, where in (
            ((self.made, "--recipe", "nobody"), "--recipe"), ((self.taps, "--recipe", "hex-memory"), "radix"),
            ((uneven, "--recipe", self.put("h.json", {"format": "combe-recipe", "version": 1, "half": True})), "half"),
            ((self.made, "--recipe", self.put("b.json", {"format": "combe-recipe", "version": 1, "radix": "octal"})), "radix"),
            ((self.made, "--recipe", self.put("k.json", {"format": "combe-recipe", "version": 1, "sep": ","})), "sep"),
            ((self.made, "--recipe", "lines", "--name", "int"), "name"), ((self.made,), "--recipe"),
        ):  # fmt: skip
            self.assertIn(where, self.refused("table", *words, "--to", self.folder / "out.txt"))


class Arithmetic(InFolder):
    """``realize`` with everything it can choose, tell and find."""

    LOW = document(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60), name="low")

    def designed(self, method: str) -> Path:
        asked = self.put("req.json", self.LOW)
        path = self.folder / f"{method}.json"
        self.assertEqual(call("design", asked, "--method", method, "--out", path)[0], 0)
        return path

    @in_campaign
    def test_every_structure_is_realized_told_and_run(self) -> None:
        sections = self.designed("elliptic")
        samples = self.put("in.txt", "".join(f"{(k * 7919) % 65536 - 32768}\n" for k in range(300)))
        for structure in some(("transposed-2", "coupled", "allpass-sum"), 1):
            made = self.folder / "r.json"
            words = ("realize", sections, "--structure", structure, "--error-feedback")
            self.assertEqual(call(*words, "--scaling", "l2", "--out", made)[0], 0)
            status, out, _ = call(*words, "--ordering", "search", "--guard-bits", "2", "--out", made, "--json")
            found = json.loads(out)
            self.assertEqual((status, found["structure"]), (0, structure))
            self.assertTrue(all("certified_within_db" in line for line in found["lines"]))
            told = found["arithmetic"]
            noise = told["noise"]
            self.assertLess(abs(np.log10(noise["measured_power"] / noise["predicted_power"])), 0.05)
            self.assertEqual(len(noise["density"]["hz"]), len(noise["density"]["measured"]))
            self.assertEqual(len(told["limit_cycles"]), sum(s["kind"] != "requantize" for s in found["stages"]))
            self.assertTrue(told["bounds"] and told["facts"] and told["moved_roots"])
            self.assertEqual(call("simulate", made, "--input", samples, "--output", self.folder / "o.txt")[0], 0)
            self.assertEqual(plain_run(found, [int(x) for x in samples.read_text().split()]),
                             [int(x) for x in (self.folder / "o.txt").read_text().split()])  # fmt: skip
            self.assertEqual(call("examine", made)[0], 0)

    def test_taps_in_every_form(self) -> None:
        taps = self.designed("equiripple")
        for words in (("--structure", "transposed"), ("--structure", "polyphase", "--branches", "3"),
                      ("--structure", "direct", "--product-bits", "18"), ("--coefficient-fraction", "15")):  # fmt: skip
            status, out, _ = call("realize", taps, "--coefficient-bits", "17", *words, "--json")
            self.assertIn(status, (0, 1))
            found = json.loads(out)
            self.assertEqual(found["stages"][0]["kind"], "network" if "--product-bits" in words else "tap-sum")

    def test_widths_for_a_ratio_a_chart_and_adders(self) -> None:
        sections, taps = self.designed("elliptic"), self.designed("equiripple")
        status, out, _ = call("realize", sections, "--structure", "coupled", "--signal-to-noise", "80", "--json")
        found = json.loads(out)
        self.assertEqual((status, found["widths"][0]["structure"]), (0, "coupled"))
        self.assertGreaterEqual(found["arithmetic"]["noise"]["signal_to_noise_db"], 80)
        status, out, _ = call("realize", taps, "--chart", "--coefficient-bits", "18")
        self.assertIn("folded 18 bits: +", out)
        self.assertIn("certified: 3 margins", out)
        small = self.put("s.json", document(2, (0, 0.2, -0.5, 0.5), (0.5, 1, -30), name="small"))
        call("design", small, "--method", "equiripple", "--out", self.folder / "s-d.json")
        status, out, _ = call("realize", self.folder / "s-d.json", "--adders", "--json")
        found = json.loads(out)
        self.assertEqual(status, 0)
        told = found["adders"]
        self.assertEqual(len(told["graph"]), told["multiplier_adders"])
        values = {1} | {adder["value"] for adder in told["graph"]}
        for value in found["stages"][0]["coefficients"]:
            self.assertIn(abs(value) // (abs(value) & -abs(value)) if value else 1, values)

    def test_wishes_that_cannot_be_kept_are_refused(self) -> None:
        sections = self.designed("elliptic")
        taps = self.put("taps.txt", "0.25\n0.5\n0.25\n")
        for words, where in (
            ((sections, "--adders"), "adders"), ((taps, "--chart"), "chart"), ((taps, "--signal-to-noise", "60"), "signal_to_noise"),
            ((sections, "--signal-to-noise", "900"), "signal_to_noise"), ((sections, "--scaling", "l9"), "scaling"),
            ((sections, "--ordering", "up"), "ordering"), ((sections, "--product-bits", "12"), "product_bits"),
            ((sections, "--structure", "folded"), "structure"), ((sections, "--guard-bits", "99"), "guard_bits"),
            ((taps, "--structure", "polyphase", "--branches", "99"), "branches"),
        ):  # fmt: skip
            self.assertIn(where, self.refused("realize", *words))
