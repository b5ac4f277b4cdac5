"""Taps that are always zero cost nothing: half-band and M-th-band stages in C, on a core and as circuits."""

from __future__ import annotations

import random
import shutil
import unittest

from combe.delivery.c import c_package
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.walks import walk_of
from combe.delivery.hdl.writer import hdl_package
from combe.errors import DesignError
from combe.proof.c import prove_c
from combe.proof.cores import prove_on_target
from combe.proof.hdl import prove_hdl
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, Stage, TapSum, needed_accumulator
from combe.values import replace
from tests.rate_cases import SANITIZERS, rounded
from tests.support import fewer_vectors, some

setUpModule = fewer_vectors

FORMAT = Format(True, 16, 15)
RATIOS = ((1, 2), (2, 1), (1, 3), (3, 1), (1, 4), (4, 1), (1, 7), (5, 1), (3, 2), (2, 3), (3, 7), (1, 18))


def summed(values: tuple[int, ...], bits: int, up: int, down: int, entry: Format) -> TapSum:
    stage = TapSum(values, Format(True, bits, 7), Format(True, 64, entry.fraction + 7), "direct", 1, up, down)
    return replace(stage, accumulator=needed_accumulator(stage, entry))


def with_zeros(source: random.Random, up: int, down: int, entry: Format, longest: int = 60) -> TapSum:
    """Random taps, zero at every so many places but for one of these, or none."""
    bits, period = source.choice((4, 8, 16, 17, 24)), source.choice((2, 3, 4, max(up, down), max(up, down)))
    most, zero = (1 << (bits - 1)) - 1, source.randrange(period)
    values = [source.choice((most, -most - 1, source.randint(-most, most))) for _ in range(source.randint(1, longest))]
    values = [0 if place % period == zero else value for place, value in enumerate(values)]
    places = range(zero, len(values), period)
    if places and source.random() < 0.8:
        values[source.choice(places)] = source.randint(1, most)
    return summed(tuple(values), bits, up, down, entry)


def in_a_row(source: random.Random, longest: int = 60, most: int = 24) -> Realization:
    """One such stage, with a rounding behind it or without, and maybe another."""
    entry = Format(source.random() < 0.8, source.choice([bits for bits in (6, 8, 12, 16, 24) if bits <= most]), 5)
    up, down = source.choice(RATIOS)
    stages: list[Stage] = [with_zeros(source, up, down, entry, longest)]
    if source.random() < 0.6:
        stages.append(rounded(source, stages[0].result, min(most, 18)))
        if source.random() < 0.6:
            ratio = source.choice([each for each in RATIOS if down == 1 or each[0] == 1])
            stages.append(with_zeros(source, *ratio, stages[1].result, longest))
    return Realization("zeros", 1.0, "direct", entry, stages[-1].result, tuple(stages))


def band(count: int, bands: int, up: int, down: int) -> Realization:
    """Taps of a half-band or M-th-band filter, not symmetric, with a rounding."""
    middle = count // 2
    values = tuple(
        16000 if k == middle else 0 if (k - middle) % bands == 0 else 200 + 37 * k % 1000 for k in range(count)
    )
    stage = TapSum(values, FORMAT, Format(True, 64, 30), "direct", 1, up, down)
    stage = replace(stage, accumulator=needed_accumulator(stage, FORMAT))
    after = Requantize(stage.accumulator, FORMAT, "nearest-even", "saturate")
    return Realization("band", 1.0, "direct", FORMAT, FORMAT, (stage, after))


