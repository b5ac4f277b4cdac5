"""Generated Rust: every kind of stage in every format, built without the standard library, overflow checked, bit for bit."""

from __future__ import annotations

import json
import random
import re
import shutil
import subprocess
import tempfile
import unittest
from unittest import mock

from combe.delivery.languages import BY_NAME
from combe.delivery.rust import rust_package
from combe.delivery.rust.types import KEYWORDS
from combe.designing.methods import design
from combe.errors import FormatError
from combe.filters import Fir
from combe.ledger import lines_of
from combe.proof.rust import proved
from combe.realization.reading import realization_document
from combe.realization.stages import Realization
from combe.rounding.realize import Choices, realize
from combe.values import replace
from tests.independent import plain_run
from tests.rate_cases import random_rates
from tests.support import IS_CAMPAIGN, asked
from tests.test_arithmetic import random_realization
from tests.test_cli import InFolder, call
from tests.test_networks import random_network
from tests.test_wide import random_wide
from tests.test_zero_taps import band

HAS_RUST = shutil.which("rustc") is not None
LOW = asked(48_000, (0, 6000, -0.5, 0.1), (9_000, 24_000, -50))
FLAGS = ["--edition", "2021", "-O", "-D", "warnings", "-C", "overflow-checks=on"]


def random_made(source: random.Random, index: int) -> Realization:
    """One of four kinds in turn."""
    if index % 4 == 0:
        return random_realization(source, 32)
    if index % 4 == 1:
        return random_network(source)
    return random_rates(source) if index % 4 == 2 else random_wide(source)


@unittest.skipUnless(HAS_RUST, "rustc is not on this machine")
class Rust(unittest.TestCase):
    def checked(self, made: Realization) -> None:
        """What a user does: ``make check``. The outputs in it are the model's, and those a stranger's."""
        package = rust_package(made, "sum_of_taps")
        if not made.changes_rate:
            short = [
                int(x)
                for x in package.text("_check.rs").split("INPUTS: ")[1].split("= [")[1].split("];")[0].split(",")[:60]
            ]
            outputs = [
                int(y)
                for y in package.text("_check.rs").split("OUTPUTS: ")[1].split("= [")[1].split("];")[0].split(",")[:60]
            ]
            self.assertEqual(plain_run(realization_document(made), short), outputs)
        with tempfile.TemporaryDirectory() as place:
            package.write(place)
            done = subprocess.run(["make", "-s", "check"], cwd=place, capture_output=True, text=True, check=False)
            self.assertEqual(done.returncode, 0, (made, (done.stdout + done.stderr)[:900]))
            self.assertIn("all equal", done.stdout)

    def test_random_stages_of_every_kind(self) -> None:
        source = random.Random(8)
        for index in range(160 if IS_CAMPAIGN else 4):
            with self.subTest(index=index):
                self.checked(random_made(source, index))

    def test_zeros_of_a_change_of_rate_are_not_multiplied(self) -> None:
        """Half-band stages of 31 taps, 17 of them not zero."""
        for up, down in ((1, 2), (2, 1)):
            made = band(31, 2, up, down)
            self.checked(made)
            table = rust_package(made, "sum_of_taps").text(".rs").split("TAPS_0")[1].split("];\n\n")[0]
            self.assertEqual(len(re.findall(r"\(\d+, -?\d+\)", table)), 17)

    def test_a_long_stream_and_every_limit(self) -> None:
        made = realize(
            design(LOW, "elliptic").filter, 48_000, Choices(16, "direct-1", error_feedback=True), requirement=LOW
        )
        lines = lines_of(design(LOW, "elliptic").filter, LOW)
        package = rust_package(made, "calls", LOW)
        proof = proved(package, made, lines, None, lambda _: None, lambda: False)
        self.assertTrue(proof.holds, proof.sentence())
        self.assertGreater(proof.samples, 65_536)
        self.assertEqual(len(proof.lines), len(lines))
        text = package.text("calls.rs")
        changed = text.replace("now_input as i64)", "now_input as i64 + 1)", 1)
        self.assertNotEqual(changed, text)
        wrong = replace(package, files=(replace(package.files[0], text=changed), *package.files[1:]))
        self.assertFalse(proved(wrong, made, (), None, lambda _: None, lambda: False).holds)

    def test_the_head_tells_the_story_and_nothing_unsafe_is_used(self) -> None:
        made = realize(Fir((0.25, 0.5, 0.3)), 48_000, Choices(12))
        text = rust_package(made, "calls", LOW).text("calls.rs")
        self.assertTrue(text.startswith("//! calls: "))
        for word in ("unsafe", "std::", "alloc", "Vec"):
            self.assertNotIn(word, text.split("/// A sample that goes in.")[1])


class Refusals(unittest.TestCase):
    def test_names_and_widths(self) -> None:
        made = realize(Fir((0.25, 0.5, 0.3)), 48_000, Choices(12))
        for name in ("match", "crate", "1x", "a b"):
            with self.assertRaises(FormatError):
                rust_package(made, name)
        self.assertTrue({"fn", "self", "core", "async"} <= KEYWORDS)
        huge = realize(Fir((0.7,) * 3), 1.0, Choices(40, "direct", "s40f39"))
        bare = replace(huge, stages=huge.stages[:1], output=huge.stages[0].result)  # type: ignore[union-attr]
        with self.assertRaisesRegex(FormatError, "64 bits are the most"):
            rust_package(bare, "calls")

    def test_a_missing_compiler_is_told_with_its_package(self) -> None:
        made = realize(Fir((0.25, 0.5, 0.3)), 48_000, Choices(12))
        with mock.patch("shutil.which", return_value=None):
            proof = BY_NAME["rust"].prove(rust_package(made, "calls"), made)
        self.assertFalse(proof.holds)
        self.assertIn("apt-get install rustc", proof.sentence())


class CommandLine(InFolder):
    def test_delivered_by_name(self) -> None:
        made = self.folder / "r.json"
        call("realize", self.put("taps.txt", "0.25\n0.5\n0.3\n"), "--out", made)
        words = ("deliver", made, "--to", self.folder / "out", "--name", "smooth", "--language", "rust", "--json")
        status, out, _ = call(*words)
        self.assertEqual((status, json.loads(out)["language"]), (0, "rust"))
        self.assertEqual(
            {path.name for path in (self.folder / "out").iterdir()},
            {"smooth.rs", "smooth_check.rs", "smooth_no_std.rs", "Makefile"},
        )
        self.assertIn("Rust", self.refused(*words, "--number", "single"))


if __name__ == "__main__":
    unittest.main()
