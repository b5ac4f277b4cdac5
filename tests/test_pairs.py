"""Symmetric taps on few multipliers: half the clocks, the same outputs."""

from __future__ import annotations

import random
import shutil
import unittest

from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.suiting import suited
from combe.delivery.hdl.writer import hdl_package
from combe.errors import FormatError
from combe.proof.hdl import prove_hdl
from combe.realization.formats import Format
from combe.realization.stages import Realization, TapSum, needed_accumulator
from combe.values import replace
from tests.support import fewer_vectors, some

setUpModule = fewer_vectors


def mirrored(source: random.Random, count: int, sign: int, entry: Format) -> Realization:
    """Random taps that read the same backwards, or with the other sign; words at their ends among them."""
    half = [source.choice((-127, 127, source.randint(-127, 127))) for _ in range(count // 2)]
    middle = [source.choice((-128, 5)) if sign > 0 else 0] * (count % 2)
    values = (*half, *middle, *(sign * tap for tap in half[::-1]))
    stage = TapSum(
        values, Format(True, 8, 7), Format(True, 64, entry.fraction + 7), source.choice(("direct", "folded"))
    )
    stage = replace(stage, accumulator=needed_accumulator(stage, entry))
    return Realization("mirrored", 1e6, "direct", entry, stage.result, (stage,))


class Paired(unittest.TestCase):
    def test_outputs_and_clocks_are_those_told(self) -> None:
        """With stalls and resets, which the shipped bench makes; a clock for a pair of each multiplier, and one to store."""
        source = random.Random(91)
        for index in some(range(240), 5):
            count, sign = source.randint(3, 40), source.choice((1, 1, -1))
            made = mirrored(source, count, sign, Format(source.random() < 0.8, source.choice((2, 6, 10, 16)), 5))
            lanes = source.choice((1, 2, source.randint(1, count)))
            choices = HardwareChoices("semi-parallel", multipliers=lanes, pipeline=index % 4)
            language, tool = (("verilog", "iverilog"), ("vhdl", "ghdl"))[index % 2]
            pairs = -(-count // 2)
            self.assertEqual(build_circuit(made, "f", choices).clocks, -(-pairs // min(lanes, pairs)) + 1)
            if shutil.which(tool) is None:
                continue
            proof = prove_hdl(hdl_package(made, language, "f", choices=choices), made, simulators=(tool,))
            self.assertTrue(proof.holds, (index, language, choices, made.stages, proof.sentence()))

    def test_half_as_many_multipliers_keep_up(self) -> None:
        source = random.Random(92)
        made = mirrored(source, 63, 1, Format(True, 12, 11))
        clock = HardwareChoices("semi-parallel", clock_hz=17e6)
        built = build_circuit(made, "f", clock)
        self.assertEqual((built.multipliers_asked, built.clocks), (2, 17))
        self.assertEqual(build_circuit(made, "f", replace(clock, reloadable=True)).multipliers_asked, 4)
        stage = made.stages[0]
        assert isinstance(stage, TapSum)
        lopsided = replace(stage, coefficients=(*stage.coefficients[:-1], 1), form="direct")
        other = build_circuit(replace(made, stages=(lopsided,)), "f", clock)
        self.assertEqual((other.multipliers_asked, other.clocks), (4, 17))
        self.assertEqual(suited(made, HardwareChoices(clock_hz=17e6)), "semi-parallel")

    def test_lanes_without_a_pair_are_left_out(self) -> None:
        """Five pairs on four multipliers take two clocks each, which three of them can do."""
        made = mirrored(random.Random(93), 10, 1, Format(True, 8, 7))
        built = build_circuit(made, "f", HardwareChoices("semi-parallel", multipliers=4))
        self.assertEqual((built.multipliers_asked, built.clocks, built.count.multipliers), (3, 3, 3))
        with self.assertRaisesRegex(FormatError, "5 pairs of taps"):
            build_circuit(made, "f", HardwareChoices("semi-parallel", multipliers=11))


if __name__ == "__main__":
    unittest.main()
