"""Stages in a row that change the rate, each on as many multipliers as it takes."""

from __future__ import annotations

import random
import re
import shutil
import unittest

from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.diagram import diagram_of
from combe.delivery.hdl.rate_row import changing_taps
from combe.delivery.hdl.writer import hdl_package
from combe.errors import DesignError, FormatError
from combe.project.chain import ideal_of, rounded_of
from combe.project.demo import audible_project
from combe.project.document import Project
from combe.proof.hdl import prove_hdl
from combe.realization.cic import Cic
from combe.realization.stages import Realization, TapSum
from combe.values import replace
from tests.rate_cases import random_rates
from tests.support import fewer_vectors, some
from tests.test_zero_taps import FORMAT, in_a_row, summed

setUpModule = fewer_vectors
RATE = 48e6


def made_of(source: random.Random) -> Realization:
    """Stages in a row with taps where the rate changes."""
    while True:
        made = random_rates(source, 40, 6) if source.random() < 0.5 else in_a_row(source, 40, 12)
        if made.input.bits <= 24 and changing_taps(made):
            return made


def chain_of(project: Project) -> Realization:
    return rounded_of(project, ideal_of(project)).realization


def both_ways(count: int) -> Realization:
    """Taps from 3 to 2."""
    stage = summed(tuple(k % 13 - 6 for k in range(count)), 8, 2, 3, FORMAT)
    return Realization("both ways", 1.0, "direct", FORMAT, stage.result, (stage,))


class Rows(unittest.TestCase):
    def test_any_number_of_multipliers_gives_the_same(self) -> None:
        """Stalls, resets, latency and clocks are in the shipped bench."""
        source = random.Random(101)
        for index in some(range(200), 6):
            made = made_of(source)
            language, tool = (("verilog", "iverilog"), ("vhdl", "ghdl"))[index % 2]
            choices = HardwareChoices("semi-parallel", multipliers=source.choice((0, 2, 3)), pipeline=index % 4)
            if shutil.which(tool) is None:
                continue
            try:
                package = hdl_package(made, language, "f", choices=choices)
            except (DesignError, FormatError) as error:
                self.assertRegex(str(error), "goes up stands behind|are enough")
                continue
            proof = prove_hdl(package, made, simulators=(tool,))
            self.assertTrue(proof.holds, (index, language, choices, made, proof.sentence()))

    @unittest.skipUnless(shutil.which("iverilog"), "there is no simulator on this machine")
    def test_what_comes_early_takes_no_place_of_what_is_read(self) -> None:
        """Four outputs at once for taps whose memory would be just full without them."""
        first = summed((5, -3, 7, 2), 8, 4, 1, FORMAT)
        for count in (30, 60):
            second = summed(tuple(k % 11 - 5 for k in range(count)), 8, 1, 2, first.result)
            made = Realization("early", 1.0, "direct", FORMAT, second.result, (first, second))
            package = hdl_package(made, "verilog", "f", choices=HardwareChoices("serial"))
            proof = prove_hdl(package, made, simulators=("iverilog",))
            self.assertTrue(proof.holds, proof.sentence())

    def test_as_many_are_taken_as_keep_up(self) -> None:
        source, seen = random.Random(102), set()
        for _ in some(range(200), 24):
            made = replace(made_of(source), sample_rate_hz=RATE / source.choice((4, 8, 16, 40)))
            budget = RATE / made.sample_rate_hz
            try:
                built = build_circuit(made, "f", HardwareChoices(clock_hz=RATE))
            except FormatError as refused:
                hz = re.search(r"a clock of ([\d.e+]+) Hz at least", refused.sentence())
                assert hz is not None
                self.assertGreater(float(hz[1]), RATE)
                other = build_circuit(made, "f", HardwareChoices("semi-parallel", clock_hz=1.001 * float(hz[1])))
                self.assertLessEqual(other.clocks * made.sample_rate_hz, 1.001 * float(hz[1]))
                seen.add("refused")
                continue
            self.assertLessEqual(built.clocks, budget)
            serial = build_circuit(made, "f", HardwareChoices("serial"))
            self.assertEqual(built.architecture == "serial", serial.clocks <= budget)
            seen.add(built.architecture)
        self.assertEqual(seen, {"refused", "serial", "semi-parallel"})

    @unittest.skipUnless(shutil.which("iverilog"), "there is no simulator on this machine")
    def test_taps_both_ways_can_be_replaced_on_several_multipliers(self) -> None:
        made = both_ways(31)
        choices = HardwareChoices("semi-parallel", multipliers=3, reloadable=True)
        built = build_circuit(made, "f", choices)
        self.assertEqual(built.count.multipliers, 3)
        self.assertLess(built.clocks, build_circuit(made, "f", HardwareChoices("serial")).clocks)
        for wanted in (choices, replace(choices, double_buffer=True)):
            proof = prove_hdl(hdl_package(made, "verilog", "f", choices=wanted), made, simulators=("iverilog",))
            self.assertTrue(proof.holds, proof.sentence())

    def test_the_data_path_tells_what_each_stage_does(self) -> None:
        """Stages in a row of the demo's audible copy: factors, and a clock for so many taps that aren't zero."""
        rounded = chain_of(audible_project())
        sums = [stage for stage in rounded.stages if isinstance(stage, TapSum)]
        self.assertGreater(len(sums), 1)
        for choices, lanes in ((HardwareChoices("serial"), 1), (HardwareChoices("semi-parallel", multipliers=3), 3)):
            built = build_circuit(rounded, "f", choices)
            texts = [shape.text for shape in diagram_of(rounded, built).shapes if "an output" in shape.text]
            self.assertEqual(len(texts), len(sums))
            for stage, text in zip(sums, texts):
                clocks = -(-sum(1 for tap in stage.coefficients if tap) // lanes)
                self.assertIn(f"{len(stage.coefficients)} taps, ÷{stage.down}", text)
                self.assertIn(f"{clocks} clocks an output", text)
            texts = [shape.text for shape in diagram_of(rounded, built).shapes]
            self.assertIn(
                f"a sample every {built.clocks} clocks" if built.clocks > 1 else "a sample every clock", texts
            )

    def test_what_cannot_be_had_is_refused_with_what_can(self) -> None:
        made = replace(both_ways(64), sample_rate_hz=2e6)
        with self.assertRaises(FormatError) as caught:
            build_circuit(made, "f", HardwareChoices("serial", clock_hz=2e7))
        lanes = re.search(r"semi-parallel keeps up, with (\d+) multipliers in all", caught.exception.sentence())
        assert lanes is not None
        built = build_circuit(made, "f", HardwareChoices("semi-parallel", clock_hz=2e7, multipliers=int(lanes[1])))
        self.assertLessEqual(built.clocks, 10)
        with self.assertRaisesRegex(FormatError, "32 are enough"):
            build_circuit(made, "f", HardwareChoices("semi-parallel", multipliers=33))
        sums = next(
            each for each in (random_rates(random.Random(seed), 20, 5) for seed in range(200))
            if any(isinstance(stage, Cic) for stage in each.stages)
            and not any(isinstance(stage, TapSum) for stage in each.stages)
        )  # fmt: skip
        with self.assertRaisesRegex(FormatError, "serial does"):
            build_circuit(sums, "f", HardwareChoices("semi-parallel"))


if __name__ == "__main__":
    unittest.main()
