"""Runners of every kind give the same samples; a stranger among them is noticed."""

from __future__ import annotations

import shutil
import unittest

import numpy as np

from combe.analysis.exact import exact_filter
from combe.delivery.c import c_package
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.filters import Cascade, Fir
from combe.proof.agreement import agreement
from combe.proof.runners import BitTrue, Codes, Exact, Floating, Runner
from combe.proof.runners.compiled import Compiled
from combe.proof.runners.emulated import Emulated
from combe.proof.runners.simulated import Simulated
from combe.realization.reading import realization_document
from combe.realization.stages import Realization
from combe.rounding.choices import Choices
from combe.rounding.realize import realize
from combe.running.random_integers import random_integers
from tests import independent
from tests.support import IS_CAMPAIGN, some

HAS = {
    tool: shutil.which(tool) is not None
    for tool in ("gcc", "iverilog", "verilator", "ghdl", "qemu-system-arm", "arm-none-eabi-gcc")
}
TAPS = Fir((0.1, -0.3, 0.55, -0.3, 0.1))
SECTION = Cascade(((0.2, 0.1, 0.2, -0.9, 0.5),))


def made(source: Fir | Cascade) -> Realization:
    return realize(source, 48_000.0, Choices(14, "", "s12f11", "s16f15"))


class Agreeing(unittest.TestCase):
    def check(self, runner: Runner, realization: Realization, count: int = 700) -> None:
        samples = random_integers(count, realization.input, 3)
        wanted = np.array(independent.plain_run(realization_document(realization), samples.tolist()))
        found = agreement(runner.run(samples), wanted)
        self.assertTrue(found.holds, (runner.name, found))
        self.assertEqual(found.samples, count)
        # State starts anew with every run.
        self.assertTrue(agreement(runner.run(samples), wanted).holds, runner.name)

    def test_the_model_and_the_independent_one(self) -> None:
        for source in (TAPS, SECTION):
            self.check(BitTrue(made(source)), made(source))

    def test_the_exact_filter_is_within_what_rounding_cuts_off(self) -> None:
        realization = made(TAPS)
        samples = random_integers(500, realization.input, 3) // 2  # never beyond the output's range
        exact = Exact(exact_filter(realization), realization).run(samples)
        off = np.abs(exact - BitTrue(realization).run(samples))
        self.assertLessEqual(float(np.max(off)), 0.5 + 1e-9)

    @unittest.skipUnless(HAS["gcc"], "gcc is not on this machine")
    def test_compiled_programs(self) -> None:
        for source in (TAPS, SECTION):
            with Compiled(c_package(made(source), "filter_1"), made(source)) as program:
                program.build()
                program.check()
                self.check(program, made(source))
                folder = program.folder
            self.assertFalse(folder.exists())

    @unittest.skipUnless(HAS["gcc"], "gcc is not on this machine")
    def test_floating_point_is_within_its_tolerance(self) -> None:
        realization, choices = made(SECTION), CodeChoices(number="single")
        samples = random_integers(900, realization.input, 3)
        with Compiled(c_package(realization, "filter_1", choices=choices), realization) as program:
            program.build()
            heard = program.run(samples)
        wanted, tolerance = Floating(realization, choices).model(samples)
        self.assertTrue(agreement(heard, wanted, tolerance).holds)
        self.assertFalse(agreement(heard, wanted, tolerance / 1e6).holds)

    @unittest.skipUnless(HAS["qemu-system-arm"] and HAS["arm-none-eabi-gcc"], "no emulator")
    def test_emulated_cores(self) -> None:
        for source in (TAPS, SECTION):
            core = Emulated(c_package(made(source), "filter_1"), made(source))
            self.check(core, made(source), 300)
            self.assertGreater(core.instructions[1], core.instructions[256])

    @unittest.skipUnless(HAS["qemu-system-arm"] and HAS["arm-none-eabi-gcc"], "no emulator")
    def test_converter_codes_on_an_emulated_core(self) -> None:
        realization, choices = made(TAPS), CodeChoices(converter_in="12", converter_out="12")
        codes = np.arange(0, 4096, 11, dtype=np.int64)
        core = Emulated(c_package(realization, "filter_1", choices=choices), realization, with_codes=True)
        self.assertTrue(agreement(core.run(codes), Codes(realization, choices).run(codes)).holds)

    def test_simulated_circuits(self) -> None:
        for language, tools in (
            ("verilog", ("iverilog", "verilator") if IS_CAMPAIGN else ("iverilog",)),
            ("vhdl", ("ghdl",)),
        ):
            for tool in tools:
                if HAS[tool]:
                    for source in (TAPS,) if tool == "verilator" else some((SECTION, TAPS), 1):
                        package = hdl_package(made(source), language, "filter_1", choices=HardwareChoices("serial"))
                        self.check(Simulated(package, made(source), tool), made(source), 60)


class Agreement(unittest.TestCase):
    def test_every_kind_of_difference_counts(self) -> None:
        one = np.array([1, 2, 3, 4])
        self.assertTrue(agreement(one, one).holds)
        found = agreement(np.array([1, 2, 5, 9]), one)
        self.assertEqual((found.differences, found.first, found.largest), (2, 2, 5.0))
        self.assertEqual(agreement(one[:2], one).first, 2)
        self.assertEqual(agreement(one, one[:2]).differences, 2)
        self.assertFalse(agreement(one[:0], one[:0]).holds, "nothing was compared")

    def test_what_is_no_number_differs(self) -> None:
        self.assertFalse(agreement(np.array([1.0, np.nan]), np.array([1.0, 2.0]), 1e9).holds)
        self.assertFalse(agreement(np.array([np.inf]), np.array([1.0]), 1e9).holds)

    def test_wide_integers_are_compared_in_every_bit(self) -> None:
        wide = np.array([1 << 80, 1 << 60], dtype=object)
        self.assertTrue(agreement(wide, wide.copy()).holds)
        self.assertEqual(agreement(wide + 1, wide).differences, 2)


if __name__ == "__main__":
    unittest.main()