class InC(unittest.TestCase):
    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_outputs_are_the_same_however_blocks_are_cut(self) -> None:
        source = random.Random(81)
        for index in some(range(120), 4):
            made = in_a_row(source)
            number = source.choice(("integer", "integer", "single", "double"))
            choices = CodeChoices(source.choice(("c", "c", "c++")), number=number, reloadable=source.random() < 0.15)
            try:
                package = c_package(made, "f", choices=choices)
            except DesignError:
                continue  # up behind down
            proof = prove_c(package, made, (), SANITIZERS)
            self.assertTrue(proof.holds, (index, choices, made, proof.sentence()))

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_only_one_tap_stands_alone(self) -> None:
        """Of three places one is full, and each of the others has a single tap: one of the two is with the many."""
        values = tuple(k + 1 if k % 3 == 0 or k in (31, 44) else 0 for k in range(90))
        stage = summed(values, 8, 1, 3, FORMAT)
        made = Realization("alone", 1.0, "direct", FORMAT, stage.result, (stage,))
        package = c_package(made, "f")
        self.assertIn("aside", next(file.text for file in package.files if file.name == "f.c"))
        self.assertTrue(prove_c(package, made, (), SANITIZERS).holds)

    @unittest.skipUnless(shutil.which("qemu-system-arm") and shutil.which("arm-none-eabi-gcc"), "no emulated core here")
    def test_a_core_is_spared_them(self) -> None:
        """Of 63 taps 33 aren't zero: so much fewer instructions than where one of each pair is 1 instead."""
        for up, down, share in ((1, 2, 0.75), (2, 1, 0.75)):
            made = band(63, 2, up, down)
            stage = made.stages[0]
            assert isinstance(stage, TapSum)
            full = replace(stage, coefficients=tuple(value or 1 for value in stage.coefficients))
            dense = replace(made, stages=(full, *made.stages[1:]))
            spent = []
            for each in (made, dense):
                proof = prove_on_target(c_package(each, "f"), each)
                self.assertTrue(proof.holds, proof.sentence())
                spent.append(proof.instructions[256])
            self.assertLess(spent[0], share * spent[1])


class AsCircuits(unittest.TestCase):
    def test_outputs_and_clocks_are_those_told(self) -> None:
        source = random.Random(82)
        for index in some(range(200), 5):
            made = in_a_row(source, 30, 12)
            stage = made.stages[0]
            assert isinstance(stage, TapSum)
            is_lone = sum(isinstance(each, TapSum) for each in made.stages) == 1 and 1 in (stage.up, stage.down)
            choices = HardwareChoices("serial", pipeline=index % 3)
            if is_lone and source.random() < 0.6:
                lanes = source.randint(1, walk_of(stage).longest())
                choices = replace(choices, architecture="semi-parallel", multipliers=lanes)
            language, tool = source.choice((("verilog", "iverilog"), ("vhdl", "ghdl")))
            if shutil.which(tool) is None:
                continue
            try:
                package = hdl_package(made, language, "f", choices=choices)
            except DesignError:
                continue  # up behind down
            proof = prove_hdl(package, made, simulators=(tool,))
            self.assertTrue(proof.holds, (index, language, choices, made, proof.sentence()))

    def test_a_clock_is_a_tap_that_is_not_zero(self) -> None:
        """Half-band stages of 31 taps have 17 of them; up by 2 one phase has 16, the other one. Third-band of 29: 21."""
        for made, lanes, clocks in (
            (band(31, 2, 1, 2), 1, 9), (band(31, 2, 1, 2), 6, 2), (band(31, 2, 2, 1), 1, 17),
            (band(31, 2, 2, 1), 4, 5), (band(29, 3, 1, 3), 1, 7), (band(29, 3, 3, 1), 2, 11),
        ):  # fmt: skip
            built = build_circuit(made, "f", HardwareChoices("semi-parallel", multipliers=lanes))
            self.assertEqual(built.clocks, clocks, (made.stages[0], lanes))
        dense = build_circuit(band(31, 40, 1, 2), "f", HardwareChoices("serial"))
        spared = build_circuit(band(31, 2, 1, 2), "f", HardwareChoices("serial"))
        self.assertEqual(dense.latency - spared.latency, 31 - 17)

    @unittest.skipUnless(shutil.which("iverilog"), "there is no simulator on this machine")
    def test_a_lane_of_zeros_that_may_be_replaced_holds_zeros(self) -> None:
        values = (*range(1, 13), 0)
        stage = summed(values, 8, 3, 1, FORMAT)
        made = Realization("lanes", 1.0, "direct", FORMAT, stage.result, (stage,))
        choices = HardwareChoices("semi-parallel", multipliers=4, reloadable=True)
        proof = prove_hdl(hdl_package(made, "verilog", "f", choices=choices), made, simulators=("iverilog",))
        self.assertTrue(proof.holds, proof.sentence())


if __name__ == "__main__":
    unittest.main()
