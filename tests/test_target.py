"""Generated C on emulated processors: identical with and without intrinsics, instructions counted, missing tools told."""

from __future__ import annotations

import json
import random
import shutil
import subprocess
import tempfile
import unittest
import unittest.mock
from pathlib import Path

from combe.delivery.c import c_package
from combe.delivery.code_choices import CodeChoices
from combe.delivery.package import Package
from combe.designing.methods import design
from combe.errors import FormatError
from combe.filters import Fir
from combe.proof.cores import CORES, prove_on_target
from combe.rounding.realize import Choices, realize
from tests.support import asked, some
from tests.test_arithmetic import random_realization
from tests.test_cli import InFolder, call
from tests.test_networks import random_network

LOUD = Fir((0.95, 0.9, *(0.0,) * 6, 0.95, 0.9, *(0.0,) * 6))
HAS_ARM = shutil.which("arm-none-eabi-gcc") is not None and shutil.which("qemu-system-arm") is not None
HAS_RISCV = all(map(shutil.which, ("riscv64-unknown-elf-gcc", "qemu-system-riscv32", "qemu-system-riscv64")))
LOW = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))


def packaged(taps: int, choices: Choices) -> tuple[Package, object]:
    made = realize(design(LOW, "equiripple", taps - 1).filter, 48_000, choices)
    return c_package(made, "filter_1"), made


