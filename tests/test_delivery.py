"""Generated C, built by a real compiler with every warning an error, run under sanitizers."""

from __future__ import annotations

import random
import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from combe.delivery import Package, SourceFile, checked_name, identifier_from
from combe.delivery.c import c_package
from combe.delivery.c.types import literal
from combe.delivery.story import safe
from combe.designing.methods import design
from combe.errors import FormatError
from combe.filters import Fir
from combe.proof.c import STRICT, prove_c
from combe.realization.stages import Realization
from combe.rounding.realize import Choices, realize, rounded_lines
from combe.values import replace
from tests.support import BAT, IS_CAMPAIGN, some
from tests.test_arithmetic import random_realization

SANITIZERS = ["-fsanitize=undefined,address", "-fno-sanitize-recover=all", *([] if IS_CAMPAIGN else ["-O0"])]
"""By day without optimizing, which takes as long as all the rest of a build."""
HAS_GCC = shutil.which("gcc") is not None


def bat_package(name: str = "calls") -> tuple[Package, Realization]:
    made = realize(design(BAT, "equiripple", 112).filter, BAT.sample_rate_hz, Choices(16, "", "s12f11", "s16f15"))
    return c_package(made, name, BAT, rounded_lines(made, BAT)), made


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class GeneratedC(unittest.TestCase):
    def test_random_realizations_agree_with_the_model_under_sanitizers(self) -> None:
        source = random.Random(6)
        for index in some(range(12), 3):
            made = random_realization(source, 32)
            with self.subTest(index=index, formats=[str(entry) for entry in made.formats()]):
                proof = prove_c(c_package(made, "filter_1"), made, (), SANITIZERS)
                self.assertTrue(proof.holds, proof.sentence())

    def test_corner_formats(self) -> None:
        cases = (
            Choices(24, "direct", "s32f31", "s32f31"), Choices(8, "", "u8f8", "u8f8"), Choices(12, "", "s16f15", "s64f60"),
            Choices(8, "", "s8f7", "s64f63", None, "floor", "wrap"), Choices(2, "", "s2f1", "s2f1", None, "toward-zero", "wrap"),
            Choices(16, "", "s16f15", "s16f-60"), Choices(16, "", "s16f15", "s8f60"), Choices(16, "", "s16f15", "u63f70", None, "floor", "wrap"),
        )  # fmt: skip
        for index, choices in some(list(enumerate(cases)), 5):
            for taps in some((((0.3, 0.7, 0.3), (1.0,)), ((0.5, 0.0, -0.5), (0.9, -0.8)))[index % 2], 1):
                made = realize(Fir(taps), 1.0, replace(choices, structure="" if taps[0] in (0.3, 0.5) else "direct"))
                with self.subTest(choices=choices, taps=taps):
                    proof = prove_c(c_package(made, "corner"), made, (), SANITIZERS)
                    self.assertTrue(proof.holds, proof.sentence())

    def test_two_stages_that_sum(self) -> None:
        from combe.realization.formats import Format
        from combe.realization.stages import Requantize, TapSum

        first = TapSum((3, -1, 4), Format(True, 4, 2), Format(True, 20, 9))
        middle = Requantize(Format(True, 20, 9), Format(True, 9, 6), "nearest-up", "saturate")
        last = TapSum((1, 2, 1), Format(True, 3, 2), Format(True, 14, 8), "folded")
        made = Realization("two", 1.0, "direct", Format(True, 8, 7), Format(True, 14, 8), (first, middle, last))
        proof = prove_c(c_package(made, "two_stages"), made, (), SANITIZERS)
        self.assertTrue(proof.holds, proof.sentence())

    def test_the_delivered_makefile_checks_itself(self) -> None:
        package, _ = bat_package()
        with tempfile.TemporaryDirectory() as folder:
            package.write(folder)
            done = subprocess.run(["make", "-s", "check"], cwd=folder, capture_output=True, text=True, check=False)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("all equal", done.stdout)

    def test_it_is_a_c_plus_plus_header_too(self) -> None:
        if shutil.which("g++") is None:
            self.skipTest("g++ is not on this machine")
        package, _ = bat_package()
        with tempfile.TemporaryDirectory() as folder:
            package.write(folder)
            (Path(folder) / "user.cpp").write_text(
                '#include "calls.h"\nint main() { calls_state_t s; calls_reset(&s); return 0; }\n'
            )
            command = ["g++", "-Wall", "-Werror", "-c", "user.cpp"]
            self.assertEqual(subprocess.run(command, cwd=folder, check=False).returncode, 0)

    def test_a_changed_coefficient_is_caught(self) -> None:
        package, made = bat_package()
        source = package.text("calls.c")
        changed = source.replace("25598", "25597")
        self.assertNotEqual(source, changed)
        files = tuple(replace(f, text=changed) if f.name == "calls.c" else f for f in package.files)
        proof = prove_c(replace(package, files=files), made)
        self.assertFalse(proof.holds)

    def test_a_wrong_sample_is_named(self) -> None:
        package, made = bat_package()
        files = tuple(
            replace(f, text=f.text.replace("y[1] = (int16_t)", "y[1] = 1 | (int16_t)"))
            if f.name == "calls.c" else SourceFile("calls_check.c", "int main(void) { return 0; }\n") if f.name == "calls_check.c" else f
            for f in package.files
        )  # fmt: skip
        proof = prove_c(replace(package, files=files), made)
        self.assertGreater(proof.differences, 0)
        self.assertIn("differ", proof.sentence())

    def test_a_program_that_does_not_build_says_so(self) -> None:
        package, made = bat_package()
        files = tuple(
            replace(f, text=f.text + "int unused(void) { int x; return 0; }\n") if f.name == "calls.c" else f
            for f in package.files
        )
        self.assertIn("gcc failed", prove_c(replace(package, files=files), made).sentence())

    def test_the_proof_measures_every_limit(self) -> None:
        package, made = bat_package()
        lines = rounded_lines(made, BAT)
        proof = prove_c(package, made, lines)
        self.assertTrue(proof.holds, proof.sentence())
        for line, heard in zip(lines, proof.lines):
            self.assertAlmostEqual(heard.reached, line.reached, delta=0.002 if line.asked > -20 else 1.5)


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class Constants(unittest.TestCase):
    def test_a_constant_has_its_value_and_its_type(self) -> None:
        """The least of each type is written so that it is no negated constant of a wider one."""
        rows = []
        for bits in (32, 64):
            for value in (-(1 << (bits - 1)), -(1 << (bits - 1)) + 1, -1, 0, (1 << (bits - 1)) - 1):
                text = literal(value, f"int{bits}_t")
                below = f"-INT{bits}_C({-value - 1}) - 1" if value < 0 else f"INT{bits}_C({value})"
                rows.append(f"    wrong += sizeof({text}) != sizeof(int{bits}_t) || ({text}) != ({below});")
            rows.append(f"    wrong += ({literal((1 << bits) - 1, f'uint{bits}_t')}) != UINT{bits}_MAX;")
        text = (
            "#include <stdint.h>\nint main(void)\n{\n    int wrong = 0;\n\n"
            + "\n".join(rows)
            + "\n    return wrong;\n}\n"
        )
        with tempfile.TemporaryDirectory() as place:
            (Path(place) / "constants.c").write_text(text)
            subprocess.run(["gcc", *STRICT, "-o", "constants", "constants.c"], cwd=place, check=True)
            self.assertEqual(subprocess.run(["./constants"], cwd=place, check=False).returncode, 0)


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class Quiet(unittest.TestCase):
    def test_the_check_of_a_target_needs_no_printing(self) -> None:
        """Nothing of stdio.h is left, and the exit status says what the printed words say."""
        package, _ = bat_package()
        text = package.text("_check.c")
        head, _, tail = text.partition("expected[COUNT] = {\n")
        wrong = re.sub(r"-?\d+", lambda found: str(int(found[0]) ^ 1), tail, count=1)
        for words, status in ((text, 0), (f"{head}expected[COUNT] = {{\n{wrong}", 1)):
            with tempfile.TemporaryDirectory() as place:
                package.write(place)
                (Path(place) / "calls_check.c").write_text(words)
                flags = ["gcc", *STRICT, "-DCALLS_QUIET"]
                seen = subprocess.run(
                    [*flags, "-E", "calls_check.c"], cwd=place, capture_output=True, text=True, check=True
                )
                self.assertNotIn("printf", seen.stdout)
                subprocess.run([*flags, "-o", "check", "calls.c", "calls_check.c"], cwd=place, check=True)
                done = subprocess.run(["./check"], cwd=place, capture_output=True, text=True, check=False)
                self.assertEqual((done.returncode, done.stdout), (status, ""))


