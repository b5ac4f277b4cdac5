"""Budgets: counted rows, calibrations, limits of a brief that speak of processors and devices."""

from __future__ import annotations

import json
import shutil
import unittest
from unittest import mock

from combe.cli.sources import realization_in
from combe.designing.contenders import contenders
from combe.designing.methods import design
from combe.errors import FormatError, RequirementError
from combe.filters import Cascade
from combe.ledger import lines_of
from combe.ledger.cycles import estimated_cycles, estimated_instructions
from combe.project.demo import recorder_project
from combe.project.document import project_of
from combe.project.file import save_project
from combe.proof.budget import BudgetRow, Calibration, budget, budget_row, calibrated, with_taps
from combe.proof.synthesis import Synthesized
from combe.requirement import requirement_document
from combe.requirement.reading import requirement_from
from combe.requirement.sentences import whole_words, with_whole, with_whole_figure
from combe.rounding.realize import Choices, realize
from combe.values import replace
from tests.support import asked
from tests.test_cli import InFolder, call

HAS_ARM = shutil.which("arm-none-eabi-gcc") is not None and shutil.which("qemu-system-arm") is not None
LOW = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))


class Calibrations(unittest.TestCase):
    def test_shares_follow_from_clock_and_rate(self) -> None:
        row = budget_row("integer", 64, 0, 200.0, 50_000.0, Calibration("cortex-m4", 80e6, 1.5))
        self.assertAlmostEqual(row.share, 200 * 1.5 * 50_000 / 80e6)
        self.assertAlmostEqual(row.highest_rate_hz, 80e6 / 300)
        self.assertAlmostEqual(row.cycles_left, 80e6 - 300 * 50_000)

    def test_what_is_typed_is_a_factor_or_a_timers_count(self) -> None:
        self.assertEqual(calibrated("cortex-m4", 8e7, "1.25").cycles_per_instruction, 1.25)
        found = calibrated("cortex-m4", 8e7, "30000 / 256", 90.0)
        self.assertAlmostEqual(found.cycles_per_instruction, 30000 / 256 / 90)
        self.assertTrue(found.is_measured)
        self.assertFalse(calibrated("cortex-m4", 8e7, "").is_measured)
        for core, clock, typed in (
            ("abacus", 1e6, ""),
            ("cortex-m4", 1.0, ""),
            ("cortex-m4", 1e6, "fast"),
            ("cortex-m4", 1e6, "1/0"),
            ("cortex-m4", 1e6, "-1"),
        ):
            self.assertRaises(FormatError, calibrated, core, clock, typed)

    def test_other_numbers_of_taps_keep_the_arithmetic(self) -> None:
        made = realize(design(LOW, "equiripple", 40).filter, 48_000, Choices(16, "direct"))
        for count in (1, 16, 100):
            longer = with_taps(made, count)
            self.assertEqual(len(longer.stages[0].coefficients), count)  # type: ignore[union-attr]
            self.assertEqual((longer.input, longer.output), (made.input, made.output))
        self.assertRaises(FormatError, with_taps, made, 0)
        sections = realize(design(LOW, "elliptic", 5).filter, 48_000, Choices(16))
        self.assertRaises(FormatError, with_taps, sections, 16)


@unittest.skipUnless(HAS_ARM, "the Arm compiler and emulator are not on this machine")
class Counted(unittest.TestCase):
    def test_every_variant_in_every_block_length(self) -> None:
        made = realize(design(LOW, "equiripple", 40).filter, 48_000, Choices(14, "direct"))
        found = list(budget(made, Calibration.usual("cortex-m4", 8e7)))
        rows = [row for row in found if isinstance(row, BudgetRow)]
        self.assertEqual(len(rows), len(found), found)
        self.assertEqual({row.variant for row in rows}, {"integer", "intrinsics", "converter codes", "single"})
        by = {(row.variant, row.block): row.instructions for row in rows}
        self.assertLess(by["integer", 256], by["integer", 1])
        self.assertLess(by["integer", 256], by["converter codes", 256])
        self.assertLess(by["intrinsics", 256], by["integer", 256])

    def test_the_estimate_is_near_the_count(self) -> None:
        for method, order in (("equiripple", 63), ("elliptic", 8)):
            source = design(LOW, method, order).filter
            made = realize(source, 48_000, Choices(16, "direct" if order > 20 else ""))
            rows = [
                row
                for row in budget(made, Calibration.usual("cortex-m4", 8e7), (), ("intrinsics",))
                if isinstance(row, BudgetRow)
            ]
            counted = next(row.instructions for row in rows if row.block == 256)
            self.assertLess(abs(estimated_instructions(source) / counted - 1), 0.35, (method, counted))


class InTheBrief(unittest.TestCase):
    def test_cycles_and_multipliers_are_lines(self) -> None:
        limited = with_whole_figure(with_whole(LOW, "max_cycles", 100), "max_multipliers", "2 at 1 MHz")
        source = design(LOW, "equiripple", 50).filter
        lines = {line.limit: line for line in lines_of(source, limited)}
        self.assertEqual(lines["max_cycles"].reached, estimated_cycles(source))
        # 26 multiplies a sample, 20 clocks a sample: two multipliers.
        self.assertEqual((lines["max_multipliers"].reached, lines["max_multipliers"].margin), (2, 0))
        self.assertEqual(requirement_from(requirement_document(limited)), limited)
        self.assertEqual(dict(whole_words(limited))["max_multipliers"], "2 at 1 MHz")

    def test_shares_of_a_processor_become_cycles(self) -> None:
        limited = with_whole_figure(LOW, "max_cycles", "30 % of 48 MHz")
        self.assertEqual(limited.max_cycles, 300)
        for wrong in ("much", "-3", "30 % of", "1e99"):
            self.assertRaises(RequirementError, with_whole_figure, LOW, "max_cycles", wrong)
        self.assertRaises(RequirementError, with_whole_figure, LOW, "max_multipliers", "some")

    def test_contenders_are_judged_by_them(self) -> None:
        tight = with_whole(LOW, "max_cycles", 150)
        found = list(contenders(tight))
        kept = [contender for contender in found if contender.keeps]
        missed = [
            c
            for c in found
            if c.design is not None
            and not c.keeps
            and any(line.limit == "max_cycles" and line.margin < 0 for line in c.lines)
        ]
        self.assertTrue(kept and missed)
        self.assertTrue(
            all(
                isinstance(c.design.filter, Cascade) or estimated_cycles(c.design.filter) <= 150
                for c in kept
                if c.design
            )
        )

    def test_multipliers_without_a_clock_are_refused(self) -> None:
        document = requirement_document(LOW) | {"max_multipliers": 4}
        with self.assertRaises(RequirementError) as caught:
            requirement_from(document)
        self.assertIn("clock", caught.exception.sentence())