@unittest.skipUnless(HAS_ARM, "the Arm compiler and emulator are not on this machine")
class OnTarget(unittest.TestCase):
    def test_random_realizations_are_identical_with_and_without_intrinsics(self) -> None:
        source = random.Random(31)
        dual = 0
        for index in some(range(8), 2):
            made = random_network(source) if index % 2 else random_realization(source, 40)
            package = c_package(made, "filter_1")
            dual += "__smla" in package.text(".c")
            for portable in (False, True):
                proof = prove_on_target(package, made, "cortex-m4", portable)
                self.assertTrue(proof.holds, (index, portable, proof.sentence()))
        self.assertGreater(dual, 0)

    def test_sums_near_the_ends_of_32_bits_saturate_as_the_model_does(self) -> None:
        """Four large taps: the sum passes 2³¹, and outputs stand at their limits."""
        made = realize(LOUD, 1.0, Choices(16, "direct"))
        package = c_package(made, "filter_1")
        self.assertTrue("__smlald" in package.text(".c"))
        self.assertGreater(made.stages[0].accumulator.bits, 32)  # type: ignore[union-attr]
        for rounding in some(("nearest-even", "nearest-up", "floor", "toward-zero"), 2):
            for output in some(("s16f15", "s12f11", "s16f12"), 2):
                made = realize(LOUD, 1.0, Choices(16, "direct", output=output, rounding=rounding))
                proof = prove_on_target(c_package(made, "filter_1"), made)
                self.assertTrue(proof.holds, (rounding, output, proof.sentence()))

    def test_ties_of_large_sums_round_as_the_model_does(self) -> None:
        """Taps of few bits: one sum in sixteen ends just halfway between two outputs."""
        taps = Fir(tuple((1 if k % 16 == 15 else 2) * (-1) ** (k // 3) / 16 for k in range(32)))
        for rounding in ("nearest-even", "nearest-up"):
            choices = Choices(16, "direct", "s16f15", "s16f15", rounding=rounding, coefficient_fraction=15)
            made = realize(taps, 1.0, choices)
            package = c_package(made, "filter_1")
            self.assertTrue("__smlald" in package.text(".c"))
            self.assertTrue(prove_on_target(package, made).holds, rounding)

    def test_instructions_a_tap_are_what_is_asked(self) -> None:
        """64 taps, blocks of 256, 16 bits all over: at most 2.5 in portable C, at most 1.25 with the intrinsics."""
        package, made = packaged(64, Choices(16, "direct"))
        portable = prove_on_target(package, made, portable=True)  # type: ignore[arg-type]
        dual = prove_on_target(package, made)  # type: ignore[arg-type]
        self.assertLess(portable.instructions[256] / 64, 2.5)
        self.assertLess(dual.instructions[256] / 64, 1.25)
        self.assertTrue(dual.uses_intrinsics and not portable.uses_intrinsics)
        self.assertGreater(dual.code_bytes, 100)
        self.assertEqual((dual.constant_bytes, dual.state_bytes), (128, 260))

    def test_sums_above_32_bits_cost_little_more(self) -> None:
        """16-bit data and taps that fill their 16 bits, so that sums take 34: what is asked of careful work by hand."""
        low = asked(48_000, (0, 3000, -0.1, 0.1), (5_000, 24_000, -60))
        for taps, most, single in ((16, 2.5, 110), (64, 1.25, 170), (256, 1.1, 520)):
            made = realize(design(low, "equiripple", taps - 1).filter, 48_000, Choices(16, "direct"))
            self.assertGreater(made.stages[0].accumulator.bits, 33)  # type: ignore[union-attr]
            dual = prove_on_target(c_package(made, "filter_1"), made)
            self.assertTrue(dual.holds, dual.sentence())
            self.assertLess(dual.instructions[256] / taps, most)
            self.assertLess(dual.instructions[1], single)
            short = prove_on_target(c_package(made, "filter_1"), made, "cortex-m0plus")
            self.assertTrue(short.holds, short.sentence())
            if taps >= 64:
                self.assertLess(short.instructions[256] / taps, 9.5)

    def test_four_sections_one_sample_a_call(self) -> None:
        made = realize(design(LOW, "elliptic", 8).filter, 48_000, Choices(16))
        self.assertLess(prove_on_target(c_package(made, "filter_1"), made).instructions[1], 165)

    def test_structures_take_little_more_than_direct_form_i(self) -> None:
        """Four sections in blocks of 256, instructions of one."""
        filter_ = design(LOW, "elliptic", 8).filter
        for structure, most in (
            ("direct-1", 24),
            ("direct-2", 31),
            ("transposed-2", 36),
            ("coupled", 44),
            ("lattice", 61),
        ):
            made = realize(filter_, 48_000, Choices(16, structure))
            proof = prove_on_target(c_package(made, "filter_1"), made)
            self.assertTrue(proof.holds, (structure, proof.sentence()))
            self.assertLess(proof.instructions[256] / 4, most, structure)

    def test_without_saturating_instructions_sections_take_half_of_what_hands_write(self) -> None:
        """Direct form I in 64 bits, by hand, takes 55 instructions of a Cortex-M4 (``make bench``); in C that names no instruction too."""
        filter_ = design(LOW, "elliptic", 8).filter
        made = realize(filter_, 48_000, Choices(16, "direct-1"))
        for intrinsics, portable in ((True, True), (False, False)):
            package = c_package(made, "filter_1", choices=CodeChoices(intrinsics=intrinsics))
            proof = prove_on_target(package, made, "cortex-m4", portable)
            self.assertTrue(proof.holds, proof.sentence())
            self.assertLess(proof.instructions[256] / 4, 27.5, intrinsics)

    def test_every_processor_builds_and_agrees(self) -> None:
        package, made = packaged(21, Choices(14))
        for target in (name for name, core in CORES.items() if core.family == "arm"):
            proof = prove_on_target(package, made, target)  # type: ignore[arg-type]
            self.assertTrue(proof.holds, proof.sentence())

    def test_a_wrong_program_is_caught(self) -> None:
        package, made = packaged(64, Choices(16, "direct"))
        files = tuple(
            type(f)(f.name, f.text.replace("sum1 = __smlald(t, b, sum1);", "sum1 = __smlald(t, a, sum1);"))
            for f in package.files
        )
        proof = prove_on_target(Package("c", "filter_1", files), made)  # type: ignore[arg-type]
        self.assertGreater(proof.differences, 0)
        self.assertIn("differ", proof.sentence())


@unittest.skipUnless(HAS_RISCV, "the RISC-V compiler and emulator are not on this machine")
class OnRiscV(unittest.TestCase):
    def test_random_realizations_are_identical(self) -> None:
        source = random.Random(32)
        for index in some(range(40), 4):
            made = random_network(source) if index % 2 else random_realization(source, 40)
            for target in ("rv32imac", "rv64imac"):
                proof = prove_on_target(c_package(made, "filter_1"), made, target)
                self.assertTrue(proof.holds, (index, target, proof.sentence()))
                self.assertGreater(proof.code_bytes, 50)

    def test_instructions_are_counted_one_by_one(self) -> None:
        """Four outputs share two loads: at least 2.5 a tap. A call for each sample loads both factors: at least 4."""
        package, made = packaged(64, Choices(16, "direct"))
        narrow, wide = (prove_on_target(package, made, each).instructions for each in ("rv32imac", "rv64imac"))  # type: ignore[arg-type]
        for counted in (narrow, wide):
            self.assertTrue(2.5 < counted[256] / 64 < 4.0, counted)
            self.assertTrue(4.0 < counted[1] / 64 < 6.5, counted)
        self.assertEqual(narrow, prove_on_target(package, made, "rv32imac").instructions)  # type: ignore[arg-type]

    def test_floating_point_without_a_unit(self) -> None:
        made = realize(design(LOW, "elliptic", 8).filter, 48_000, Choices(16))
        proof = prove_on_target(c_package(made, "filter_1", choices=CodeChoices(number="single")), made, "rv32imac")
        self.assertTrue(proof.holds, proof.sentence())

    def test_a_wrong_program_is_caught(self) -> None:
        package, made = packaged(21, Choices(14))
        files = tuple(
            type(f)(f.name, f.text.replace("sum0 += t * (int32_t)b", "sum0 -= t * (int32_t)b")) for f in package.files
        )
        self.assertIn("differ", prove_on_target(Package("c", "filter_1", files), made, "rv32imac").sentence())  # type: ignore[arg-type]


class WithoutTools(unittest.TestCase):
    def test_missing_tools_are_told_with_their_packages(self) -> None:
        package, made = packaged(21, Choices(14))
        with unittest.mock.patch("shutil.which", return_value=None):
            proof = prove_on_target(package, made)  # type: ignore[arg-type]
        self.assertFalse(proof.holds)
        self.assertIn("apt-get install gcc-arm-none-eabi", proof.sentence())
        with unittest.mock.patch("shutil.which", lambda tool: None if "riscv" in tool else tool):
            proof = prove_on_target(package, made, "rv64imac")  # type: ignore[arg-type]
        self.assertIn("apt-get install gcc-riscv64-unknown-elf picolibc-riscv64-unknown-elf", proof.sentence())


class Checked(unittest.TestCase):
    @unittest.skipUnless(shutil.which("cppcheck"), "cppcheck is not on this machine")
    def test_a_static_checker_finds_nothing(self) -> None:
        source = random.Random(12)
        for index in range(6):
            made = random_network(source)
            with tempfile.TemporaryDirectory() as place:
                c_package(made, "filter_1").write(place)
                done = subprocess.run(
                    ["cppcheck", "--enable=warning,performance,portability", "--std=c99", "--error-exitcode=3", "-q",
                     "--suppress=missingIncludeSystem", "filter_1.c"], cwd=place, capture_output=True, text=True, check=False,
                )  # fmt: skip
                self.assertEqual(done.returncode, 0, (index, done.stderr))

    def test_long_and_odd_sums_are_written(self) -> None:
        for count in (1, 2, 3, 8, 9, 31, 64, 65, 200):
            try:
                made = realize(Fir(tuple(0.9 / (k + 1) for k in range(count))), 1.0, Choices(16))
            except FormatError as error:
                self.fail(error.sentence())
            text = c_package(made, "filter_1").text(".c")
            self.assertIn(f"Sum of {count} taps", text)


@unittest.skipUnless(HAS_ARM, "the Arm compiler and emulator are not on this machine")
class CommandLine(InFolder):
    def test_a_delivery_proved_on_processors(self) -> None:
        taps = self.put("taps.txt", "0.25\n0.5\n0.25\n")
        made, to = self.folder / "r.json", self.folder / "out"
        self.assertEqual(call("realize", taps, "--out", made)[0], 0)
        words = ("deliver", made, "--language", "c", "--to", to, "--name", "smooth", "--json")
        status, out, _ = call(*words, "--target", "cortex-m4", "--target", "cortex-m0plus")
        found = json.loads(out)["targets"]
        self.assertEqual((status, [each["target"] for each in found]), (0, ["cortex-m4", "cortex-m0plus"]))
        self.assertTrue(all(each["equal"] and each["instructions_per_sample"]["256"] > 1 for each in found))
        shutil.rmtree(to)
        self.assertIn("--target", self.refused(*words, "--target", "abacus"))
        self.assertFalse(Path(to).exists())


if __name__ == "__main__":
    unittest.main()