class WithoutTools(unittest.TestCase):
    def test_a_missing_compiler_is_told_with_its_package(self) -> None:
        package, made = bat_package()
        with mock.patch("combe.proof.tools.shutil.which", return_value=None):
            proof = prove_c(package, made)
        self.assertFalse(proof.holds)
        self.assertIn("apt-get install gcc", proof.sentence())

    def test_a_compiler_that_hangs_is_stopped(self) -> None:
        from combe.errors import ToolError
        from combe.proof.tools import run

        with self.assertRaises(ToolError) as caught:
            run(["sleep", "5"], Path("/tmp"), seconds=0.1)
        self.assertIn("did not finish", caught.exception.sentence())

    def test_the_same_realization_gives_the_same_text(self) -> None:
        self.assertEqual(bat_package()[0], bat_package()[0])
        self.assertNotEqual(bat_package("calls")[0].checksum, bat_package("other")[0].checksum)

    def test_words_too_wide_for_c_are_refused(self) -> None:
        with self.assertRaises(FormatError):
            realize(Fir((0.5,) * 9), 1.0, Choices(40, "", "s60f59"))
        made = realize(Fir((0.5,)), 1.0, Choices(2, "direct", "s63f0"))
        self.assertRaises(FormatError, c_package, made, "wide")