@unittest.skipUnless(HAS_ARM, "the Arm compiler and emulator are not on this machine")
class CommandLine(InFolder):
    def test_a_budget_from_the_command_line(self) -> None:
        taps = self.put("taps.txt", "0.25\n0.5\n0.25\n")
        made = self.folder / "r.json"
        call("realize", taps, "--out", made)
        status, out, _ = call("budget", made, "--clock", "48M", "--core", "cortex-m0plus", "--json")
        document = json.loads(out)
        self.assertEqual((status, document["calibration"], document["clock_hz"]), (0, "typical", 48e6))
        self.assertEqual(len(document["rows"]), 16)
        self.assertIn("Hz", call("budget", made, "--measured", "10000/256")[1])
        for wrong in (
            ("--clock", "fast"),
            ("--core", "abacus"),
            ("--taps", "a"),
            ("--measured", "x"),
            ("--clock", "0"),
        ):
            self.refused("budget", made, *wrong)

    def test_all_filters_of_a_project_share_one_core(self) -> None:
        """The sum of what each takes alone at its own rate; a clock too slow for all of them is status 1."""
        members = [m for m in recorder_project().members if m.code_name in ("notch", "probe")]
        path = self.folder / "p.combe"
        save_project(project_of("two", [replace(member, source="input") for member in members]), path)
        status, out, _ = call("budget", path, "--every", "--json", "--block", "256")
        found = json.loads(out)
        self.assertEqual((status, [each["name"] for each in found["filters"]]), (0, ["notch", "probe"]))
        for each in found["filters"]:
            made = realization_in(str(path), each["name"]).realization
            rows = list(budget(made, calibrated("cortex-m4", 80e6, ""), (), ("intrinsics",)))
            alone = next(row for row in rows if isinstance(row, BudgetRow) and row.block == 256)
            self.assertAlmostEqual(each["share"], alone.instructions * 1.3 * each["sample_rate_hz"] / 80e6)
        self.assertAlmostEqual(found["share"], sum(each["share"] for each in found["filters"]))
        slow = found["share"] * 80e6 * 0.9
        status, out, _ = call("budget", path, "--every", "--block", "256", "--clock", f"{slow:.0f}")
        self.assertEqual(status, 1)
        self.assertIn("together: 111.11 %", out)
        self.assertIn("would do", out)
        self.refused("budget", path, "--every", "--filter", "notch")
        self.refused("budget", path, "--every", "--measured", "100/3")
        self.refused("budget", self.put("t.txt", "0.5"), "--every")

    def test_all_circuits_of_a_project_share_one_device(self) -> None:
        members = [m for m in recorder_project().members if m.code_name in ("notch", "probe")]
        path = self.folder / "p.combe"
        save_project(project_of("two", [replace(member, source="input") for member in members]), path)
        cells = {
            "notch": Synthesized("ice40-up5k", 100, 300, 10, 4, 2, 30e6),
            "probe": Synthesized("ice40-up5k", 50, 200, 10, 4, 1, 25e6),
        }
        with mock.patch("combe.proof.device_budget.synthesized", lambda package, *_: cells[package.name]):
            status, out, _ = call("budget", path, "--every", "--device", "ice40-up5k", "--json")
            found = json.loads(out)
            self.assertEqual((status, found["fits"]), (0, True))
            self.assertEqual(found["taken"], {"luts": 500, "registers": 150, "multipliers": 8, "memories": 3})
            self.assertEqual(found["capacity"]["multipliers"], 8)
            for each in found["filters"]:
                self.assertEqual(each["needed_clock_hz"], each["clocks_per_sample"] * each["sample_rate_hz"])
            cells["probe"] = replace(cells["probe"], multipliers=5)
            status, out, _ = call("budget", path, "--every", "--device", "ice40-up5k")
            self.assertEqual(status, 1)
            self.assertIn("9 of 8 multipliers", out)
            cells["probe"], cells["notch"] = (
                replace(cells["probe"], multipliers=1),
                replace(cells["notch"], clock_hz=1e6),
            )
            status, out, _ = call("budget", path, "--every", "--device", "ice40-up5k")
            self.assertEqual(status, 1)
            self.assertIn("MHz for its samples, and runs at 1 MHz", out)
            cells["notch"] = Synthesized("ice40-up5k", failure="yosys is not on this machine")
            status, out, _ = call("budget", path, "--every", "--device", "ice40-up5k")
            self.assertEqual((status, "yosys is not" in out), (1, True))
        self.refused("budget", path, "--every", "--device", "abacus")
        self.refused("budget", path, "--device", "ice40-up5k")
        self.refused("budget", path, "--every", "--device", "ice40-up5k", "--filter", "notch")


if __name__ == "__main__":
    unittest.main()