class Names(unittest.TestCase):
    def test_names_that_cannot_stand_in_code_are_refused(self) -> None:
        for name in (
            "",
            "1st",
            "a b",
            "a-b",
            "int",
            "class",
            "_x",
            "x__y",
            "x_",
            "é",
            "a;b",
            "main",
            "a" * 41,
            "../x",
            "$(x)",
        ):
            with self.subTest(name=name), self.assertRaises(FormatError):
                checked_name(name)
        for name in ("calls", "Calls2", "bat_band"):
            self.assertEqual(checked_name(name), name)

    def test_any_text_becomes_a_name_that_can(self) -> None:
        for text in ("bat band", "", "9 lives", "int", "Größe *", "__", "x" * 99, "a_" * 30):
            self.assertEqual(checked_name(identifier_from(text)), identifier_from(text))

    def test_nothing_typed_ends_a_comment(self) -> None:
        for text in ("a */ b", "/* c", "x \\", "??/", "new\nline", "// no"):
            for mark in ("*/", "/*", "\\", "??", "\n", "//"):
                self.assertNotIn(mark, safe(text))
        named = replace(BAT, name="*/ int evil; /*", bands=tuple(replace(b, name="x*/y\\") for b in BAT.bands))
        made = realize(Fir((0.5, 0.5)), BAT.sample_rate_hz, Choices())
        text = c_package(made, "safe_one", named, rounded_lines(made, named)).text("safe_one.c")
        self.assertEqual(text.count("/*"), text.count("*/"))
        self.assertNotIn("evil; /*", text)
